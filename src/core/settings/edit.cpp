// Finding the lines of a table or key by toml++, which tells where each stands, and cutting or inserting whole lines.
#include "core/settings/edit.hpp"

#include <algorithm>
#include <cstdint>

#include "core/settings/address.hpp"
#include "core/text/text.hpp"

#define TOML_EXCEPTIONS 1
#include <toml++/toml.h>

namespace porter {
namespace {

using Lines = std::vector<std::string>;

/// Lines with their line ends, so that they can be put together again as they were.
Lines split_lines(std::string_view text) {
  Lines out;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size() - 1) + 1;
    out.emplace_back(text.substr(0, end));
    text.remove_prefix(end);
  }
  return out;
}

std::string joined(const Lines& lines) {
  std::string out;
  for (const std::string& line : lines) out += line;
  return out;
}

std::string_view trimmed(std::string_view line) {
  while (!line.empty() && (line.back() == '\n' || line.back() == '\r' || line.back() == ' ' || line.back() == '\t'))
    line.remove_suffix(1);
  while (!line.empty() && (line.front() == ' ' || line.front() == '\t')) line.remove_prefix(1);
  return line;
}

/// `text` as a TOML string.
std::string quoted(std::string_view text) {
  constexpr std::string_view kDigits = "0123456789abcdef";
  std::string out = "\"";
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (byte < 0x20 || byte == 0x7f) {
      out += "\\u00";
      out += kDigits[byte >> 4];
      out += kDigits[byte & 15];
    } else {
      out += c;
    }
  }
  return out + "\"";
}

/// A name as the part of a key: bare where TOML allows that.
std::string as_key(std::string_view name) {
  const bool bare = !name.empty() && std::all_of(name.begin(), name.end(), [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '-' || c == '_';
  });
  return bare ? std::string(name) : quoted(name);
}

Finding refused(std::string problem, std::string advice) {
  return {Code::settings_edit_refused, {{"problem", std::move(problem)}, {"advice", std::move(advice)}}};
}

class Editor {
 public:
  explicit Editor(std::string_view text) : table_(toml::parse(text)), lines_(split_lines(text)) {
    if (text.find("\r\n") != text.npos) line_end_ = "\r\n";
  }

  std::variant<std::string, Finding> run(const SettingsEdit& edit) {
    const toml::table* const site = site_table(edit.site);
    if (edit.kind == SettingsEdit::Kind::add_site) {
      if (site != nullptr)
        return refused(
            "There is a site \"" + edit.site + "\" already",
            "Use another name, or remove it first: uporter site remove " + text::shell_word(edit.site) + edit.option);
      add_site(edit);
      return joined(lines_);
    }
    if (site == nullptr)
      return refused("There is no site \"" + edit.site + "\"", "See which there are: uporter site list" + edit.option);
    if (edit.kind == SettingsEdit::Kind::remove_site) return remove_site(edit.site, *site);
    if (edit.kind == SettingsEdit::Kind::change_site) return change_site(edit, *site);
    const toml::table* const mounts = (*site)["mounts"].as_table();
    const bool exists = mounts != nullptr && mounts->contains(edit.path);
    if (edit.kind == SettingsEdit::Kind::add_mount) {
      if (exists)
        return refused("The site \"" + edit.site + "\" has a mount " + edit.path + " already",
                       "Remove it first: uporter mount remove " + text::shell_word(edit.path) + " --site " +
                           text::shell_word(edit.site) + edit.option);
      return add_mount(edit, *site, mounts);
    }
    if (!exists)
      return refused("The site \"" + edit.site + "\" has no mount " + edit.path,
                     "See which there are: uporter mount list" + edit.option);
    return remove_mount(edit, *mounts);
  }

 private:
  const toml::table* site_table(const std::string& name) const {
    const toml::table* const sites = table_["site"].as_table();
    return sites == nullptr ? nullptr : sites->get_as<toml::table>(name);
  }

  void end_last_line() {
    if (!lines_.empty() && !lines_.back().ends_with('\n')) lines_.back() += line_end_;
  }

  void add_site(const SettingsEdit& edit) {
    end_last_line();
    if (!lines_.empty() && !trimmed(lines_.back()).empty()) lines_.push_back(line_end_);
    const auto add = [this](const std::string& line) { lines_.push_back(line + line_end_); };
    add("[site." + as_key(edit.site) + "]");
    for (const auto& [name, value] : values_of(edit, {usual_host(edit.site)}, nullptr))
      if (!value.empty()) add(name + " = " + value);
  }

