// Reading settings: TOML by toml++, then each table key by key. Every function takes what it knows and reports the
// rest, so that one look at the output shows all mistakes.
#include "core/settings/read_settings.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <climits>
#include <cstdlib>
#include <functional>
#include <optional>
#include <unordered_map>

#include "core/files/beneath.hpp"
#include "core/files/paths.hpp"
#include "core/findings/resources.hpp"
#include "core/http/target.hpp"
#include "core/settings/depth.hpp"
#include "core/settings/value_reader.hpp"
#include "core/text/text.hpp"

namespace porter {
namespace {

constexpr std::size_t kMostBytes = 1024 * 1024;

using reading::Facts;
using reading::has_control;
using reading::Names;
using text::contains;

Names limit_keys(bool of_a_run) {
  Names out;
  for (const LimitRow& row : limit_rows())
    if (!of_a_run || row.is_of_a_run) out.emplace_back(row.name);
  return out;
}

/// The number of bytes in "64 MiB", "100 KiB", "1 GiB"; nullopt if it is nothing of the kind.
std::optional<std::uint64_t> read_size(std::string_view text) {
  const std::size_t digits = std::min(text.find_first_not_of("0123456789"), text.size());
  if (digits == 0 || digits > 12) return std::nullopt;
  const std::uint64_t number = std::stoull(std::string(text.substr(0, digits)));
  const std::string_view unit = http::trim(text.substr(digits));
  for (const auto& [name, shift] : {std::pair("B", 0U), {"KiB", 10U}, {"MiB", 20U}, {"GiB", 30U}, {"TiB", 40U}})
    // What does not fit is more than any limit takes.
    if (unit == name) return number > (UINT64_MAX >> shift) ? UINT64_MAX : number << shift;
  return std::nullopt;
}

/// How to write what `text` may mean, a value that is none of the kind `unit`; nullopt: it is one, of a number too
/// large.
std::optional<std::string> advice_for(std::string_view text, LimitRow::Unit unit) {
  const std::string number(text.substr(0, std::min(text.find_first_not_of("0123456789"), text.size())));
  const std::string_view word = http::trim(text.substr(number.size()));
  if (unit == LimitRow::Unit::bytes) {
    for (const std::string_view known : {"B", "KiB", "MiB", "GiB", "TiB"})
      if (word == known && !number.empty()) return std::nullopt;
    for (const auto& [wrong, right] : {std::pair("KB", "KiB"),
                                       {"kB", "KiB"},
                                       {"MB", "MiB"},
                                       {"GB", "GiB"},
                                       {"TB", "TiB"},
                                       {"K", "KiB"},
                                       {"M", "MiB"},
                                       {"G", "GiB"},
                                       {"T", "TiB"}})
      if (word == wrong && !number.empty())
        return fmt::format("{} is none of the units B, KiB, MiB, GiB and TiB; write \"{} {}\".", wrong, number, right);
    return "Write a number of bytes, or one with a unit: B, KiB, MiB, GiB or TiB, such as \"64 MiB\".";
  }
  const std::string example = number.empty() ? "30" : number;
  return unit == LimitRow::Unit::seconds ? "Write the number of seconds alone: " + example
                                         : "Write a number alone: " + example;
}

class Reader : private reading::ValueReader {
 public:
  Reader(std::string_view text, const std::string& file, const std::string& home) : ValueReader(text, file, home) {
    read_.settings.file = file;
  }

  /// As settings_keys().
  static Names all_keys();

  SettingsRead run() {
    if (const std::string clean = text::to_utf8(text_); clean != text_) {
      const auto bad = std::mismatch(text_.begin(), text_.end(), clean.begin(), clean.end()).first;
      const auto line = static_cast<std::size_t>(std::count(text_.begin(), bad, '\n')) + 1;
      add(Code::settings_not_utf8, {}, line, 1);
      return finish();
    }
    if (const auto deep = find_too_deep(text_)) {
      add(Code::settings_too_deep, {{"most", std::to_string(kDeepestNesting)}}, deep->line, deep->column);
      return finish();
    }
    try {
      const toml::table table = toml::parse(text_);
      read_top(table);
    } catch (const toml::parse_error& error) {
      add(Code::settings_syntax, {{"problem", std::string(error.description())}}, error.source().begin.line,
          error.source().begin.column);
    }
    return finish();
  }

 private:
  /// A key of a table that describes an `In`, and how its value gets in there.
  template <typename In>
  struct Key {
    std::string_view name;
    void (*take)(Reader& reader, const toml::node& node, const std::string& name, In& in);
  };
  template <typename In>
  using Keys = std::vector<Key<In>>;

  /// A site, with what can be read only once its document root is known.
  struct SiteDraft {
    Site site;
    const toml::node* root = nullptr;
    const toml::node* fallback = nullptr;
    const toml::table* fallbacks = nullptr;
    const toml::table* pages = nullptr;
    const toml::node* warnings = nullptr;
  };

  /// A mount that is written as a table.
  struct MountDraft {
    const toml::node* target = nullptr;
    bool is_persistent = false;
    std::optional<std::size_t> processes;
  };

  // What a key does that only says yes or no.
  template <typename In, auto kMember>
  static void take_flag(Reader& reader, const toml::node& node, const std::string& name, In& in) {
    if (const auto* const value = reader.take<bool>(node, name, "true or false")) in.*kMember = value->get();
  }
  template <auto kMember>
  static void take_flag_of_site(Reader& reader, const toml::node& node, const std::string& name, SiteDraft& in) {
    take_flag<Site, kMember>(reader, node, name, in.site);
  }

  // Every key that the settings know.
  static const Keys<Settings>& top_keys();
  static const Keys<SiteDraft>& site_keys();
  static const Keys<script::Interpreter>& interpreter_keys();
  static const Keys<AccessLog>& log_keys();
  static const Keys<MountDraft>& mount_keys();
  static const Keys<ExchangeKeeping>& exchange_keys();

  template <typename In>
  static Names names_of(const Keys<In>& keys) {
    Names out;
    for (const Key<In>& key : keys) out.emplace_back(key.name);
    return out;
  }

