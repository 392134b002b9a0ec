// Taking values out of parsed TOML: each either is what is wanted, or is reported with its place.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#define TOML_EXCEPTIONS 1
#include <toml++/toml.h>

#include "core/findings/finding.hpp"
#include "core/settings/address.hpp"
#include "core/settings/read_settings.hpp"

namespace porter::reading {

using Names = std::vector<std::string>;
using Facts = std::vector<Fact>;

/// True if it holds a control character other than a tab.
bool has_control(std::string_view value);

/// What all tables of the settings are read with. Whatever is not acceptable becomes a problem, and the reading goes
/// on.
class ValueReader {
 public:
  /// Reads `text` of `file`; paths may begin with `home` as "~". All three must outlive the reader.
  ValueReader(std::string_view text, const std::string& file, const std::string& home);

 protected:
  /// Reports a problem at a place (from 1; 0: none).
  void add(Code code, Facts facts, std::size_t line, std::size_t column);
  void add(Code code, Facts facts, const toml::source_region& where);
  /// "KEY PROBLEM. REMEDY"
  void bad_value(const toml::source_region& where, const std::string& key, const std::string& problem,
                 const std::string& remedy);
  void bad_value(const toml::node& node, const std::string& key, const std::string& problem, const std::string& remedy);

  /// The value of `node` if it has the type; else nullptr, and that is reported.
  template <typename Type>
  const toml::value<Type>* take(const toml::node& node, const std::string& key, std::string_view wanted) {
    if (const auto* const value = node.as<Type>()) return value;
    wrong_type(node, key, wanted);
    return nullptr;
  }
  void wrong_type(const toml::node& node, const std::string& key, std::string_view wanted);
  const toml::table* take_table(const toml::node& node, const std::string& key);
  /// The texts of a list, each with its node; a single text counts as a list of one.
  std::vector<std::pair<std::string, const toml::node*>> take_texts(const toml::node& node, const std::string& key);
  /// The same for names of files and folders, none of which may hold a slash.
  Names take_names(const toml::node& node, const std::string& key);
  /// Reports a key that `table` has not, with the nearest of those `known`.
  void unknown_key(const toml::key& key, const std::string& table, const Names& known);

  /// One address or a list of them; each is a text or a port.
  std::vector<Address> take_addresses(const toml::node& node, const std::string& key);
  /// Names of hosts in lower case, wildcards and IP addresses included.
  Names take_hosts(const toml::node& node);
  /// `written` as an absolute path: "~/" from home, else from the folder of the file.
  std::string absolute(const std::string& written) const;
  /// `written` as the real path of a folder that can be read; where it is none, the absolute path.
  std::string take_folder(const toml::node& node, const std::string& key, const std::string& written);
  /// A file below the document root, as a path from there without a slash before it.
  std::string take_file_below(const toml::node& node, const std::string& key, const std::string& root);
  /// "NAME=value" for each variable of `table`.
  Names take_environment(const toml::table& table);

  std::string_view text_;
  const std::string& file_;
  std::string folder_;  ///< That of the file.
  const std::string& home_;
  std::vector<SettingsProblem> problems_;

 private:
  void bad_address(const toml::node& node, const std::string& written, AddressError error);
  /// The line with that number, counted from 1; empty if there is none.
  std::string line_of(std::size_t line);

  std::vector<std::size_t> lines_;  ///< Where each begins, once one was asked for.
};

}  // namespace porter::reading
