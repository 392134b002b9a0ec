// Looking through a .htaccess file for directives that have a key of ours. See foreign_rules.hpp.
#include "machine/foreign_rules.hpp"

#include <algorithm>
#include <array>
#include <filesystem>
#include <string>
#include <string_view>
#include <utility>

#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/http/head.hpp"
#include "core/sites/shown_names.hpp"
#include "core/text/text.hpp"

namespace porter::machine {
namespace {

/// A directive, in lower case, and the key that does the same.
constexpr std::array<std::pair<std::string_view, std::string_view>, 15> kKeys = {{
    {"rewriterule", "fallback"},
    {"fallbackresource", "fallback"},
    {"errordocument", "problem-pages"},
    {"directoryindex", "index-files"},
    {"header", "response-headers"},
    {"options", "listing"},
    {"addtype", "media-types"},
    {"setenv", "environment"},
    {"addhandler", "endings"},
    {"sethandler", "endings"},
    {"php_value", "settings"},
    {"php_flag", "settings"},
    {"redirect", ""},
    {"redirectmatch", ""},
    {"redirectpermanent", ""},
}};

}  // namespace

std::optional<Finding> find_foreign_rules(const Site& site) {
  const std::string file = site.document_root + "/.htaccess";
  const std::string text = files::content_of(file).value_or("");
  std::vector<std::string> directives;
  std::vector<std::string> keys;
  for (const std::string_view raw : text::parts_of(text, '\n')) {
    const std::string_view line = http::trim(raw);
    const std::string_view word = line.substr(0, line.find_first_of(" \t"));
    const std::string lower = text::to_lower(word);
    const auto* const known =
        std::find_if(kKeys.begin(), kKeys.end(), [&](const auto& one) { return one.first == lower; });
    if (known == kKeys.end()) continue;
    if (!text::contains(directives, word)) directives.emplace_back(word);
    if (!known->second.empty() && !text::contains(keys, known->second)) keys.emplace_back(known->second);
  }
  if (directives.empty()) return std::nullopt;
  Finding finding{Code::rules_not_read, {{"file", file}, {"directives", text::listed(directives)}}};
  if (!keys.empty()) finding.facts.emplace_back("keys", text::listed(keys));
  return finding;
}

namespace {

/// What a .htaccess in `folder`, relative to the document root and with a slash behind it, forbids, as patterns of
/// ours.
void add_forbidden(const std::string& text, const std::string& folder, std::vector<std::string>& patterns) {
  std::string section;  // Of <Files …>: what its rules are for.
  for (const std::string_view raw : text::parts_of(text, '\n')) {
    std::string line = text::to_lower(http::trim(raw));
    line.erase(std::unique(line.begin(), line.end(), [](char a, char b) { return a == ' ' && b == ' '; }), line.end());
    if (line.starts_with("</files")) section.clear();
    if (line.starts_with("<files ") || line.starts_with("<filesmatch ")) {
      section = std::string(http::trim(raw));
      section = section.substr(std::min(section.find(' ') + 1, section.size()));
      std::erase_if(section, [](char c) { return c == '"' || c == '>' || c == '\\' || c == '$' || c == '^'; });
    }
    std::string forbidden;
    const bool is_all = line.starts_with("deny from all") || line.starts_with("require all denied");
    if (is_all && section.empty()) forbidden = folder;
    // "*.inc" as it is; "\.(inc|bak)$" without its marks is ".(inc|bak)".
    if (is_all && !section.empty() && section.find_first_of("()|+[]") == section.npos)
      forbidden = section.starts_with('.') ? "*" + section : section;
    if (is_all && section.starts_with(".(") && section.ends_with(")"))
      for (const std::string_view ending : text::parts_of(std::string_view(section).substr(2, section.size() - 3), '|'))
        patterns.push_back("*." + std::string(ending));
    // "RewriteRule ^data/ - [F]": as far as it is a plain beginning.
    if (line.starts_with("rewriterule ") && (line.ends_with("[f]") || line.ends_with("[f,l]"))) {
      std::string from = line.substr(12, line.find(' ', 12) - 12);
      std::erase_if(from, [](char c) { return c == '^' || c == '$' || c == '\\'; });
      if (from.ends_with(".*")) from.resize(from.size() - 2);
      if (!from.empty() && from.find_first_of("()|*+[]?") == from.npos) forbidden = folder + from;
    }
    if (!forbidden.empty() && !text::contains(patterns, forbidden)) patterns.push_back(forbidden);
  }
}

}  // namespace

std::optional<Finding> find_forbidding_rules(const Site& site) {
  namespace fs = std::filesystem;
  constexpr std::size_t kMostEntries = 20'000;
  std::vector<std::string> files;
  std::vector<std::string> patterns;
  std::error_code error;
  std::size_t count = 0;
  for (fs::recursive_directory_iterator entry(site.document_root, fs::directory_options::skip_permission_denied, error),
       end;
       !error && entry != end && count < kMostEntries; entry.increment(error), ++count) {
    if (entry->path().filename() != ".htaccess") continue;
    const std::string file = entry->path().string();
    const std::string folder = std::string(files::folder_of(file)).substr(site.document_root.size());
    const std::size_t before = patterns.size();
    add_forbidden(files::content_of(file).value_or(""), folder.empty() ? "" : folder.substr(1) + "/", patterns);
    std::erase_if(patterns, [&](const std::string& pattern) {
      return sites::forbidding(site, pattern, pattern.ends_with('/')) != nullptr ||
             text::contains(site.forbidden, pattern);
    });
    if (patterns.size() > before) files.push_back(file);
  }
  if (patterns.empty()) return std::nullopt;
  std::string list;
  for (const std::string& pattern : site.forbidden) list += "\"" + pattern + "\", ";
  for (const std::string& pattern : patterns)
    list += (list.empty() || list.ends_with(", ") ? "\"" : ", \"") + pattern + "\"";
  return Finding{Code::rules_forbid, {{"files", text::listed(files)}, {"site", site.name}, {"patterns", list}}};
}

}  // namespace porter::machine