  /// Reads `table`, which messages call `where`, into `in`, and reports keys that it does not know.
  template <typename In>
  void read_table(const toml::table& table, const std::string& where, const Keys<In>& keys, In& in) {
    for (const auto& [key, node] : table) {
      const std::string name(key.str());
      const auto known = std::find_if(keys.begin(), keys.end(), [&](const Key<In>& one) { return one.name == name; });
      if (known == keys.end()) {
        unknown_key(key, where, names_of(keys));
      } else {
        known->take(*this, node, name, in);
      }
    }
  }

  /// What was read, with its problems in the order of their places.
  SettingsRead finish() {
    std::stable_sort(problems_.begin(), problems_.end(), [](const auto& a, const auto& b) {
      return std::tie(a.line, a.column) < std::tie(b.line, b.column);
    });
    read_.problems = std::move(problems_);
    return std::move(read_);
  }

  void read_top(const toml::table& table) {
    read_.settings.addresses = {{Address::Reach::this_computer, {}, kUsualPort}};
    read_table(table, "the settings", top_keys(), read_.settings);
    check_languages();
    check_hosts();
  }

  void read_sites(const toml::node& node) {
    const auto* const sites = take_table(node, "site");
    if (sites == nullptr) return;
    std::vector<std::pair<const toml::key*, const toml::node*>> in_order;
    for (const auto& [key, site] : *sites) in_order.emplace_back(&key, &site);
    const auto place = [](const toml::key& key) {
      return std::pair(key.source().begin.line, key.source().begin.column);
    };
    std::sort(in_order.begin(), in_order.end(),
              [&](const auto& a, const auto& b) { return place(*a.first) < place(*b.first); });
    for (const auto& [key, site] : in_order)
      if (const auto* const table = take_table(*site, "site." + std::string(key->str()))) read_site(*key, *table);
  }

  void read_site(const toml::key& site_key, const toml::table& table) {
    SiteDraft draft;
    Site& site = draft.site;
    site.name = site_key.str();
    const std::string in = "site." + site.name;
    if (site.name.empty() || site.name.find_first_of(" /\\\"'") != site.name.npos || has_control(site.name))
      bad_value(site_key.source(), "The name of the site \"" + site.name + "\"",
                "is empty or holds a space, a slash or a quote",
                "Use letters, digits and hyphens: [site.harbour-office]");
    site.hosts = {text::to_lower(site.name) + ".localhost"};
    read_table(table, "[" + in + "]", site_keys(), draft);
    if (draft.root == nullptr) {
      add(Code::settings_no_root, {{"site", site.name}}, site_key.source());
    } else if (const auto* const text = take<std::string>(*draft.root, "document-root", "the path of a folder")) {
      // A root that is not there is a matter of this site alone, which its requests are told.
      const std::size_t before = problems_.size();
      site.document_root = take_folder(*draft.root, "document-root", text->get());
      site.written_root = absolute(text->get());
      if (problems_.size() > before && problems_.back().finding.code != Code::settings_bad_value) {
        site.document_root = site.written_root;
        site.is_root_missing = problems_.back().finding.code == Code::settings_folder_missing;
        for (; problems_.size() > before; problems_.pop_back()) {
          problems_.back().finding.facts.emplace_back("site", site.name);
          read_.standing.push_back(std::move(problems_.back()));
        }
      }
    }
    if (draft.warnings != nullptr) show_warnings(*draft.warnings, site);
    // Both lie below the root, wherever in the table that stands.
    if (draft.fallback != nullptr) read_fallback(*draft.fallback, "/", "fallback", site);
    if (draft.fallbacks != nullptr) read_fallbacks(*draft.fallbacks, site);
    if (draft.pages != nullptr) read_problem_pages(*draft.pages, site);
    host_places_.push_back(table.contains("hosts") ? table.get("hosts")->source() : site_key.source());
    read_.settings.sites.push_back(std::move(site));
  }

  /// Has PHP print what it warns of into the pages of the site. They tell paths of this computer, which are nobody
  /// else's business.
  void show_warnings(const toml::node& node, Site& site) {
    for (const Address& address : site.addresses.empty() ? read_.settings.addresses : site.addresses)
      if (!address.is_local())
        return bad_value(node, "show-warnings",
                         "would show warnings to other devices, which " + address.text() + " lets in",
                         "Leave it out, or let only this computer in.");
    if (site.own_languages.empty()) site.own_languages = read_.settings.interpreters;
    for (script::Interpreter& language : site.own_languages) {
      if (!language.is_php()) continue;
      for (const char* const name : {"html_errors", "display_errors"})
        if (std::none_of(language.directives.begin(), language.directives.end(),
                         [name](const auto& one) { return one.first == name; }))
          language.directives.emplace_back(name, "1");
    }
  }

  void read_response_headers(const toml::table& table, Site& site) {
    // These are the server's own: with others a client could not tell where a response ends.
    static const Names kOwn = {"content-length", "transfer-encoding", "connection", "date", "content-encoding",
                               "keep-alive",     "upgrade",           "trailer",    "te"};
    for (const auto& [key, node] : table) {
      const std::string name(key.str());
      const auto* const value = take<std::string>(node, "The field " + name, "a string");
      if (value == nullptr) continue;
      if (!http::is_token(name)) {
        bad_value(node, "The field name \"" + name + "\"", "is not one that HTTP knows",
                  "Use letters, digits and hyphens.");
      } else if (contains(kOwn, text::to_lower(name))) {
        bad_value(node, "The field " + name, "is decided by the server for each response", "Leave it out.");
      } else if (has_control(value->get())) {
        bad_value(node, "The field " + name, "holds a line break or another control character",
                  "Write it in one line.");
      } else {
        site.response_headers.emplace_back(name, value->get());
      }
    }
  }

