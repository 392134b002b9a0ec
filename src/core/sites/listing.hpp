// The entries of a folder, as a listing shows them.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "core/files/beneath.hpp"
#include "core/sites/resolve.hpp"

namespace porter::sites {

struct Row {
  std::string name;  ///< May hold any byte but "/" and NUL.
  bool is_folder = false;
  bool runs = false;         ///< A request for it runs it.
  std::uint64_t size = 0;    ///< Bytes; 0 for a folder.
  std::int64_t changed = 0;  ///< Seconds since 1970.
};

enum class SortKey { name, size, date };

struct Order {
  SortKey key = SortKey::name;
  bool descending = false;
};

/// The order that a listing's query asks for: "by=name|size|date", with "-down" behind it for the other direction; by
/// name, upwards, where it says nothing.
Order order_from_query(std::string_view query);
/// The query that asks for `order`.
std::string query_of(Order order);

/// A folder has more entries than were wanted.
struct TooMany {};

/// The entries of `folder` that `site` shows: no hidden files, no backup copies, nothing that could not be opened
/// anyway (special files); and what is mounted right below it. Unsorted. TooMany as soon as there are more than `most`.
std::variant<std::vector<Row>, files::SystemError, TooMany> read_entries(const Settings& settings, const Site& site,
                                                                         const FolderFound& folder,
                                                                         std::size_t most = SIZE_MAX);

/// Puts folders first, and each group in `order`; equal entries by name.
void sort_entries(std::vector<Row>& entries, Order order);

}  // namespace porter::sites