  static std::string usual_host(const std::string& site) { return text::to_lower(site) + ".localhost"; }
  static std::string list_of(const std::vector<std::string>& texts) {
    std::string out;
    for (const std::string& text : texts) out += (out.empty() ? "" : ", ") + quoted(text);
    return "[" + out + "]";
  }

  /// The keys of a site that `edit` says something of, each with its value as it is written; an empty one: the key is
  /// to go. `hosts` are those that it has, `site` is its table; null: it is new.
  std::vector<std::pair<std::string, std::string>> values_of(const SettingsEdit& edit, std::vector<std::string> hosts,
                                                             const toml::table* site) const {
    std::vector<std::pair<std::string, std::string>> out;
    if (!edit.folder.empty()) out.emplace_back("document-root", quoted(edit.folder));
    if (!edit.hosts.empty()) hosts = edit.hosts;
    if (!edit.root_of.empty() && !text::contains(hosts, edit.root_of)) hosts.push_back(edit.root_of);
    if (!edit.hosts.empty() || !edit.root_of.empty()) out.emplace_back("hosts", list_of(hosts));
    if (!edit.reach.empty()) {
      out.emplace_back("addresses", list_of(reaching(edit, site)));
    } else if (edit.port) {
      out.emplace_back("addresses", list_of({"localhost:" + std::to_string(*edit.port)}));
    }
    if (edit.fallback) out.emplace_back("fallback", edit.fallback->empty() ? "" : quoted(*edit.fallback));
    return out;
  }

  /// The addresses that `node` lists, as texts.
  static std::vector<std::string> addresses_in(const toml::node* node) {
    std::vector<std::string> out;
    const auto add = [&out](const toml::node& one) {
      AddressError ignored{};
      const auto* const number = one.as_integer();
      const auto address = parse_address(number ? std::to_string(number->get()) : one.value_or(std::string()), ignored);
      if (address) out.push_back(address->text());
    };
    if (node == nullptr) return out;
    if (const auto* const list = node->as_array()) {
      for (const auto& one : *list) add(one);
    } else {
      add(*node);
    }
    return out;
  }

  /// A port that no address of these settings has.
  std::uint16_t unused_port() const {
    std::vector<std::string> all = addresses_in(table_.get("addresses"));
    const auto add = [&all](const toml::node* node) {
      for (std::string& address : addresses_in(node)) all.push_back(std::move(address));
    };
    add(table_.get("console"));
    if (const auto* const sites = table_["site"].as_table())
      for (const auto& [name, site] : *sites)
        if (const auto* const one = site.as_table()) add(one->get("addresses"));
    std::uint16_t port = 8081;
    const auto has = [&](const std::string& address) { return address.ends_with(":" + std::to_string(port)); };
    while (std::any_of(all.begin(), all.end(), has)) ++port;
    return port;
  }

  /// The addresses of a site that is to be reached as `edit` says: those that it has, or one more for other devices, at
  /// a port of its own, since by an IP address they reach only the first site of a port.
  std::vector<std::string> reaching(const SettingsEdit& edit, const toml::table* site) const {
    std::vector<std::string> out = addresses_in(site == nullptr ? nullptr : site->get("addresses"));
    if (out.empty()) out = addresses_in(table_.get("addresses"));
    if (out.empty()) out = {"localhost:8080"};
    const auto is_network = [](const std::string& address) { return address.starts_with("network:"); };
    const bool is_reached =
        std::any_of(out.begin(), out.end(), is_network) && site != nullptr && site->contains("addresses");
    if (edit.reach != "network" || edit.port) std::erase_if(out, is_network);
    if (edit.reach != "network" && edit.port) out = {"localhost:" + std::to_string(*edit.port)};
    if (edit.reach != "network" && out.empty()) out = {"localhost:" + std::to_string(unused_port())};
    if (edit.reach != "network" || (is_reached && !edit.port)) return out;
    std::erase_if(out, is_network);
    out.push_back("network:" + std::to_string(edit.port.value_or(unused_port())));
    return out;
  }

  static std::vector<std::string> hosts_in(const std::string& name, const toml::table& site) {
    const auto* const written = site["hosts"].as_array();
    if (written == nullptr) return {site["hosts"].value_or(usual_host(name))};
    std::vector<std::string> out;
    for (const auto& host : *written) out.push_back(host.value_or(std::string()));
    return out;
  }