  void read_media_types(const toml::table& table, Settings& in) {
    for (const auto& [key, node] : table) {
      const std::string ending(key.str());
      const auto* const type = take<std::string>(node, "The media type of " + ending, "a string");
      if (type == nullptr) continue;
      const std::string& value = type->get();
      const std::string_view bare = std::string_view(value).substr(0, value.find(';'));
      const std::size_t slash = bare.find('/');
      if (!ending.starts_with('.') || ending.size() < 2 || ending.find('.', 1) != ending.npos) {
        bad_value(key.source(), "The ending \"" + ending + "\"", "is not one dot and what follows it",
                  "Write it as \".ts\".");
      } else if (slash == bare.npos || !http::is_token(bare.substr(0, slash)) ||
                 !http::is_token(http::trim(bare.substr(slash + 1))) || has_control(value)) {
        bad_value(node, "The media type of " + ending, "is not a type and a subtype",
                  "Write it as \"text/typescript\".");
      } else {
        in.media_types[text::to_lower(ending.substr(1))] = value;
      }
    }
  }

  void read_problem_pages(const toml::table& table, Site& site) {
    for (const auto& [key, node] : table) {
      const std::string name(key.str());
      const int status = name.size() == 3 && name.find_first_not_of("0123456789") == name.npos ? std::stoi(name) : 0;
      if (status < 400 || status > 599) {
        bad_value(key.source(), "The status " + name, "is not a number from 400 to 599", "Write it as 404.");
        continue;
      }
      site.problem_pages[status] = take_file_below(node, "The page for " + name, site.document_root);
    }
  }

  /// The path that a key names, without a final slash but that of "/"; nullopt: it is none.
  std::optional<std::string> take_path(const toml::key& key, const std::string& what) {
    std::string path(key.str());
    while (path.size() > 1 && path.ends_with('/')) path.pop_back();
    if (path.starts_with('/') && path.find("//") == path.npos && http::remove_dot_segments(path) == path &&
        !has_control(path))
      return path;
    bad_value(key.source(), "The " + what + " path \"" + std::string(key.str()) + "\"",
              "does not begin with a slash, or holds empty or dotted parts", "Write a path such as \"/archive\".");
    return std::nullopt;
  }

  void read_mounts(const toml::table& table, Site& site) {
    for (const auto& [key, node] : table) {
      const std::string written(key.str());
      MountDraft draft;
      if (const auto* const draft_table = node.as_table()) {
        read_table(*draft_table, "the mount " + written, mount_keys(), draft);
        if (draft.target == nullptr)
          bad_value(node, "The mount " + written, "names no target", "Add: target = \"app.fcgi\"");
      } else {
        draft.target = &node;
      }
      const auto* const target = draft.target == nullptr ? nullptr
                                                         : take<std::string>(*draft.target, "The mount " + written,
                                                                             "the path of a folder or a script");
      if (target == nullptr) continue;
      const auto path = take_path(key, "mount");
      if (!path) continue;
      Mount mount{*path, {}, absolute(target->get())};
      for (const Mount& other : site.mounts)
        if (mount.path == other.path)
          add(Code::settings_mounts_overlap, {{"path", written}, {"other", other.path}}, key.source());
      mount.target = take_mount_target(node, written, target->get());
      struct stat info {};
      if (mount.path == "/" && ::stat(mount.target.c_str(), &info) == 0 && S_ISDIR(info.st_mode)) {
        bad_value(node, "The mount /", "is a folder, and the folder that \"/\" shows is the document root",
                  "Write it as document-root, or mount one script at \"/\".");
        continue;
      }
      if (draft.is_persistent) mount.program = program_of(mount, *draft.target, site);
      if (mount.program && draft.processes) mount.program->persistence.processes = *draft.processes;
      site.mounts.push_back(std::move(mount));
    }
  }

  /// The target of a mount as a program that is there for one request after another: started by its first line or run
  /// bit, else by the interpreter of its ending. PHP's own processes are there in any case.
  std::optional<script::Interpreter> program_of(const Mount& mount, const toml::node& node, const Site& site) {
    const std::string name(files::base_name(mount.target));
    const script::Interpreter* const by_ending = script::interpreter_for(read_.settings.languages_of(site), name);
    if (by_ending != nullptr && by_ending->is_php()) return std::nullopt;
    struct stat info {};
    const bool is_file = ::stat(mount.target.c_str(), &info) == 0 && S_ISREG(info.st_mode);
    const bool is_executable = is_file && ::access(mount.target.c_str(), X_OK) == 0;
    if (!is_executable && (!is_file || by_ending == nullptr)) {
      bad_value(node, "The mount " + mount.path, "is persistent, and " + mount.target + " is no program",
                is_file ? "Let it be run: chmod +x " + text::shell_word(mount.target) : "Name the program's file.");
      return std::nullopt;
    }
    script::Interpreter out;
    if (by_ending != nullptr) out = *by_ending;
    // A run-time that its first line names is not looked into, so it may be one that reserves memory.
    out.reserves_memory = out.reserves_memory || is_executable;
    out.language = name;
    out.endings.clear();
    if (is_executable) {
      out.program = mount.target;
      out.arguments.clear();
    } else {
      out.arguments.push_back(mount.target);
    }
    out.persistence = {};
    out.persistence.is_wanted = true;
    out.folder = files::folder_of(mount.target);
    out.fresh_setting = "[site." + site.name + ".mounts]\n\"" + mount.path + "\" = \"" + mount.target + "\"";
    return out;
  }

  void read_fallbacks(const toml::table& table, Site& site) {
    for (const auto& [key, node] : table)
      if (const auto path = take_path(key, "fallback")) read_fallback(node, *path, "The fallback of " + *path, site);
  }

