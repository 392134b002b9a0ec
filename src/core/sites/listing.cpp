// Reading and sorting a folder's entries.
#include "core/sites/listing.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <cerrno>
#include <memory>
#include <optional>

#include "core/files/paths.hpp"
#include "core/sites/shown_names.hpp"
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

/// What a link leads to, as far as it may be shown.
struct Target {
  struct stat info {};
  std::string name;
};

/// What the link `name` in `folder` leads to; nullopt if a request for it would be refused, since it lies outside of
/// the root, is hidden, or is a copy that is not shown.
std::optional<Target> target_of_link(const Settings& settings, const Site& site, const FolderFound& folder,
                                     const std::string& name) {
  const std::string& root = folder.root.real_path();
  const std::string here = files::path_of(folder.handle);
  if (!here.starts_with(root)) return std::nullopt;
  std::string relative = here.substr(root.size());
  relative = relative.substr(std::min(relative.find_first_not_of('/'), relative.size()));
  auto found = folder.root.open_beneath(relative.empty() ? name : relative + "/" + name, O_PATH);
  const auto* const target = std::get_if<files::Descriptor>(&found);
  Target out;
  if (target == nullptr || ::fstat(target->get(), &out.info) != 0) return std::nullopt;
  const std::string real = files::path_of(*target);
  if (!real.starts_with(root)) return std::nullopt;
  for (std::string_view rest = std::string_view(real).substr(root.size()); !rest.empty();) {
    const std::size_t slash = std::min(rest.find('/'), rest.size());
    if (is_hidden(site, rest.substr(0, slash))) return std::nullopt;
    rest.remove_prefix(std::min(slash + 1, rest.size()));
  }
  out.name = files::base_name(real);
  if (is_withheld_copy(settings, site, out.name)) return std::nullopt;
  return out;
}

}  // namespace

Order order_from_query(std::string_view query) {
  constexpr std::string_view kDown = "-down";
  std::string_view by = query_value(query, "by");
  Order order;
  order.descending = by.ends_with(kDown);
  if (order.descending) by.remove_suffix(kDown.size());
  if (by == "size") order.key = SortKey::size;
  if (by == "date") order.key = SortKey::date;
  return order;
}

std::string query_of(Order order) {
  const std::string_view key = order.key == SortKey::size ? "size" : order.key == SortKey::date ? "date" : "name";
  return "by=" + std::string(key) + (order.descending ? "-down" : "");
}

std::variant<std::vector<Row>, files::SystemError, TooMany> read_entries(const Settings& settings, const Site& site,
                                                                         const FolderFound& folder, std::size_t most) {
  // The folder that was judged, by its own handle: another one may lie at its path by now.
  struct stat judged {};
  if (::fstat(folder.handle.get(), &judged) != 0) return files::SystemError{errno};
  auto opened = files::reopen(folder.handle, judged, O_RDONLY | O_DIRECTORY);
  if (const auto* const error = std::get_if<files::SystemError>(&opened)) return *error;
  DIR* const open = ::fdopendir(std::get<files::Descriptor>(opened).get());
  if (open == nullptr) return files::SystemError{errno};
  const std::string& root = folder.root.real_path();
  const std::string here = files::path_of(folder.handle);
  const std::string below = files::lies_in(here, root) ? here.substr(std::min(root.size(), here.size())) : "";
  const auto is_forbidden = [&](const std::string& name, bool is_folder) {
    return !site.forbidden.empty() && forbidding(site, below + "/" + name, is_folder) != nullptr;
  };
  [[maybe_unused]] const int now_of_the_directory = std::get<files::Descriptor>(opened).release();
  const std::unique_ptr<DIR, int (*)(DIR*)> directory(open, ::closedir);
  std::vector<Row> entries;
  while (const dirent* const item = ::readdir(directory.get())) {
    const std::string_view name = item->d_name;
    if (is_hidden(site, name) || is_withheld_copy(settings, site, name)) continue;
    struct stat info {};
    if (::fstatat(::dirfd(directory.get()), item->d_name, &info, AT_SYMLINK_NOFOLLOW) != 0) continue;
    std::string real_name;
    if (S_ISLNK(info.st_mode)) {
      const auto target = target_of_link(settings, site, folder, item->d_name);
      if (!target) continue;
      info = target->info;
      real_name = target->name;
    }
    if (!S_ISDIR(info.st_mode) && !S_ISREG(info.st_mode)) continue;
    if (is_forbidden(std::string(name), S_ISDIR(info.st_mode))) continue;
    Row entry;
    entry.name = std::string(name);
    entry.is_folder = S_ISDIR(info.st_mode);
    entry.runs = would_run(settings, site, name, info, folder.is_script_folder) ||
                 (!real_name.empty() && would_run(settings, site, real_name, info, folder.is_script_folder));
    entry.size = entry.is_folder ? 0 : static_cast<std::uint64_t>(info.st_size);
    entry.changed = info.st_mtim.tv_sec;
    if (entries.size() == most) return TooMany{};
    entries.push_back(std::move(entry));
  }
  for (const std::string& name : folder.mounted) {
    // What is mounted hides an entry of the same name.
    std::erase_if(entries, [&](const Row& entry) { return entry.name == name; });
    Row entry;
    entry.name = name;
    entry.is_folder = true;
    entries.push_back(std::move(entry));
  }
  return entries;
}

void sort_entries(std::vector<Row>& entries, Order order) {
  const auto less = [&](const Row& a, const Row& b) {
    if (order.key == SortKey::size && a.size != b.size) return a.size < b.size;
    if (order.key == SortKey::date && a.changed != b.changed) return a.changed < b.changed;
    return by_name(a.name, b.name);
  };
  std::sort(entries.begin(), entries.end(), [&](const Row& a, const Row& b) {
    if (a.is_folder != b.is_folder) return a.is_folder;
    return order.descending ? less(b, a) : less(a, b);
  });
}

}  // namespace porter::sites
