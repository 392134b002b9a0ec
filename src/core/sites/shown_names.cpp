// Names that begin with a dot, and names of copies. See shown_names.hpp.
#include "core/sites/shown_names.hpp"

#include <fnmatch.h>

#include <algorithm>
#include <array>

#include "core/http/head.hpp"
#include "core/script/interpreters.hpp"
#include "core/text/text.hpp"

namespace porter::sites {
namespace {

/// What editors, tools for differences and package managers put behind the dot after the name of a file that they keep.
constexpr std::array<std::string_view, 21> kCopyEndings = {
    "bak", "swp",  "swo",    "swn",      "swx",      "save",     "sav",       "orig",    "old",  "tmp",   "temp",
    "rej", "back", "backup", "kate-swp", "dpkg-old", "dpkg-new", "dpkg-dist", "rpmsave", "copy", "rpmnew"};
/// Those of them that are refused whatever they were made from, as "~" is.
constexpr std::array<std::string_view, 2> kNeverShown = {"bak", "swp"};

/// What follows the last dot in `name`; empty if there is none but at its beginning.
std::string_view ending_of(std::string_view name) {
  const std::size_t dot = name.rfind('.');
  return dot == name.npos || dot == 0 ? std::string_view() : name.substr(dot + 1);
}

template <typename Endings>
bool is_among(const Endings& endings, std::string_view ending) {
  return std::any_of(endings.begin(), endings.end(),
                     [ending](std::string_view one) { return http::same_name(one, ending); });
}

/// "x.save.1" and "x.bak2" without their number, as long as something is left.
std::string_view without_number(std::string_view name) {
  std::size_t end = name.size();
  while (end > 0 && name[end - 1] >= '0' && name[end - 1] <= '9') --end;
  if (end == name.size() || end == 0) return name;
  if (name[end - 1] == '.') --end;
  return name.substr(0, end);
}

std::optional<std::string_view> without_copy_ending(std::string_view name) {
  if (name.size() > 1 && name.back() == '~') return name.substr(0, name.size() - 1);
  const std::string_view ending = ending_of(name);
  if (ending.empty() || !is_among(kCopyEndings, ending)) return std::nullopt;
  return name.substr(0, name.size() - ending.size() - 1);
}

/// What is true at a glance for nearly every name; listings ask for each of their entries.
bool is_surely_no_copy(std::string_view name) {
  const char last = name.empty() ? '\0' : name.back();
  const bool may_be = last == '~' || last == '#' || (last >= '0' && last <= '9');
  return !may_be && !is_among(kCopyEndings, ending_of(name));
}

/// True for the name of a file whose source is not sent wherever it lies.
bool is_script_name(const Settings& settings, const Site& site, std::string_view name) {
  const script::Interpreter* const interpreter = script::interpreter_for(settings.languages_of(site), name);
  return interpreter != nullptr && interpreter->where != script::Interpreter::Where::shared_ending;
}

}  // namespace

namespace {

bool forbids(std::string_view pattern, const std::string& path, bool is_folder) {
  const bool only_folders = pattern.ends_with('/');
  if (only_folders) pattern.remove_suffix(1);
  const bool is_from_root = pattern.find('/') != pattern.npos;
  while (pattern.starts_with('/')) pattern.remove_prefix(1);
  const std::string wanted(pattern);
  for (std::size_t begin = 0, end = 0; end < path.size(); begin = end + 1) {
    end = std::min(path.find('/', begin), path.size());
    if (only_folders && end == path.size() && !is_folder) break;
    const std::string part = is_from_root ? path.substr(0, end) : path.substr(begin, end - begin);
    if (::fnmatch(wanted.c_str(), part.c_str(), FNM_PATHNAME | FNM_CASEFOLD) == 0) return true;
  }
  return false;
}

}  // namespace

const std::string* forbidding(const Site& site, std::string_view path, bool is_folder) {
  while (path.starts_with('/')) path.remove_prefix(1);
  const std::string text(path);
  for (const std::string& pattern : site.forbidden)
    if (forbids(pattern, text, is_folder)) return &pattern;
  return nullptr;
}

bool is_hidden(const Site& site, std::string_view name) {
  return name.starts_with('.') && !text::contains(site.hidden_files_shown, name) &&
         !text::contains(site.hidden_files_shown, "*");
}

std::optional<std::string_view> copied_from(std::string_view name) {
  if (name.size() > 2 && name.front() == '#' && name.back() == '#') return name.substr(1, name.size() - 2);
  auto rest = without_copy_ending(name);
  if (!rest) {
    // A number alone makes no copy ("notes.2"); one behind such an ending does ("notes.txt.save.1").
    const std::string_view plain = without_number(name);
    if (plain.size() < name.size()) rest = without_copy_ending(plain);
  }
  if (!rest) return std::nullopt;
  // "page.php.~1~" is the first of several copies of one file.
  if (const std::size_t tilde = rest->rfind(".~"); tilde != rest->npos && tilde > 0) rest = rest->substr(0, tilde);
  return rest;
}

bool is_withheld_copy(const Settings& settings, const Site& site, std::string_view name) {
  if (is_surely_no_copy(name)) return false;
  if ((name.size() > 1 && name.back() == '~') || is_among(kNeverShown, ending_of(name))) return true;
  for (auto rest = copied_from(name); rest; rest = copied_from(*rest)) {
    // ".page.php.swo" is made from "page.php", and so is ".#page.php".
    const std::string_view undotted = rest->substr(std::min(rest->find_first_not_of(".#"), rest->size()));
    if (is_script_name(settings, site, *rest) || is_script_name(settings, site, undotted) || is_hidden(site, *rest))
      return true;
  }
  return false;
}

}  // namespace porter::sites