  /// The script may be named by its path at the site, as for "/", or from the folder that `path` shows, or by its path
  /// on disk.
  void read_fallback(const toml::node& node, const std::string& path, const std::string& name, Site& site) {
    const auto* const text = take<std::string>(node, name, "the path of a script");
    if (text == nullptr || site.document_root.empty()) return;
    const std::string& written = text->get();
    std::string relative = written.substr(std::min(written.find_first_not_of('/'), written.size()));
    const Mount* mount = nullptr;
    for (const Mount& one : site.mounts)
      if (files::lies_in(path, one.path) && (mount == nullptr || one.path.size() > mount->path.size())) mount = &one;
    const auto below = [](const std::string& folder) { return folder == "/" ? std::string() : folder; };
    std::vector<Fallback> candidates;
    const auto consider = [&](const std::string& root, const std::string& url, const std::string& script) {
      candidates.push_back({path, root, script, url + "/" + script});
    };
    consider(site.document_root, "", relative);
    if (mount != nullptr) {
      const std::string url = below(mount->path);
      const std::string rest = below(path).substr(std::min(url.size() + 1, below(path).size()));
      if (("/" + relative).starts_with(url + "/")) consider(mount->target, url, relative.substr(url.size()));
      consider(mount->target, url, (rest.empty() ? "" : rest + "/") + relative);
    }
    consider(site.document_root, "", below(path).substr(path == "/" ? 0 : 1) + "/" + relative);
    // Or by its path on disk.
    const std::string on_disk = absolute(written);
    if (mount != nullptr && files::lies_in(on_disk, mount->target))
      consider(mount->target, below(mount->path), on_disk.substr(mount->target.size() + 1));
    if (files::lies_in(on_disk, site.document_root))
      consider(site.document_root, "", on_disk.substr(std::min(site.document_root.size() + 1, on_disk.size())));
    if (relative.empty() || ("/" + relative + "/").find("/../") != std::string::npos || has_control(relative))
      return bad_value(node, name, "is not a file below the document root",
                       "Write its path from there, such as \"index.php\".");
    struct stat root {};
    if (::stat(site.document_root.c_str(), &root) != 0) {
      // Nothing can be looked for in a root that is not there.
      site.fallbacks.push_back(std::move(candidates.front()));
      return;
    }
    for (Fallback& candidate : candidates) {
      struct stat info {};
      const std::string file = candidate.root + "/" + candidate.script;
      if (::stat(file.c_str(), &info) != 0 || !S_ISREG(info.st_mode)) continue;
      site.fallbacks.push_back(std::move(candidate));
      return;
    }
    add(Code::settings_file_missing, {{"key", name}, {"file", site.document_root + "/" + relative}}, node.source());
  }

  std::string take_mount_target(const toml::node& node, const std::string& path, const std::string& written) {
    struct stat info {};
    std::array<char, PATH_MAX> real{};
    const std::string target = absolute(written);
    if (::stat(target.c_str(), &info) == 0 && S_ISREG(info.st_mode) &&
        ::realpath(target.c_str(), real.data()) != nullptr)
      return real.data();
    return take_folder(node, "The mount " + path, written);
  }

  /// Adds the languages below `node`, which messages call `where`, to those `known`, or changes them.
  void read_interpreters(const toml::node& node, const std::string& where, std::vector<script::Interpreter>& known) {
    const auto* const all = take_table(node, where);
    if (all == nullptr) return;
    languages_ = &known;
    for (const auto& [key, one] : *all) {
      const std::string name = where + "." + std::string(key.str());
      if (const auto* const table = take_table(one, name)) read_interpreter(key, *table, name);
    }
  }

  void read_interpreter(const toml::key& language_key, const toml::table& table, const std::string& where) {
    const std::string language(language_key.str());
    auto& known = *languages_;
    auto found = std::find_if(known.begin(), known.end(),
                              [&](const script::Interpreter& i) { return http::same_name(i.language, language); });
    const bool is_new = found == known.end();
    script::Interpreter interpreter;
    if (is_new) {
      interpreter.language = language;
    } else {
      interpreter = *found;
    }
    read_table(table, "[" + where + "]", interpreter_keys(), interpreter);
    if (const toml::node* const settings = table.get("settings"); settings != nullptr && !interpreter.is_php())
      bad_value(*settings, "settings", "are directives of PHP, and " + language + " is not run by it",
                "Give it what it needs as arguments of its command, or in its environment.");
    if (is_new && (!table.contains("endings") || !table.contains("command"))) {
      Names languages;
      for (const script::Interpreter& other : known) languages.push_back(other.language);
      Facts facts = {{"language", language}, {"languages", text::listed(languages)}};
      if (const auto near = text::nearest(language, languages)) facts.emplace_back("nearest", *near);
      add(Code::settings_interpreter_incomplete, std::move(facts), language_key.source());
    }
    if (is_new) {
      known.push_back(std::move(interpreter));
    } else {
      *found = std::move(interpreter);
    }
  }

  std::string take_endings(const toml::node& node, const std::string& language) {
    std::string out;
    for (const auto& [ending, item] : take_texts(node, "endings")) {
      if (!ending.starts_with('.') || ending.size() < 2 || ending.find_first_of(" /") != ending.npos) {
        bad_value(*item, "The ending \"" + ending + "\"", "does not begin with a dot or holds a space or slash",
                  "Write it as \".pl\".");
        continue;
      }
      const auto* const other = script::interpreter_for(*languages_, "x" + ending);
      if (other != nullptr && !http::same_name(other->language, language))
        add(Code::settings_ending_twice, {{"ending", ending}, {"language", other->language}}, item->source());
      out += (out.empty() ? "" : " ") + ending;
    }
    return out;
  }

  void take_command(const toml::node& node, script::Interpreter& interpreter) {
    Names words;
    for (const auto& [word, item] : take_texts(node, "command")) words.push_back(word);
    if (words.empty() || words.front().empty() || std::any_of(words.begin(), words.end(), has_control)) {
      if (node.is_string() || node.is_array())
        bad_value(node, "command", "names no program",
                  "Write the program, or a list of it and its arguments: [\"perl\", \"-w\"]");
      return;
    }
    interpreter.program = words.front();
    // A relative path of a program starts from the file, as all paths do; a bare name is looked for in PATH.
    if (interpreter.program.find('/') != std::string::npos) interpreter.program = absolute(interpreter.program);
    interpreter.arguments.assign(words.begin() + 1, words.end());
  }