  std::variant<std::string, Finding> change_site(const SettingsEdit& edit, const toml::table& site) {
    const std::size_t header = site.source().begin.line;
    if (header == 0 || site.is_inline() || !is_header(lines_[header - 1]))
      return refused("The site \"" + edit.site + "\" is not written as a table of its own", "Change it by hand.");
    const auto wanted = values_of(edit, hosts_in(edit.site, site), &site);
    std::vector<std::string> added;
    std::vector<std::pair<const toml::key*, const toml::node*>> present;
    for (const auto& [key, node] : site)
      for (const auto& [name, value] : wanted)
        if (key.str() == name) present.emplace_back(&key, &node);
    for (const auto& [name, value] : wanted)
      if (!site.contains(name) && !value.empty()) added.push_back(name + " = " + value + line_end_);
    std::size_t last = header;
    for (const auto& [key, node] : site)
      if (const auto* const table = node.as_table(); table == nullptr || table->is_inline())
        last = std::max<std::size_t>(last, node.source().end.line);
    lines_.insert(lines_.begin() + static_cast<std::ptrdiff_t>(last), added.begin(), added.end());
    // From the last line to the first, so that the places of the others stay true.
    std::sort(present.begin(), present.end(), [](const auto& a, const auto& b) {
      return a.second->source().begin.line > b.second->source().begin.line;
    });
    for (const auto& [key, node] : present) {
      const std::string_view name = key->str();
      const auto value =
          std::find_if(wanted.begin(), wanted.end(), [name](const auto& one) { return one.first == name; });
      replace_value(*key, *node, value->second);
    }
    return joined(lines_);
  }

  /// Writes `value` in the place of that of `key`; an empty one: the key goes. What follows on the last line of the
  /// value, a comment say, stays.
  void replace_value(const toml::key& key, const toml::node& node, const std::string& value) {
    const std::size_t first = key.source().begin.line - 1;
    const auto end = node.source().end;
    // Columns count characters.
    std::string_view rest = lines_[end.line - 1];
    for (std::size_t column = 1; column < end.column && !rest.empty(); ++column) {
      rest.remove_prefix(1);
      while (!rest.empty() && (static_cast<unsigned char>(rest.front()) & 0xc0) == 0x80) rest.remove_prefix(1);
    }
    const std::string& old = lines_[first];
    const std::string indentation = old.substr(0, old.find_first_not_of(" \t"));
    const std::string line = indentation + std::string(key.str()) + " = " + value + std::string(rest);
    const auto at = [this](std::size_t number) { return lines_.begin() + static_cast<std::ptrdiff_t>(number); };
    lines_.erase(at(first), at(end.line));
    if (!value.empty()) lines_.insert(at(first), line);
  }

  /// True for a line that opens a table.
  static bool is_header(std::string_view line) { return trimmed(line).starts_with('['); }

  /// The line, counted from 0, after the last one of the table whose header stands at `header`: up to the next header,
  /// without the comments and empty lines that belong to that one.
  std::size_t end_of_table(std::size_t header) const {
    std::size_t end = next_header(header);
    while (end > header + 1 && end < lines_.size() && is_comment_or_empty(lines_[end - 1])) --end;
    return end;
  }
  /// The next line that opens a table. A line within a value of several lines may begin with a bracket as well, so the
  /// places that the parser tells decide.
  std::size_t next_header(std::size_t header) const {
    std::size_t next = lines_.size();
    collect_headers(table_, [&](std::size_t line) {
      if (line > header) next = std::min(next, line);
    });
    return next;
  }
  template <typename Visit>
  void collect_headers(const toml::table& table, const Visit& visit) const {
    for (const auto& [key, node] : table) {
      if (const auto* const inner = node.as_table()) {
        const std::size_t line = inner->source().begin.line;
        if (line > 0 && !inner->is_inline() && is_header(lines_[line - 1])) visit(line - 1);
        collect_headers(*inner, visit);
      }
    }
  }
  static bool is_comment_or_empty(std::string_view line) {
    return trimmed(line).empty() || trimmed(line).starts_with('#');
  }

