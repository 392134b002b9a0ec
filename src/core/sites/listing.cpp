// Reading and sorting a folder's entries.
#include "core/sites/listing.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <cerrno>
#include <memory>

#include "core/text/ascii.hpp"

namespace porter::sites {
namespace {

/// The value of `key` in an encoded query; empty if it has none.
std::string_view query_value(std::string_view query, std::string_view key) {
  while (!query.empty()) {
    const std::size_t end = std::min(query.find('&'), query.size());
    const std::string_view pair = query.substr(0, end);
    query.remove_prefix(std::min(end + 1, query.size()));
    const std::size_t equals = std::min(pair.find('='), pair.size());
    if (pair.substr(0, equals) == key) return pair.substr(std::min(equals + 1, pair.size()));
  }
  return {};
}

/// As people look names up: upper and lower case side by side.
bool by_name(const std::string& a, const std::string& b) {
  const auto [x, y] = std::mismatch(a.begin(), a.end(), b.begin(), b.end(),
                                    [&](char p, char q) { return text::ascii_lower(p) == text::ascii_lower(q); });
  if (x == a.end() && y == b.end()) return a < b;
  if (x == a.end() || y == b.end()) return x == a.end();
  return static_cast<unsigned char>(text::ascii_lower(*x)) < static_cast<unsigned char>(text::ascii_lower(*y));
}

}  // namespace

Order order_from_query(std::string_view query) {
  const std::string_view sort = query_value(query, "sort");
  Order order;
  if (sort == "size") order.key = SortKey::size;
  if (sort == "date") order.key = SortKey::date;
  order.descending = query_value(query, "order") == "down";
  return order;
}

std::variant<std::vector<Entry>, files::SystemError> read_entries(const Settings& settings, const Site& site,
                                                                  const FolderFound& folder) {
  const std::unique_ptr<DIR, int (*)(DIR*)> directory(::opendir(folder.path.c_str()), ::closedir);
  if (!directory) return files::SystemError{errno};
  std::vector<Entry> entries;
  while (const dirent* const item = ::readdir(directory.get())) {
    const std::string_view name = item->d_name;
    if (is_hidden(site, name) || is_backup(name)) continue;
    struct stat info {};
    if (::fstatat(::dirfd(directory.get()), item->d_name, &info, 0) != 0) continue;
    if (!S_ISDIR(info.st_mode) && !S_ISREG(info.st_mode)) continue;
    Entry entry;
    entry.name = std::string(name);
    entry.is_folder = S_ISDIR(info.st_mode);
    entry.runs = would_run(settings, name, info, folder.is_script_folder);
    entry.size = entry.is_folder ? 0 : static_cast<std::uint64_t>(info.st_size);
    entry.changed = info.st_mtim.tv_sec;
    entries.push_back(std::move(entry));
  }
  for (const std::string& name : folder.mounted) {
    // What is mounted hides an entry of the same name.
    std::erase_if(entries, [&](const Entry& entry) { return entry.name == name; });
    Entry entry;
    entry.name = name;
    entry.is_folder = true;
    entries.push_back(std::move(entry));
  }
  return entries;
}

void sort_entries(std::vector<Entry>& entries, Order order) {
  const auto less = [&](const Entry& a, const Entry& b) {
    if (order.key == SortKey::size && a.size != b.size) return a.size < b.size;
    if (order.key == SortKey::date && a.changed != b.changed) return a.changed < b.changed;
    return by_name(a.name, b.name);
  };
  std::sort(entries.begin(), entries.end(), [&](const Entry& a, const Entry& b) {
    if (a.is_folder != b.is_folder) return a.is_folder;
    return order.descending ? less(b, a) : less(a, b);
  });
}

}  // namespace porter::sites