  /// Where persistent interpreters that others have started are reached.
  Names take_external(const toml::node& node, const std::string& name) {
    Names out;
    for (const auto& [written, item] : take_texts(node, name)) {
      if (script::parse_external(written)) {
        out.push_back(written);
      } else {
        bad_value(*item, "The external server \"" + text::escape_line(written) + "\"",
                  "is neither the path of a socket nor a host with a port",
                  "Write it as \"unix:/run/php/php-fpm.sock\" or \"192.0.2.7:9000\".");
      }
    }
    return out;
  }

  void read_directives(const toml::table& table, script::Interpreter& interpreter) {
    for (const auto& [key, node] : table) {
      const std::string name(key.str());
      std::string value;
      if (const auto* const number = node.as_integer()) {
        value = std::to_string(number->get());
      } else if (const auto* const truth = node.as_boolean()) {
        value = truth->get() ? "1" : "0";
      } else if (const auto* const list = node.as_array(); list != nullptr && !list->empty()) {
        // Such as extension, which php.ini may hold several times.
        std::erase_if(interpreter.directives, [&](const auto& other) { return other.first == name; });
        for (const auto& [one, item] : take_texts(node, name)) {
          if (has_control(one))
            bad_value(*item, name, "holds a line break or another control character", "Write it in one line.");
          interpreter.directives.emplace_back(name, one);
        }
        continue;
      } else if (const auto* const text = take<std::string>(node, name, "a string, a number, true, false, or a list")) {
        value = text->get();
      } else {
        continue;
      }
      if (name.find_first_not_of("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.-") != name.npos ||
          name.empty()) {
        bad_value(key.source(), "The directive \"" + text::escape_line(name) + "\"", "is none that a php.ini can hold",
                  "Write its name as \"upload_max_filesize\".");
      } else if (has_control(value)) {
        bad_value(node, name, "holds a line break or another control character", "Write it in one line.");
      } else {
        std::erase_if(interpreter.directives, [&](const auto& other) { return other.first == name; });
        interpreter.directives.emplace_back(name, value);
      }
    }
  }

  void read_limits(const toml::table& table) {
    each_limit(table, "[limits]", limit_keys(false),
               [this](const LimitRow& row, std::uint64_t value) { set_limit(read_.settings.limits, row.name, value); });
  }
  void read_run_limits(const toml::table& table, script::Interpreter& interpreter) {
    each_limit(table, "the limits of an interpreter", limit_keys(true),
               [&](const LimitRow& row, std::uint64_t value) { interpreter.limits.emplace_back(row.name, value); });
  }

  void each_limit(const toml::table& table, const std::string& where, const Names& names,
                  const std::function<void(const LimitRow&, std::uint64_t)>& set) {
    for (const auto& [key, node] : table) {
      const std::string name(key.str());
      if (!contains(names, name)) {
        unknown_key(key, where, names);
        continue;
      }
      const auto& rows = limit_rows();
      const LimitRow& row =
          *std::find_if(rows.begin(), rows.end(), [&](const LimitRow& candidate) { return candidate.name == name; });
      if (const auto value = take_number(node, name, row.unit, row.least, row.most)) set(row, *value);
    }
  }

  void take_access_log(const toml::node& node, const std::string& name, AccessLog& log) {
    const auto* const path = take<std::string>(node, name, "the path of a file");
    if (path == nullptr) return;
    log.file = absolute(path->get());
    struct stat info {};
    const std::string folder(files::folder_of(log.file));
    if (path->get().empty() || has_control(path->get())) {
      bad_value(node, name, "is empty or holds a control character",
                "Write the path of a file, such as \"access.log\".");
    } else if (::stat(folder.c_str(), &info) != 0 || !S_ISDIR(info.st_mode)) {
      add(Code::settings_folder_missing,
          {{"key", name}, {"folder", folder}, {"folder_quoted", text::shell_word(folder)}}, node.source());
    }
  }

  /// The address of the console, which is of this computer alone; nullopt: there is to be none.
  std::optional<Address> take_console(const toml::node& node, const std::string& name) {
    if (const auto* const wanted = node.as_boolean()) {
      if (!wanted->get()) return std::nullopt;
      return Address{Address::Reach::this_computer, {}, kConsolePort};
    }
    if (!node.is_string() && !node.is_integer()) {
      wrong_type(node, name, "an address of this computer, such as \"localhost:8079\", or false");
      return std::nullopt;
    }
    const auto addresses = take_addresses(node, name);
    if (addresses.empty()) return std::nullopt;
    const Address& address = addresses.front();
    if (!address.is_local())
      bad_value(node, "The address of the console", "would let other computers in, and the console steers this one",
                "Write an address of this computer: \"localhost:8079\"");
    return address;
  }

  /// The address of the metrics, which is of this computer alone; nullopt: there is to be none.
  std::optional<Address> take_metrics(const toml::node& node, const std::string& name) {
    if (const auto* const wanted = node.as_boolean(); wanted != nullptr && !wanted->get()) return std::nullopt;
    const auto addresses = take_addresses(node, name);
    if (addresses.empty()) return std::nullopt;
    if (!addresses.front().is_local())
      bad_value(node, "The address of the metrics", "would let other computers in, and they are read without a key",
                "Write an address of this computer: \"localhost:8077\"");
    return addresses.front();
  }

  void take_log_format(const toml::node& node, const std::string& name, AccessLog& log) {
    const auto* const format = take<std::string>(node, name, "\"combined\", \"common\" or \"json\"");
    if (format == nullptr) return;
    if (format->get() == "combined") {
      log.format = AccessLog::Format::combined;
    } else if (format->get() == "common") {
      log.format = AccessLog::Format::common;
    } else if (format->get() == "json") {
      log.format = AccessLog::Format::json;
    } else {
      bad_value(node, name, "is neither \"combined\" nor \"common\" nor \"json\"", "Write one of the three.");
    }
  }

