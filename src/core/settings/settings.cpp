// Limits by name.
#include "core/settings/settings.hpp"

#include <algorithm>
#include <array>
#include <variant>

namespace porter {
namespace {

using Place = std::variant<std::size_t Limits::*, std::chrono::seconds Limits::*, std::size_t http::HeadLimits::*>;
using Unit = LimitRow::Unit;

struct Row : LimitRow {
  Place place;
};

constexpr std::uint64_t kDay = 86400;
constexpr std::uint64_t kTebibyte = 1ULL << 40;
/// As many addresses as a process can have.
constexpr std::uint64_t kMostAddresses = 1ULL << 47;

const std::array<Row, 21> kRows = {{
    {{"request-line", Unit::bytes, 64, 1 << 20, false}, &http::HeadLimits::request_line},
    {{"head", Unit::bytes, 256, 1 << 24, false}, &http::HeadLimits::head},
    {{"fields", Unit::count, 1, 10000, false}, &http::HeadLimits::fields},
    {{"body", Unit::bytes, 0, kTebibyte, false}, &Limits::body},
    {{"head-time", Unit::seconds, 1, kDay, false}, &Limits::head_time},
    {{"body-pause", Unit::seconds, 1, kDay, false}, &Limits::body_pause},
    {{"idle-time", Unit::seconds, 1, kDay, false}, &Limits::idle_time},
    {{"connections", Unit::count, 1, 1000000, false}, &Limits::connections},
    {{"first-byte", Unit::seconds, 1, kDay, true}, &Limits::first_byte},
    {{"response-head", Unit::bytes, 64, 1 << 24, true}, &Limits::response_head},
    {{"error-stream", Unit::bytes, 256, 1 << 24, true}, &Limits::error_stream},
    {{"total-time", Unit::seconds, 1, kDay, true}, &Limits::total_time},
    {{"address-space", Unit::bytes, 1 << 24, kMostAddresses, true}, &Limits::address_space},
    {{"processor-time", Unit::seconds, 1, kDay, true}, &Limits::processor_time},
    {{"open-files", Unit::count, 16, 1 << 20, true}, &Limits::open_files},
    {{"runs", Unit::count, 0, 10000, false}, &Limits::runs},
    {{"runs-most", Unit::count, 1, 10000, false}, &Limits::runs_most},
    {{"pool-memory", Unit::bytes, 1 << 24, kMostAddresses, false}, &Limits::pool_memory},
    {{"queue", Unit::count, 0, 100000, false}, &Limits::queue},
    {{"queue-time", Unit::seconds, 1, kDay, false}, &Limits::queue_time},
    {{"stop-time", Unit::seconds, 0, kDay, false}, &Limits::stop_time},
}};

}  // namespace

const std::vector<LimitRow>& limit_rows() {
  static const std::vector<LimitRow> rows(kRows.begin(), kRows.end());
  return rows;
}

bool set_limit(Limits& limits, std::string_view name, std::uint64_t value) {
  for (const Row& row : kRows) {
    if (row.name != name) continue;
    if (value < row.least || value > row.most) return false;
    if (const auto* const bytes = std::get_if<std::size_t Limits::*>(&row.place)) limits.*(*bytes) = value;
    if (const auto* const head = std::get_if<std::size_t http::HeadLimits::*>(&row.place)) limits.head.*(*head) = value;
    if (const auto* const time = std::get_if<std::chrono::seconds Limits::*>(&row.place))
      limits.*(*time) = std::chrono::seconds(value);
    return true;
  }
  return false;
}

std::uint64_t limit_of(const Limits& limits, std::string_view name) {
  for (const Row& row : kRows) {
    if (row.name != name) continue;
    if (const auto* const bytes = std::get_if<std::size_t Limits::*>(&row.place)) return limits.*(*bytes);
    if (const auto* const head = std::get_if<std::size_t http::HeadLimits::*>(&row.place)) return limits.head.*(*head);
    if (const auto* const time = std::get_if<std::chrono::seconds Limits::*>(&row.place))
      return static_cast<std::uint64_t>((limits.*(*time)).count());
  }
  return 0;
}

std::string limit_names() {
  std::string out;
  for (const Row& row : kRows) {
    if (!out.empty()) out += ' ';
    out += row.name;
  }
  return out;
}

const Site* Settings::find_site(std::string_view name) const {
  const auto found = std::find_if(sites.begin(), sites.end(), [&](const Site& site) { return site.name == name; });
  return found == sites.end() ? nullptr : &*found;
}

std::vector<Listener> Settings::listeners() const {
  std::vector<Listener> out;
  const auto at = [&out](const Address& address) -> Listener& {
    for (Listener& listener : out)
      if (listener.address == address) return listener;
    return out.emplace_back(Listener{address, {}});
  };
  // An address that every site has replaced by one of its own is of no use to anybody, and may be another program's.
  const auto has_own = [](const Site& site) { return !site.addresses.empty(); };
  if (sites.empty() || !std::all_of(sites.begin(), sites.end(), has_own))
    for (const Address& address : addresses) at(address);
  for (std::size_t i = 0; i < sites.size(); ++i)
    for (const Address& address : sites[i].addresses.empty() ? addresses : sites[i].addresses)
      at(address).sites.push_back(i);
  return out;
}

std::vector<Address> Settings::unused_addresses() const {
  std::vector<Address> out;
  const auto used = listeners();
  for (const Address& address : addresses) {
    const auto is_it = [&](const Listener& listener) { return listener.address == address; };
    if (std::none_of(used.begin(), used.end(), is_it)) out.push_back(address);
  }
  return out;
}

}  // namespace porter