  std::variant<std::string, Finding> remove_site(const std::string& name, const toml::table& site) {
    // The site's own table and the tables in it, each with its lines, from the last to the first.
    std::vector<std::size_t> headers;
    const std::size_t own = site.source().begin.line;
    if (own > 0 && !site.is_inline() && is_header(lines_[own - 1])) headers.push_back(own - 1);
    collect_headers(site, [&](std::size_t line) { headers.push_back(line); });
    if (headers.empty())
      return refused(
          "The site \"" + name + "\" is not written as a table of its own, so its lines cannot be told apart",
          "Remove it by hand.");
    std::sort(headers.rbegin(), headers.rend());
    headers.erase(std::unique(headers.begin(), headers.end()), headers.end());
    Lines kept = lines_;
    for (const std::size_t header : headers) {
      const std::size_t end = end_of_table(header);
      const auto at = [&kept](std::size_t line) { return kept.begin() + static_cast<std::ptrdiff_t>(line); };
      kept.erase(at(header), at(end));
      // One of the empty lines on both sides goes too.
      const bool empty_before = header > 0 && trimmed(kept[header - 1]).empty();
      const bool empty_after = header >= kept.size() || trimmed(kept[header]).empty();
      if (empty_before && empty_after) kept.erase(at(header - 1));
    }
    return joined(kept);
  }

  std::variant<std::string, Finding> add_mount(const SettingsEdit& edit, const toml::table& site,
                                               const toml::table* mounts) {
    const std::string target =
        edit.is_persistent ? "{ target = " + quoted(edit.folder) + ", persistent = true }" : quoted(edit.folder);
    const std::string line = quoted(edit.path) + " = " + target + line_end_;
    end_last_line();
    if (mounts == nullptr) {
      const std::size_t own = site.source().begin.line;
      if (own == 0 || site.is_inline() || !is_header(lines_[own - 1]))
        return refused("The site \"" + edit.site + "\" is not written as a table of its own", "Add the mount by hand.");
      std::size_t at = end_of_table(own - 1);
      while (at > own && trimmed(lines_[at - 1]).empty()) --at;
      const Lines added = {line_end_, "[site." + as_key(edit.site) + ".mounts]" + line_end_, line};
      lines_.insert(lines_.begin() + static_cast<std::ptrdiff_t>(at), added.begin(), added.end());
      return joined(lines_);
    }
    const std::size_t header = mounts->source().begin.line;
    if (mounts->is_inline() || header == 0 || !is_header(lines_[header - 1]))
      return refused("The mounts of the site \"" + edit.site + "\" are not written as a table of their own",
                     "Write them as [site." + as_key(edit.site) + ".mounts], one on each line.");
    std::size_t at = end_of_table(header - 1);
    while (at > header && trimmed(lines_[at - 1]).empty()) --at;
    lines_.insert(lines_.begin() + static_cast<std::ptrdiff_t>(at), line);
    return joined(lines_);
  }

  std::variant<std::string, Finding> remove_mount(const SettingsEdit& edit, const toml::table& mounts) {
    const auto found = mounts.find(edit.path);
    const std::size_t line = found->first.source().begin.line;
    const std::size_t last = found->second.source().end.line;
    const std::size_t header = mounts.source().begin.line;
    if (mounts.is_inline() || line == 0 || line == header)
      return refused("The mounts of the site \"" + edit.site + "\" are not written as a table of their own",
                     "Remove the mount by hand.");
    const auto begin = lines_.begin();
    if (mounts.size() == 1 && header > 0 && is_header(lines_[header - 1])) {
      // An empty table would be left; what is between its header and the mount are comments about it.
      lines_.erase(begin + static_cast<std::ptrdiff_t>(header - 1), begin + static_cast<std::ptrdiff_t>(last));
      // As add_mount() has put one before it.
      if (header >= 2 && trimmed(lines_[header - 2]).empty())
        lines_.erase(lines_.begin() + static_cast<std::ptrdiff_t>(header - 2));
    } else {
      lines_.erase(begin + static_cast<std::ptrdiff_t>(line - 1), begin + static_cast<std::ptrdiff_t>(last));
    }
    return joined(lines_);
  }

  toml::table table_;
  Lines lines_;
  std::string line_end_ = "\n";
};

}  // namespace

std::variant<std::string, Finding> edit_text(std::string_view text, const SettingsEdit& edit) {
  try {
    return Editor(text).run(edit);
  } catch (const toml::parse_error& error) {
    return Finding{Code::settings_syntax, {{"problem", std::string(error.description())}}};
  }
}

}  // namespace porter