  /// A number from `least` to `most`, or also a size where it counts bytes.
  std::optional<std::uint64_t> take_number(const toml::node& node, const std::string& name, LimitRow::Unit unit,
                                           std::uint64_t least, std::uint64_t most) {
    std::optional<std::uint64_t> value;
    if (const auto* const number = node.as_integer(); number != nullptr && number->get() >= 0)
      value = static_cast<std::uint64_t>(number->get());
    const auto* const text = node.as_string();
    if (text != nullptr && unit == LimitRow::Unit::bytes) value = read_size(text->get());
    if (value && *value >= least && *value <= most) return value;
    if (!node.is_integer() && text == nullptr) {
      wrong_type(node, name,
                 unit == LimitRow::Unit::bytes ? "a number of bytes, or a size such as \"64 MiB\"" : "a number");
      return std::nullopt;
    }
    if (const auto advice = text == nullptr || value ? std::nullopt : advice_for(text->get(), unit)) {
      bad_value(node, name, "is \"" + text::escape_line(text->get()) + "\"", *advice);
      return std::nullopt;
    }
    // Told as settings would write it.
    const auto told = [unit](std::uint64_t limit) {
      return unit == LimitRow::Unit::bytes ? text::format_limit(limit) : std::to_string(limit);
    };
    add(Code::settings_limit_range,
        {{"key", name},
         {"least", told(least)},
         {"most", told(most)},
         {"unit", unit == LimitRow::Unit::seconds ? " seconds" : ""}},
        node.source());
    return std::nullopt;
  }

  void take_languages(const toml::node& node, const std::string& name, Site& site) {
    site.interpreters.emplace();
    for (const auto& [language, item] : take_texts(node, name)) {
      site.interpreters->push_back(language);
      named_languages_.emplace_back(language, item);
    }
  }

  /// The languages that sites allow must be known; interpreters may stand below the sites in the file.
  void check_languages() {
    Names known = {"compiled"};
    for (const script::Interpreter& interpreter : read_.settings.interpreters) known.push_back(interpreter.language);
    for (const auto& [language, node] : named_languages_) {
      if (contains(known, language)) continue;
      Facts facts = {{"language", language}, {"languages", text::listed(known)}};
      if (const auto near = text::nearest(language, known)) facts.emplace_back("nearest", *near);
      add(Code::settings_language_unknown, std::move(facts), node->source());
    }
  }

  void check_hosts() {
    const auto& sites = read_.settings.sites;
    for (const Listener& listener : read_.settings.listeners()) {
      std::unordered_map<std::string, std::size_t> seen;
      for (const std::size_t index : listener.sites) {
        for (const std::string& host : sites[index].hosts) {
          const auto [first, is_new] = seen.try_emplace(host, index);
          if (!is_new && first->second != index) {
            add(Code::settings_host_twice,
                {{"host", host},
                 {"address", listener.address.text()},
                 {"site", sites[index].name},
                 {"other", sites[first->second].name}},
                host_places_[index]);
          }
        }
      }
    }
  }

