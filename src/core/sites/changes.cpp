// See changes.hpp.
#include "core/sites/changes.hpp"

#include <algorithm>

#include "core/sites/choose.hpp"
#include "core/text/text.hpp"

namespace porter {
namespace {

bool operator==(const Mount& a, const Mount& b) {
  return a.path == b.path && a.target == b.target && a.program == b.program;
}
bool operator==(const Fallback& a, const Fallback& b) {
  return a.path == b.path && a.root == b.root && a.script == b.script;
}

template <typename Item>
bool are_same(const std::vector<Item>& a, const std::vector<Item>& b) {
  return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](const Item& x, const Item& y) { return x == y; });
}

void tell_addresses(const Settings& before, const Settings& after, std::vector<std::string>& out) {
  const auto texts = [](const Settings& settings) {
    std::vector<std::string> all;
    for (const Listener& listener : settings.listeners()) all.push_back(listener.address.text());
    return all;
  };
  const auto old = texts(before);
  const auto fresh = texts(after);
  for (const std::string& address : fresh)
    if (!text::contains(old, address))
      out.push_back("Address " + address + " is opened" +
                    (address.starts_with("network:") ? "; other computers will be able to reach it." : "."));
  for (const std::string& address : old)
    if (!text::contains(fresh, address)) out.push_back("Address " + address + " is closed.");
  if (before.metrics != after.metrics)
    out.push_back(after.metrics ? "The metrics are at " + after.metrics->text() + "."
                                : "The metrics are switched off.");
  if (before.console == after.console) return;
  if (after.console) {
    out.push_back("The console moves to " + after.console->text() + ".");
  } else {
    out.emplace_back("The console is switched off, and this page ends.");
  }
}

std::string what_differs(const Site& old, const Site& fresh) {
  std::vector<std::string> parts;
  const auto add = [&parts](bool differs, const char* what) {
    if (differs) parts.emplace_back(what);
  };
  add(old.hosts != fresh.hosts, "its names");
  add(!are_same(old.addresses, fresh.addresses), "its addresses");
  add(!are_same(old.mounts, fresh.mounts), "its mounts");
  add(!are_same(old.fallbacks, fresh.fallbacks), "what answers for paths that lead to no file");
  add(old.index_files != fresh.index_files, "its index files");
  add(old.listing != fresh.listing, "whether folders are listed");
  add(old.script_folders != fresh.script_folders, "its script folders");
  add(old.interpreters != fresh.interpreters, "its languages");
  add(old.own_languages != fresh.own_languages, "how its languages are run");
  add(old.hidden_files_shown != fresh.hidden_files_shown, "which hidden files are shown");
  add(old.leaves_running != fresh.leaves_running, "whether what its scripts leave running lives on");
  add(old.forbidden != fresh.forbidden, "what is forbidden");
  add(old.linked_folders != fresh.linked_folders, "where links may lead");
  add(old.response_headers != fresh.response_headers, "the fields of its answers");
  add(old.problem_pages != fresh.problem_pages, "its problem pages");
  add(old.environment != fresh.environment, "the environment of its scripts");
  add(old.has_time_limits != fresh.has_time_limits, "how long its scripts may take");
  return text::listed(parts);
}

void tell_sites(const Settings& before, const Settings& after, std::vector<std::string>& out) {
  for (const Site& site : after.sites) {
    const Site* const old = before.find_site(site.name);
    if (old == nullptr) {
      out.push_back("Site " + site.name + " is added, at " +
                    sites::url_of(after, site, sites::main_address(after, site)) + "/, and shows " +
                    site.document_root + ".");
      continue;
    }
    if (old->document_root != site.document_root)
      out.push_back("Site " + site.name + " shows " + site.document_root + " in place of " + old->document_root + ".");
    if (const std::string parts = what_differs(*old, site); !parts.empty())
      out.push_back("Of site " + site.name + " this changes: " + parts + ".");
  }
  for (const Site& site : before.sites)
    if (after.find_site(site.name) == nullptr)
      out.push_back("Site " + site.name + " is removed; its folder " + site.document_root + " stays as it is.");
}

void tell_order(const Settings& before, const Settings& after, std::vector<std::string>& out) {
  std::vector<std::string> old;
  std::vector<std::string> fresh;
  for (const Site& site : before.sites)
    if (after.find_site(site.name) != nullptr) old.push_back(site.name);
  for (const Site& site : after.sites)
    if (before.find_site(site.name) != nullptr) fresh.push_back(site.name);
  if (old != fresh) out.push_back("The sites stand in another order: " + text::listed(fresh) + ".");
}

void tell_languages(const Settings& before, const Settings& after, std::vector<std::string>& out) {
  for (const script::Interpreter& fresh : after.interpreters) {
    const auto old = std::find_if(before.interpreters.begin(), before.interpreters.end(),
                                  [&](const auto& one) { return one.language == fresh.language; });
    if (old == before.interpreters.end()) {
      out.push_back("The language " + fresh.language + " is added.");
    } else if (!(*old == fresh)) {
      out.push_back("How " + fresh.language + " is run changes.");
    }
  }
  for (const script::Interpreter& old : before.interpreters)
    if (std::none_of(after.interpreters.begin(), after.interpreters.end(),
                     [&](const auto& one) { return one.language == old.language; }))
      out.push_back("The language " + old.language + " is taken away.");
}

}  // namespace

std::vector<std::string> changes_between(const Settings& before, const Settings& after) {
  std::vector<std::string> out;
  tell_addresses(before, after, out);
  tell_sites(before, after, out);
  tell_order(before, after, out);
  tell_languages(before, after, out);
  for (const LimitRow& row : limit_rows()) {
    const std::uint64_t old = limit_of(before.limits, row.name);
    const std::uint64_t fresh = limit_of(after.limits, row.name);
    const auto told = [&row](std::uint64_t value) {
      return row.unit == LimitRow::Unit::bytes ? text::format_limit(value) : std::to_string(value);
    };
    if (old != fresh) out.push_back(std::string(row.name) + ": " + told(old) + " → " + told(fresh));
  }
  if (before.media_types != after.media_types) out.emplace_back("Media types change.");
  if (!(before.access_log == after.access_log))
    out.push_back(after.access_log.file.empty() ? "The access log is switched off."
                                                : "The access log is kept in " + after.access_log.file + ".");
  if (!(before.exchanges == after.exchanges)) out.emplace_back("What is kept of exchanges changes.");
  return out;
}

}  // namespace porter
