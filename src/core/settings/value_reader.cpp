// Names, texts, paths, addresses and tables of variables. See value_reader.hpp.
#include "core/settings/value_reader.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <climits>
#include <cstdlib>

#include "core/files/beneath.hpp"
#include "core/files/near.hpp"
#include "core/files/paths.hpp"
#include "core/http/host.hpp"
#include "core/text/ascii.hpp"
#include "core/text/text.hpp"

namespace porter::reading {
namespace {

std::string_view type_name(const toml::node& node) {
  switch (node.type()) {
    case toml::node_type::table:
      return "a table";
    case toml::node_type::array:
      return "a list";
    case toml::node_type::string:
      return "a string";
    case toml::node_type::integer:
      return "a number";
    case toml::node_type::floating_point:
      return "a number with a fraction";
    case toml::node_type::boolean:
      return "true or false";
    default:
      return "a date or time";
  }
}

/// More problems than these help nobody, and telling of each takes time.
constexpr std::size_t kMostProblems = 500;
constexpr std::size_t kLongestLine = 1000;

bool is_variable_name(std::string_view name) {
  const auto is_part = [](char c) { return text::ascii_lower(c) >= 'a' && text::ascii_lower(c) <= 'z'; };
  const auto is_digit = [](char c) { return c >= '0' && c <= '9'; };
  return !name.empty() && !is_digit(name.front()) &&
         std::all_of(name.begin(), name.end(), [&](char c) { return is_part(c) || is_digit(c) || c == '_'; });
}

}  // namespace

bool has_control(std::string_view value) {
  return std::any_of(value.begin(), value.end(), [](char c) { return (c >= 0 && c < 32 && c != '\t') || c == 127; });
}

ValueReader::ValueReader(std::string_view text, const std::string& file, const std::string& home)
    : text_(text), file_(file), folder_(files::folder_of(file)), home_(home) {}

void ValueReader::add(Code code, Facts facts, std::size_t line, std::size_t column) {
  if (problems_.size() >= kMostProblems) return;
  problems_.push_back({{code, std::move(facts)}, file_, line, column, line_of(line)});
}

std::string ValueReader::line_of(std::size_t line) {
  if (lines_.empty()) {
    lines_.push_back(0);
    for (std::size_t at = 0; (at = text_.find('\n', at)) != text_.npos;) lines_.push_back(++at);
  }
  if (line == 0 || line > lines_.size()) return {};
  std::string_view out = text_.substr(lines_[line - 1]);
  out = out.substr(0, out.find('\n'));
  if (out.ends_with('\r')) out.remove_suffix(1);
  return std::string(out.substr(0, kLongestLine));
}

void ValueReader::add(Code code, Facts facts, const toml::source_region& where) {
  add(code, std::move(facts), where.begin.line, where.begin.column);
}

void ValueReader::bad_value(const toml::source_region& where, const std::string& key, const std::string& problem,
                            const std::string& remedy) {
  add(Code::settings_bad_value, {{"key", key}, {"problem", problem}, {"advice", remedy}}, where);
}

void ValueReader::bad_value(const toml::node& node, const std::string& key, const std::string& problem,
                            const std::string& remedy) {
  bad_value(node.source(), key, problem, remedy);
}

void ValueReader::wrong_type(const toml::node& node, const std::string& key, std::string_view wanted) {
  add(Code::settings_wrong_type,
      {{"key", key}, {"found", std::string(type_name(node))}, {"wanted", std::string(wanted)}}, node.source());
}

const toml::table* ValueReader::take_table(const toml::node& node, const std::string& key) {
  if (const auto* const table = node.as_table()) return table;
  wrong_type(node, key, "a table");
  return nullptr;
}

std::vector<std::pair<std::string, const toml::node*>> ValueReader::take_texts(const toml::node& node,
                                                                               const std::string& key) {
  std::vector<std::pair<std::string, const toml::node*>> out;
  if (const auto* const one = node.as_string()) return {{one->get(), &node}};
  const auto* const list = node.as_array();
  if (list == nullptr) {
    wrong_type(node, key, "a list of strings");
    return out;
  }
  for (const toml::node& item : *list)
    if (const auto* const text = take<std::string>(item, "an entry of " + key, "a string"))
      out.emplace_back(text->get(), &item);
  return out;
}

Names ValueReader::take_names(const toml::node& node, const std::string& key) {
  Names out;
  for (const auto& [text, item] : take_texts(node, key)) {
    if (text.empty()) bad_value(*item, "An entry of " + key, "is empty", "Leave it out.");
    if (text.find('/') != text.npos)
      bad_value(*item, "The entry " + text + " of " + key, "holds a slash, and only names are compared",
                "Write the name alone: " + std::string(files::base_name(text)));
    out.push_back(text);
  }
  return out;
}

void ValueReader::unknown_key(const toml::key& key, const std::string& table, const Names& known) {
  Facts facts = {{"key", std::string(key.str())}, {"table", table}, {"keys", text::listed(known)}};
  if (const auto near = text::nearest(key.str(), known)) facts.emplace_back("nearest", *near);
  add(Code::settings_unknown_key, std::move(facts), key.source());
}

std::vector<Address> ValueReader::take_addresses(const toml::node& node, const std::string& key) {
  std::vector<Address> out;
  const auto take_one = [&](const toml::node& item) {
    std::string written;
    if (const auto* const number = item.as_integer()) {
      written = std::to_string(number->get());
    } else if (const auto* const text = item.as_string()) {
      written = text->get();
    } else {
      return wrong_type(item, "an entry of " + key, "an address, such as \"localhost:8080\", or a port");
    }
    AddressError error{};
    const auto address = parse_address(written, error);
    if (!address) return bad_address(item, written, error);
    if (std::find(out.begin(), out.end(), *address) != out.end())
      return bad_value(item, "The address " + written, "is in the list twice", "Leave one out.");
    out.push_back(*address);
  };
  if (const auto* const list = node.as_array()) {
    for (const toml::node& item : *list) take_one(item);
    if (list->empty()) bad_value(node, key, "is an empty list", "Name at least one: [\"localhost:8080\"]");
  } else {
    take_one(node);
  }
  return out;
}

void ValueReader::bad_address(const toml::node& node, const std::string& written, AddressError error) {
  const Facts facts = {{"address", written}, {"port", written.substr(written.rfind(':') + 1)}};
  if (error == AddressError::bad_port) return add(Code::settings_port_range, facts, node.source());
  if (error == AddressError::no_port) return add(Code::settings_no_port, facts, node.source());
  add(Code::settings_bad_address, facts, node.source());
}

Names ValueReader::take_hosts(const toml::node& node) {
  Names out;
  for (const auto& [text, item] : take_texts(node, "hosts")) {
    std::string host = text::to_lower(text);
    const std::string_view name = std::string_view(host).substr(host.starts_with("*.") ? 2 : 0);
    const auto parsed = http::parse_host(name);
    if (host != "*" && (!parsed || parsed->port || name.find('*') != name.npos || (parsed->is_ip && host != name))) {
      add(Code::settings_bad_host, {{"host", text}}, item->source());
      continue;
    }
    if (text::contains(out, host)) bad_value(*item, "The host " + text, "is in the list twice", "Leave one out.");
    if (parsed && host != "*") host = (host.starts_with("*.") ? "*." : "") + parsed->name;
    out.push_back(host);
  }
  if (node.is_array() && node.as_array()->empty())
    bad_value(node, "hosts", "is an empty list, so nothing would lead to the site",
              "Name a host, or leave the key out.");
  return out;
}

std::string ValueReader::absolute(const std::string& written) const {
  if (written == "~" || written.starts_with("~/")) return home_ + written.substr(1);
  return written.starts_with('/') ? written : folder_ + "/" + written;
}

std::string ValueReader::take_folder(const toml::node& node, const std::string& key, const std::string& written) {
  std::string path = absolute(written);
  std::array<char, PATH_MAX> real{};
  struct stat info {};
  const Facts facts = {{"key", key}, {"folder", path}, {"folder_quoted", text::shell_word(path)}};
  if (written.empty() || has_control(written) || path.find('\0') != path.npos) {
    bad_value(node, key, "is empty or holds a control character", "Write the path of a folder.");
  } else if (::realpath(path.c_str(), real.data()) == nullptr || ::stat(real.data(), &info) != 0) {
    Facts more = facts;
    const int error = errno;
    more.emplace_back("reason", files::describe({error}));
    if (auto near = error == ENOENT ? files::nearest_folder(path) : std::nullopt)
      more.emplace_back("nearest", std::move(*near));
    add(error == ENOENT ? Code::settings_folder_missing : Code::settings_folder_closed, std::move(more), node.source());
  } else if (!S_ISDIR(info.st_mode)) {
    add(Code::settings_not_a_folder, facts, node.source());
  } else if (::access(real.data(), R_OK | X_OK) != 0) {
    Facts more = facts;
    more.emplace_back("reason", files::describe({EACCES}));
    add(Code::settings_folder_closed, std::move(more), node.source());
  } else {
    return real.data();
  }
  return path;
}

std::string ValueReader::take_file_below(const toml::node& node, const std::string& key, const std::string& root) {
  const auto* const text = take<std::string>(node, key, "the path of a file below the document root");
  if (text == nullptr) return {};
  std::string relative = text->get();
  while (relative.starts_with('/')) relative.erase(0, 1);
  struct stat info {};
  const std::string path = root + "/" + relative;
  if (relative.empty() || ("/" + relative + "/").find("/../") != std::string::npos || has_control(relative)) {
    bad_value(node, key, "is not a file below the document root", "Write its path from there, such as \"index.php\".");
  } else if (::access(root.c_str(), F_OK) == 0 && (::stat(path.c_str(), &info) != 0 || !S_ISREG(info.st_mode))) {
    add(Code::settings_file_missing, {{"key", key}, {"file", path}}, node.source());
  }
  return relative;
}

Names ValueReader::take_environment(const toml::table& table) {
  Names out;
  for (const auto& [key, node] : table) {
    const std::string name(key.str());
    if (!is_variable_name(name)) {
      bad_value(key.source(), "The variable name \"" + name + "\"",
                "is not made of letters, digits and underscores, or begins with a digit",
                "Use a name such as TIDE_TABLE.");
      continue;
    }
    std::string value;
    if (const auto* const number = node.as_integer()) {
      value = std::to_string(number->get());
    } else if (const auto* const text = take<std::string>(node, "The variable " + name, "a string or a number")) {
      value = text->get();
    } else {
      continue;
    }
    if (value.find('\0') != value.npos) {
      bad_value(node, "The variable " + name, "holds a NUL", "Leave it out.");
      continue;
    }
    out.push_back(name + "=" + value);
  }
  return out;
}

}  // namespace porter::reading