  SettingsRead read_;
  std::vector<script::Interpreter>* languages_ = nullptr;  ///< Those that an interpreter's table adds to.
  std::vector<toml::source_region> host_places_;           ///< For each site, where its hosts stand.
  std::vector<std::pair<std::string, const toml::node*>> named_languages_;
};

// Each of these is all there is about a key: its name, and where its value goes.

const Reader::Keys<Settings>& Reader::top_keys() {
  static const Keys<Settings> kKeys = {
      {"addresses", [](Reader& reader, const toml::node& node, const std::string& name,
                       Settings& in) { in.addresses = reader.take_addresses(node, name); }},
      {"console", [](Reader& reader, const toml::node& node, const std::string& name,
                     Settings& in) { in.console = reader.take_console(node, name); }},
      {"metrics", [](Reader& reader, const toml::node& node, const std::string& name,
                     Settings& in) { in.metrics = reader.take_metrics(node, name); }},
      // Sites stand in the order in which they are written, which decides who comes first at an address.
      {"site", [](Reader& reader, const toml::node& node, const std::string&, Settings&) { reader.read_sites(node); }},
      // Before the sites, as the order of a table's keys has it, which may each run a language in another way.
      {"interpreter", [](Reader& reader, const toml::node& node, const std::string& name,
                         Settings& in) { reader.read_interpreters(node, name, in.interpreters); }},
      {"limits",
       [](Reader& reader, const toml::node& node, const std::string& name, Settings&) {
         if (const auto* const table = reader.take_table(node, name)) reader.read_limits(*table);
       }},
      {"media-types",
       [](Reader& reader, const toml::node& node, const std::string& name, Settings& in) {
         if (const auto* const table = reader.take_table(node, name)) reader.read_media_types(*table, in);
       }},
      {"log",
       [](Reader& reader, const toml::node& node, const std::string& name, Settings& in) {
         if (const auto* const table = reader.take_table(node, name))
           reader.read_table(*table, "[log]", log_keys(), in.access_log);
       }},
      {"exchanges",
       [](Reader& reader, const toml::node& node, const std::string& name, Settings& in) {
         if (const auto* const table = reader.take_table(node, name))
           reader.read_table(*table, "[exchanges]", exchange_keys(), in.exchanges);
       }},
  };
  return kKeys;
}

const Reader::Keys<Reader::SiteDraft>& Reader::site_keys() {
  static const Keys<SiteDraft> kKeys = {
      {"hosts", [](Reader& reader, const toml::node& node, const std::string&,
                   SiteDraft& in) { in.site.hosts = reader.take_hosts(node); }},
      {"document-root", [](Reader&, const toml::node& node, const std::string&, SiteDraft& in) { in.root = &node; }},
      {"addresses", [](Reader& reader, const toml::node& node, const std::string& name,
                       SiteDraft& in) { in.site.addresses = reader.take_addresses(node, name); }},
      {"index-files", [](Reader& reader, const toml::node& node, const std::string& name,
                         SiteDraft& in) { in.site.index_files = reader.take_names(node, name); }},
      {"listing", take_flag_of_site<&Site::listing>},
      {"script-folders", [](Reader& reader, const toml::node& node, const std::string& name,
                            SiteDraft& in) { in.site.script_folders = reader.take_names(node, name); }},
      {"interpreter",
       [](Reader& reader, const toml::node& node, const std::string&, SiteDraft& in) {
         in.site.own_languages = reader.read_.settings.interpreters;
         reader.read_interpreters(node, "site." + in.site.name + ".interpreter", in.site.own_languages);
       }},
      {"interpreters", [](Reader& reader, const toml::node& node, const std::string& name,
                          SiteDraft& in) { reader.take_languages(node, name, in.site); }},
      {"hidden-files-shown", [](Reader& reader, const toml::node& node, const std::string& name,
                                SiteDraft& in) { in.site.hidden_files_shown = reader.take_names(node, name); }},
      {"forbidden",
       [](Reader& reader, const toml::node& node, const std::string& name, SiteDraft& in) {
         for (const auto& [pattern, item] : reader.take_texts(node, name)) {
           if (pattern.find_first_not_of('/') == pattern.npos || has_control(pattern))
             reader.bad_value(*item, "The pattern \"" + text::escape_line(pattern) + "\"", "forbids nothing",
                              "Write a folder as \"data/\", and files as \"*.inc\" or \"app/config.php\".");
           in.site.forbidden.push_back(pattern);
         }
       }},
      {"fallback", [](Reader&, const toml::node& node, const std::string&, SiteDraft& in) { in.fallback = &node; }},
      {"fallbacks", [](Reader& reader, const toml::node& node, const std::string& name,
                       SiteDraft& in) { in.fallbacks = reader.take_table(node, name); }},
      {"linked-folders",
       [](Reader& reader, const toml::node& node, const std::string& name, SiteDraft& in) {
         for (const auto& [folder, item] : reader.take_texts(node, name))
           if (std::string real = reader.take_folder(*item, name, folder); !real.empty())
             in.site.linked_folders.push_back(std::move(real));
       }},
      {"time-limits", take_flag_of_site<&Site::has_time_limits>},
      {"leave-running", take_flag_of_site<&Site::leaves_running>},
      {"show-warnings",
       [](Reader& reader, const toml::node& node, const std::string& name, SiteDraft& in) {
         take_flag_of_site<&Site::shows_warnings>(reader, node, name, in);
         if (in.site.shows_warnings) in.warnings = &node;
       }},
      {"response-headers",
       [](Reader& reader, const toml::node& node, const std::string& name, SiteDraft& in) {
         if (const auto* const table = reader.take_table(node, name)) reader.read_response_headers(*table, in.site);
       }},
      {"problem-pages", [](Reader& reader, const toml::node& node, const std::string& name,
                           SiteDraft& in) { in.pages = reader.take_table(node, name); }},
      {"environment",
       [](Reader& reader, const toml::node& node, const std::string& name, SiteDraft& in) {
         if (const auto* const table = reader.take_table(node, name))
           in.site.environment = reader.take_environment(*table);
       }},
      {"mounts",
       [](Reader& reader, const toml::node& node, const std::string& name, SiteDraft& in) {
         if (const auto* const table = reader.take_table(node, name)) reader.read_mounts(*table, in.site);
       }},
  };
  return kKeys;
}

const Reader::Keys<Reader::MountDraft>& Reader::mount_keys() {
  static const Keys<MountDraft> kKeys = {
      {"target", [](Reader&, const toml::node& node, const std::string&, MountDraft& in) { in.target = &node; }},
      {"persistent", take_flag<MountDraft, &MountDraft::is_persistent>},
      {"processes",
       [](Reader& reader, const toml::node& node, const std::string& name, MountDraft& in) {
         constexpr std::uint64_t kMost = 1000;
         if (const auto value = reader.take_number(node, name, LimitRow::Unit::count, 1, kMost)) in.processes = *value;
       }},
  };
  return kKeys;
}

const Reader::Keys<script::Interpreter>& Reader::interpreter_keys() {
  using script::Interpreter;
  static const Keys<Interpreter> kKeys = {
      {"endings", [](Reader& reader, const toml::node& node, const std::string&,
                     Interpreter& in) { in.endings = reader.take_endings(node, in.language); }},
      {"command", [](Reader& reader, const toml::node& node, const std::string&,
                     Interpreter& in) { reader.take_command(node, in); }},
      {"anywhere",
       [](Reader& reader, const toml::node& node, const std::string& name, Interpreter& in) {
         if (const auto* const value = reader.take<bool>(node, name, "true or false"))
           in.where = value->get() ? Interpreter::Where::anywhere : Interpreter::Where::script_folder;
       }},
      {"environment",
       [](Reader& reader, const toml::node& node, const std::string& name, Interpreter& in) {
         if (const auto* const table = reader.take_table(node, name)) in.environment = reader.take_environment(*table);
       }},
      {"limits",
       [](Reader& reader, const toml::node& node, const std::string& name, Interpreter& in) {
         if (const auto* const table = reader.take_table(node, name)) reader.read_run_limits(*table, in);
       }},
      {"persistent",
       [](Reader& reader, const toml::node& node, const std::string& name, Interpreter& in) {
         if (const auto* const value = reader.take<bool>(node, name, "true or false"))
           in.persistence.is_wanted = value->get();
       }},
      {"processes",
       [](Reader& reader, const toml::node& node, const std::string& name, Interpreter& in) {
         constexpr std::uint64_t kMost = 1000;
         if (const auto value = reader.take_number(node, name, LimitRow::Unit::count, 1, kMost))
           in.persistence.processes = *value;
       }},
      {"runs-each",
       [](Reader& reader, const toml::node& node, const std::string& name, Interpreter& in) {
         constexpr std::uint64_t kMost = 1000000000;
         if (const auto value = reader.take_number(node, name, LimitRow::Unit::count, 1, kMost))
           in.persistence.runs_each = *value;
       }},
      {"idle-time",
       [](Reader& reader, const toml::node& node, const std::string& name, Interpreter& in) {
         constexpr std::uint64_t kMost = 86400;
         if (const auto value = reader.take_number(node, name, LimitRow::Unit::seconds, 1, kMost))
           in.persistence.idle_time = std::chrono::seconds(*value);
       }},
      {"external", [](Reader& reader, const toml::node& node, const std::string& name,
                      Interpreter& in) { in.persistence.external = reader.take_external(node, name); }},
      {"settings",
       [](Reader& reader, const toml::node& node, const std::string& name, Interpreter& in) {
         if (const auto* const table = reader.take_table(node, name)) reader.read_directives(*table, in);
       }},
  };
  return kKeys;
}

const Reader::Keys<ExchangeKeeping>& Reader::exchange_keys() {
  static const Keys<ExchangeKeeping> kKeys = {
      {"keep", take_flag<ExchangeKeeping, &ExchangeKeeping::keep>},
      {"memory",
       [](Reader& reader, const toml::node& node, const std::string& name, ExchangeKeeping& in) {
         constexpr std::uint64_t kLeast = 1024 * 1024;
         constexpr std::uint64_t kMost = 16ULL << 30;
         if (const auto value = reader.take_number(node, name, LimitRow::Unit::bytes, kLeast, kMost))
           in.memory = *value;
       }},
      {"body",
       [](Reader& reader, const toml::node& node, const std::string& name, ExchangeKeeping& in) {
         constexpr std::uint64_t kMost = 1ULL << 30;
         if (const auto value = reader.take_number(node, name, LimitRow::Unit::bytes, 0, kMost)) in.body = *value;
       }},
  };
  return kKeys;
}

const Reader::Keys<AccessLog>& Reader::log_keys() {
  static const Keys<AccessLog> kKeys = {
      {"access", [](Reader& reader, const toml::node& node, const std::string& name,
                    AccessLog& in) { reader.take_access_log(node, name, in); }},
      {"format", [](Reader& reader, const toml::node& node, const std::string& name,
                    AccessLog& in) { reader.take_log_format(node, name, in); }},
      {"largest",
       [](Reader& reader, const toml::node& node, const std::string& name, AccessLog& in) {
         constexpr std::uint64_t kLeast = 4096;
         constexpr std::uint64_t kMost = 1ULL << 40;
         if (const auto value = reader.take_number(node, name, LimitRow::Unit::bytes, kLeast, kMost))
           in.largest = *value;
       }},
      {"older",
       [](Reader& reader, const toml::node& node, const std::string& name, AccessLog& in) {
         constexpr std::uint64_t kMost = 100;
         if (const auto value = reader.take_number(node, name, LimitRow::Unit::count, 0, kMost)) in.older = *value;
       }},
  };
  return kKeys;
}

Names Reader::all_keys() {
  Names out;
  const auto add = [&out](const std::string& table, const Names& keys) {
    for (const std::string& key : keys) out.push_back(table + "." + key);
  };
  // The other keys of the top are tables.
  out.emplace_back("addresses");
  out.emplace_back("media-types");
  add("site.NAME", names_of(site_keys()));
  add("interpreter.NAME", names_of(interpreter_keys()));
  add("limits", limit_keys(false));
  add("log", names_of(log_keys()));
  add("exchanges", names_of(exchange_keys()));
  return out;
}

SettingsRead unreadable(const std::string& file, Code code, std::vector<Fact> facts) {
  facts.emplace_back("file", file);
  facts.emplace_back("file_quoted", text::shell_word(file));
  SettingsRead out;
  out.settings.file = file;
  out.problems.push_back({{code, std::move(facts)}, file, 0, 0, {}});
  return out;
}

SettingsRead unreadable(const std::string& file, int error) {
  if (!files::is_lack_of_resources({error}))
    return unreadable(file, Code::settings_unreadable, {{"reason", files::describe({error})}});
  SettingsRead out;
  out.settings.file = file;
  out.problems.push_back({out_of_resources("read the settings", error), file, 0, 0, {}});
  return out;
}

}  // namespace

SettingsRead read_settings(std::string_view text, const std::string& file, const std::string& home) {
  return Reader(text, file, home).run();
}

SettingsRead load_settings(const std::string& file, const std::string& home) {
  const files::Descriptor open(::open(file.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
  if (!open.is_open() && errno == ENOENT) return read_settings("", file, home);
  if (!open.is_open()) return unreadable(file, errno);
  struct stat info {};
  if (::fstat(open.get(), &info) != 0 || !S_ISREG(info.st_mode))
    return unreadable(file, Code::settings_not_a_file,
                      {{"kind", S_ISDIR(info.st_mode) ? "a folder" : "no ordinary file"}});
  std::string text;
  std::array<char, 65536> buffer{};
  for (;;) {
    const ssize_t got = ::read(open.get(), buffer.data(), buffer.size());
    if (got < 0 && errno == EINTR) continue;
    if (got < 0) return unreadable(file, errno);
    if (got == 0) break;
    text.append(buffer.data(), static_cast<std::size_t>(got));
    if (text.size() > kMostBytes)
      return unreadable(file, Code::settings_too_large, {{"limit", text::format_limit(kMostBytes)}});
  }
  SettingsRead read = read_settings(text, file, home);
  read.text = std::move(text);
  return read;
}

std::string text_of(const SettingsProblem& problem) {
  std::string out = text::escape_line(problem.file);
  if (problem.line > 0) out += ":" + std::to_string(problem.line) + ":" + std::to_string(problem.column);
  out += (out.empty() ? "" : ": ") + text::escape_line(sentence_of(problem.finding)) + "\n";
  if (problem.line > 0) {
    std::string source = problem.source;
    std::replace(source.begin(), source.end(), '\t', ' ');
    const std::string number = std::to_string(problem.line);
    out += "  " + number + " | " + text::escape_line(source) + "\n";
    out += "  " + std::string(number.size(), ' ') + " | " +
           std::string(problem.column > 0 ? problem.column - 1 : 0, ' ') + "^\n";
  }
  return out + "  What to do: " + text::escape_lines(remedy_of(problem.finding), "    ") + "\n";
}

std::vector<std::string> settings_keys() { return Reader::all_keys(); }

}  // namespace porter
