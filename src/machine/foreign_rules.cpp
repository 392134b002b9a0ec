// Looking through a .htaccess file for directives that have a key of ours. See foreign_rules.hpp.
#include "machine/foreign_rules.hpp"

#include <algorithm>
#include <array>
#include <string>
#include <string_view>
#include <utility>

#include "core/files/content.hpp"
#include "core/http/head.hpp"
#include "core/text/text.hpp"

namespace porter::machine {
namespace {

/// A directive, in lower case, and the key that does the same.
constexpr std::array<std::pair<std::string_view, std::string_view>, 12> kKeys = {{
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
    {"php_value", "command"},
    {"php_flag", "command"},
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
    if (!text::contains(keys, known->second)) keys.emplace_back(known->second);
  }
  if (directives.empty()) return std::nullopt;
  return Finding{Code::rules_not_read,
                 {{"file", file}, {"directives", text::listed(directives)}, {"keys", text::listed(keys)}}};
}

}  // namespace porter::machine
