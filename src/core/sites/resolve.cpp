// The way from a path to what it leads to: the deepest entry that exists is looked up, then judged by what it is and by
// what of the path is left behind it.
#include "core/sites/resolve.hpp"

#include <dirent.h>
#include <fcntl.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <memory>
#include <optional>

#include "core/files/beneath.hpp"
#include "core/files/paths.hpp"
#include "core/script/interpreters.hpp"
#include "core/text/text.hpp"

namespace porter::sites {
namespace {

using files::Descriptor;
using files::Folder;
using files::SystemError;

constexpr std::size_t kMostNamesToCompare = 20000;

std::vector<std::string> split(std::string_view path) {
  std::vector<std::string> out;
  while (!path.empty()) {
    const std::size_t slash = std::min(path.find('/'), path.size());
    if (slash > 0) out.emplace_back(path.substr(0, slash));
    path.remove_prefix(std::min(slash + 1, path.size()));
  }
  return out;
}

std::string joined(const std::vector<std::string>& parts, std::size_t from, std::size_t to) {
  std::string out;
  for (std::size_t i = from; i < to; ++i) {
    if (i > from) out += '/';
    out += parts[i];
  }
  return out;
}

bool contains(const std::vector<std::string>& names, std::string_view name) {
  return std::find(names.begin(), names.end(), name) != names.end();
}

std::string kind_name(mode_t mode) {
  if (S_ISFIFO(mode)) return "named pipe";
  if (S_ISSOCK(mode)) return "socket";
  if (S_ISCHR(mode) || S_ISBLK(mode)) return "device";
  return "special file";
}

std::string permissions(mode_t mode) {
  constexpr std::string_view kLetters = "rwxrwxrwx";
  std::string out(kLetters);
  for (std::size_t i = 0; i < kLetters.size(); ++i)
    if ((mode & (0400U >> i)) == 0) out[i] = '-';
  return out;
}

std::vector<std::string> names_in(const Site& site, const Descriptor& folder) {
  std::vector<std::string> names;
  const int copy = ::openat(folder.get(), ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  if (copy < 0) return names;
  DIR* const open = ::fdopendir(copy);
  if (open == nullptr) {
    ::close(copy);
    return names;
  }
  const std::unique_ptr<DIR, int (*)(DIR*)> directory(open, ::closedir);
  while (const dirent* const entry = ::readdir(directory.get())) {
    if (!is_hidden(site, entry->d_name) && !is_backup(entry->d_name)) names.emplace_back(entry->d_name);
    if (names.size() == kMostNamesToCompare) break;
  }
  std::sort(names.begin(), names.end());
  return names;
}

/// One resolution in the making.
class Resolver {
 public:
  Resolver(const Settings& settings, const Site& site, const Asked& asked)
      : settings_(settings),
        site_(site),
        asked_(asked),
        parts_(split(asked.target.path)),
        trailing_slash_(asked.target.path.ends_with('/')),
        root_path_(site.document_root) {}

  Resolution run() {
    Outcome outcome = decide();
    if (const auto* const finding = std::get_if<Finding>(&outcome)) say(sentence_of(*finding));
    return {std::move(outcome), std::move(trail_)};
  }

 private:
  void say(std::string step) { trail_.push_back(std::move(step)); }

  /// The path on disk of the first `count` parts.
  std::string disk_path(std::size_t count) const {
    return count <= skip_ ? root_path_ : root_path_ + "/" + joined(parts_, skip_, count);
  }
  std::variant<Descriptor, SystemError> open_parts(std::size_t count, int flags) const {
    return root_->open_beneath(joined(parts_, skip_, count), flags);
  }
  /// Looks up the first `count` parts, and notes whether links were met.
  std::variant<Descriptor, SystemError> look_up(std::size_t count) {
    const std::string relative = joined(parts_, skip_, count);
    auto found = root_->open_without_links(relative, O_PATH);
    const auto* const error = std::get_if<SystemError>(&found);
    if (error == nullptr || error->number != ELOOP) return found;
    may_be_linked_ = true;
    return root_->open_beneath(relative, O_PATH);
  }
  std::string url_path(std::size_t count) const { return http::percent_encode_path("/" + joined(parts_, 0, count)); }
  Finding finding(Code code, std::vector<Fact> facts) const {
    facts.emplace_back("target", asked_.target.raw_path);
    return {code, std::move(facts)};
  }

  Outcome decide() {
    say("The site is \"" + site_.name + "\", and its document root is " + site_.document_root + ".");
    if (const Mount* const mount = find_mount()) {
      struct stat info {};
      skip_ = split(mount->path).size();
      root_path_ = mount->target;
      say("Below its path " + mount->path + " it shows " + mount->target + ".");
      if (::stat(mount->target.c_str(), &info) == 0 && !S_ISDIR(info.st_mode)) return judge_mounted_file(info);
    }
    auto root = Folder::open(root_path_);
    if (const auto* const error = std::get_if<SystemError>(&root)) return root_gone(*error);
    root_ = std::move(std::get<Folder>(root));
    for (std::size_t count = parts_.size();; --count) {
      auto opened = look_up(count);
      if (auto* const entry = std::get_if<Descriptor>(&opened)) return judge_entry(std::move(*entry), count);
      const int error = std::get<SystemError>(opened).number;
      if (error == EXDEV || error == ELOOP)
        return finding(Code::outside_root, {{"root", root_path_}, {"file", disk_path(count)}});
      if (error == EACCES) return closed_folder(count);
      if (error != ENOENT && error != ENOTDIR && error != ENAMETOOLONG)
        return finding(Code::file_vanished, {{"file", disk_path(count)}, {"reason", describe(SystemError{error})}});
      if (count == skip_) return root_gone(SystemError{error});
    }
  }

  Finding root_gone(SystemError error) const {
    return finding(Code::document_root_gone,
                   {{"root", root_path_}, {"root_quoted", text::shell_word(root_path_)}, {"reason", describe(error)}});
  }

  /// The mount with the longest path that the asked one begins with.
  const Mount* find_mount() const {
    const Mount* found = nullptr;
    std::size_t longest = 0;
    for (const Mount& mount : site_.mounts) {
      const auto parts = split(mount.path);
      if (parts.size() <= longest || parts.size() > parts_.size()) continue;
      if (!std::equal(parts.begin(), parts.end(), parts_.begin())) continue;
      found = &mount;
      longest = parts.size();
    }
    return found;
  }

  /// A mount of one file: what of the path is left is for the script that it may be.
  Outcome judge_mounted_file(const struct stat& info) {
    auto folder = Folder::open(files::folder_of(root_path_).empty() ? "/" : std::string(files::folder_of(root_path_)));
    if (const auto* const error = std::get_if<SystemError>(&folder)) return root_gone(*error);
    root_ = std::move(std::get<Folder>(folder));
    info_ = info;
    const std::string name(files::base_name(root_path_));
    const script::Interpreter* const interpreter = script::interpreter_for(settings_.interpreters, name);
    if (interpreter != nullptr && interpreter->where == script::Interpreter::Where::anywhere)
      return interpreted(*interpreter, skip_);
    if ((info.st_mode & 0111) != 0 || interpreter != nullptr) return run_directly(name, interpreter, skip_);
    if (skip_ < parts_.size() || trailing_slash_)
      return finding(Code::not_a_folder, {{"file", root_path_}, {"url", url_path(skip_)}});
    if (auto refused = refuse_method("file")) return std::move(*refused);
    return open_file(name, skip_);
  }

  /// The deepest entry that exists: the first `count` parts lead to it.
  Outcome judge_entry(Descriptor entry, std::size_t count) {
    for (std::size_t i = skip_; i < count; ++i)
      if (is_hidden(site_, parts_[i])) return hidden(i + 1);
    struct stat info {};
    if (::fstat(entry.get(), &info) != 0)
      return finding(Code::file_vanished, {{"file", disk_path(count)}, {"reason", describe(SystemError{errno})}});
    if (S_ISDIR(info.st_mode)) return judge_folder(entry, count);
    if (!S_ISREG(info.st_mode))
      return finding(Code::special_file, {{"file", disk_path(count)},
                                          {"file_quoted", text::shell_word(disk_path(count))},
                                          {"kind", kind_name(info.st_mode)}});
    return judge_file(entry, info, count);
  }

  Outcome judge_folder(const Descriptor& folder, std::size_t count) {
    if (count < parts_.size()) return nothing_there(folder, count);
    if (!trailing_slash_) {
      say(asked_.target.raw_path + " is a folder, and a folder's URL ends in a slash, so that links in its page work.");
      std::string location = url_path(count) + "/";
      if (asked_.target.has_query) location += "?" + asked_.target.query;
      return Redirect{301, std::move(location)};
    }
    say(disk_path(count) + " is a folder.");
    for (const std::string& name : site_.index_files) {
      const std::string relative = joined(parts_, skip_, count) + (count > skip_ ? "/" : "") + name;
      auto opened = root_->open_beneath(relative, O_PATH);
      auto* const index = std::get_if<Descriptor>(&opened);
      struct stat info {};
      if (index == nullptr || ::fstat(index->get(), &info) != 0 || !S_ISREG(info.st_mode)) continue;
      say("Its index file is " + name + ".");
      parts_.push_back(name);
      trailing_slash_ = false;
      may_be_linked_ = true;
      stands_first_ = name == site_.index_files.front();
      return judge_file(*index, info, count + 1);
    }
    const std::string names = text::listed(site_.index_files);
    if (!site_.listing) return finding(Code::no_index, {{"folder", disk_path(count)}, {"names", names}});
    if (auto refused = refuse_method("folder")) return std::move(*refused);
    say("It has none of the index files (" + names + "), so its entries are listed.");
    return FolderFound{disk_path(count), in_script_folder(count + 1), mounts_below(count)};
  }

  /// The names of the mounts right below the first `count` parts.
  std::vector<std::string> mounts_below(std::size_t count) const {
    std::vector<std::string> names;
    for (const Mount& mount : site_.mounts) {
      const auto parts = split(mount.path);
      if (parts.size() == count + 1 && std::equal(parts.begin(), parts.end() - 1, parts_.begin()))
        names.push_back(parts.back());
    }
    return names;
  }

  Outcome judge_file(const Descriptor& entry, const struct stat& info, std::size_t count) {
    const std::string path = disk_path(count);
    const std::string real = may_be_linked_ ? files::path_of(entry) : path;
    const std::string& name = parts_[count - 1];
    info_ = info;
    if (is_backup(name)) return finding(Code::backup_file, {{"file", path}, {"file_quoted", text::shell_word(path)}});
    // A link must not show by another name what would be run by its own, so the real place and name count too.
    const script::Interpreter* interpreter = script::interpreter_for(settings_.interpreters, name);
    if (interpreter == nullptr && files::base_name(real) != name)
      interpreter = script::interpreter_for(settings_.interpreters, files::base_name(real));
    const bool runs_here = in_script_folder(count) || really_in_script_folder(real);
    if (interpreter != nullptr && interpreter->where == script::Interpreter::Where::anywhere)
      return interpreted(*interpreter, count);
    if (runs_here) say(path + " lies in a script folder, so it is run and not shown.");
    if (runs_here || answers_for_nothing_) return run_directly(joined(parts_, skip_, count), interpreter, count);
    if (interpreter != nullptr && interpreter->where == script::Interpreter::Where::script_folder) {
      const std::string folder = site_.script_folders.empty() ? "cgi-bin" : site_.script_folders.front();
      return finding(Code::script_needs_script_folder,
                     {{"file", path},
                      {"file_quoted", text::shell_word(path)},
                      {"language", interpreter->language},
                      {"folders", folder},
                      {"folder_quoted", text::shell_word(site_.document_root + "/" + folder)}});
    }
    if (count < parts_.size() || trailing_slash_)
      return finding(Code::not_a_folder, {{"file", path}, {"url", url_path(count)}});
    if (auto refused = refuse_method("file")) return std::move(*refused);
    return open_file(joined(parts_, skip_, count), count);
  }

  Outcome open_file(const std::string& relative, std::size_t count) {
    const std::string path = disk_path(count);
    // Without O_NONBLOCK, a named pipe that has taken the file's place meanwhile would hold the server up.
    auto opened = root_->open_beneath(relative, O_RDONLY | O_NONBLOCK | O_NOCTTY);
    if (const auto* const error = std::get_if<SystemError>(&opened)) {
      if (error->number == EACCES) return unreadable(count, "+r");
      return finding(Code::file_vanished, {{"file", path}, {"reason", describe(*error)}});
    }
    FileFound found{std::move(std::get<Descriptor>(opened)), {}, path, stands_first_};
    if (::fstat(found.file.get(), &found.info) != 0 || !S_ISREG(found.info.st_mode))
      return finding(Code::file_vanished, {{"file", path}, {"reason", "something else has taken its place"}});
    say("The file is " + path + ".");
    return found;
  }

  Outcome interpreted(const script::Interpreter& interpreter, std::size_t count) {
    const std::string path = disk_path(count);
    say(path + " is a " + interpreter.language + " script.");
    if (auto refused = refuse_language(interpreter.language, path)) return std::move(*refused);
    std::string program = files::find_program(interpreter.program, settings_.search_path);
    if (program.empty()) {
      Finding missing = finding(Code::interpreter_not_installed,
                                {{"file", path}, {"program", interpreter.program}, {"path", settings_.search_path}});
      if (!interpreter.package.empty()) missing.facts.emplace_back("package", interpreter.package);
      return missing;
    }
    say("It is run by " + program + ".");
    return found_script(count, std::move(program), &interpreter);
  }

  /// Runs the file at `relative` below the open folder: by its own first line, else by its ending.
  Outcome run_directly(const std::string& relative, const script::Interpreter* interpreter, std::size_t count) {
    const std::string path = disk_path(count);
    if ((info_.st_mode & 0111) == 0)
      return finding(Code::script_not_executable,
                     {{"file", path}, {"file_quoted", text::shell_word(path)}, {"mode", permissions(info_.st_mode)}});
    // Whatever it is, it may run, and no ending has a say: the file itself need not be looked at.
    if (interpreter == nullptr && site_.interpreters.empty()) return found_script(count, {}, nullptr);
    const std::string start = start_of(relative);
    const script::FirstLine line = script::read_first_line(start);
    const bool is_program = start.starts_with(
        "\x7f"
        "ELF");
    // A byte-order mark keeps the first line from being recognised, which is a problem to be told and not to be hidden.
    const bool starts_itself = start.starts_with("#!") || is_program || start.starts_with("\xef\xbb\xbf#!");
    if (interpreter != nullptr && !starts_itself) {
      say("It has no first line that names an interpreter, so its ending decides.");
      return interpreted(*interpreter, count);
    }
    const script::Interpreter* const named = script::interpreter_called(settings_.interpreters, line.meant());
    if (auto refused = refuse_language(named == nullptr ? "compiled" : named->language, path))
      return std::move(*refused);
    return found_script(count, {}, nullptr);
  }

  std::optional<Finding> refuse_language(const std::string& language, const std::string& path) const {
    if (site_.interpreters.empty() || contains(site_.interpreters, language)) return std::nullopt;
    return finding(Code::interpreter_not_allowed, {{"file", path},
                                                   {"language", language},
                                                   {"site", site_.name},
                                                   {"languages", text::listed(site_.interpreters)}});
  }

  std::string start_of(const std::string& relative) const {
    auto opened = root_->open_beneath(relative, O_RDONLY | O_NONBLOCK | O_NOCTTY);
    const auto* const file = std::get_if<Descriptor>(&opened);
    std::array<char, 256> bytes{};
    const ssize_t got = file == nullptr ? 0 : ::read(file->get(), bytes.data(), bytes.size());
    return {bytes.data(), static_cast<std::size_t>(std::max<ssize_t>(got, 0))};
  }

  Outcome found_script(std::size_t count, std::string interpreter, const script::Interpreter* rule) const {
    ScriptFound found;
    found.path = disk_path(count);
    found.interpreter = std::move(interpreter);
    found.rule = rule;
    found.info = info_;
    if (answers_for_nothing_) {
      // What was asked for stands in REQUEST_URI; to the script itself no path leads on.
      found.name = "/" + site_.fallback;
      return found;
    }
    // SCRIPT_NAME and PATH_INFO together are the path as it was sent, doubled slashes included (RFC 3875, section 3.3).
    const std::string& path = asked_.target.path;
    std::size_t end = 0;
    for (std::size_t i = 0; i < count && end < path.size(); ++i) {
      while (end < path.size() && path[end] == '/') ++end;
      end = std::min(path.find('/', end), path.size());
    }
    found.name = path.substr(0, end) + (path.ends_with('/') && end == path.size() ? parts_[count - 1] : "");
    found.path_info = path.substr(end);
    return found;
  }

  /// The script that answers in place of what does not exist.
  Outcome fall_back() {
    say("There is nothing at " + asked_.target.raw_path + ", and for that the site has a fallback: " + site_.fallback +
        ".");
    answers_for_nothing_ = true;
    parts_ = split(site_.fallback);
    trailing_slash_ = false;
    auto opened = look_up(parts_.size());
    auto* const entry = std::get_if<Descriptor>(&opened);
    struct stat info {};
    if (entry == nullptr || ::fstat(entry->get(), &info) != 0 || !S_ISREG(info.st_mode))
      return finding(Code::fallback_missing, {{"file", disk_path(parts_.size())}, {"site", site_.name}});
    return judge_file(*entry, info, parts_.size());
  }

  Outcome nothing_there(const Descriptor& folder, std::size_t count) {
    if (!site_.fallback.empty() && skip_ == 0) return fall_back();
    const std::string& missing = parts_[count];
    const std::string_view root_name = files::base_name(site_.document_root);
    const std::string whole = "/" + joined(parts_, 0, parts_.size());
    std::vector<Fact> facts = {{"file", disk_path(parts_.size())}, {"missing", missing}, {"folder", disk_path(count)}};
    const auto root_in_url = [&](const std::string& shown, const std::string& rest) {
      facts.emplace_back("name", shown);
      facts.emplace_back("root", site_.document_root);
      facts.emplace_back("url", rest.empty() ? "/" : http::percent_encode_path(rest) + (trailing_slash_ ? "/" : ""));
      return finding(Code::root_name_in_url, facts);
    };
    if (whole == site_.document_root || whole.starts_with(site_.document_root + "/"))
      return root_in_url(site_.document_root.substr(1), whole.substr(site_.document_root.size()));
    if (count == 0 && skip_ == 0 && http::same_name(missing, root_name))
      return root_in_url(missing, whole.substr(1 + missing.size()));
    say(disk_path(count) + " is a folder, and it has no entry " + missing + ".");
    if (const auto near = text::nearest(missing, names_in(site_, folder))) {
      facts.emplace_back("nearest", *near);
      facts.emplace_back("nearest_url", url_path(count) + http::percent_encode_path((count > 0 ? "/" : "") + *near));
    }
    return finding(Code::path_not_found, std::move(facts));
  }

  Outcome hidden(std::size_t count) {
    const std::string path = disk_path(count);
    std::string plain = parts_[count - 1];
    plain.erase(0, plain.find_first_not_of('.'));
    if (plain.empty()) plain = "visible";
    return finding(Code::hidden_file, {{"file", path},
                                       {"file_quoted", text::shell_word(path)},
                                       {"plain_quoted", text::shell_word(disk_path(count - 1) + "/" + plain)}});
  }

  /// A folder on the way to the first `count` parts may not be entered.
  Outcome closed_folder(std::size_t count) {
    std::size_t closed = skip_;
    for (std::size_t i = skip_ + 1; i <= count; ++i) {
      auto opened = open_parts(i, O_PATH);
      if (std::holds_alternative<SystemError>(opened)) break;
      closed = i;
    }
    return unreadable(closed, "+rx");
  }

  Outcome unreadable(std::size_t count, std::string_view change) {
    const std::string path = disk_path(count);
    struct stat info {};
    const bool known = ::stat(path.c_str(), &info) == 0;
    return finding(Code::unreadable, {{"file", path},
                                      {"file_quoted", text::shell_word(path)},
                                      {"mode", known ? permissions(info.st_mode) : "unknown"},
                                      {"change", "a" + std::string(change)}});
  }

  std::optional<Finding> refuse_method(const std::string& kind) {
    if (asked_.method == "GET" || asked_.method == "HEAD" || asked_.method == "OPTIONS") return std::nullopt;
    return finding(Code::method_not_allowed,
                   {{"method", std::string(asked_.method)}, {"kind", kind}, {"allowed", std::string(kReadingMethods)}});
  }

  /// True if the entry at the end of the first `count` parts lies below a script folder.
  bool in_script_folder(std::size_t count) const {
    if (contains(site_.script_folders, files::base_name(root_path_))) return true;
    for (std::size_t i = 0; i + 1 < count && i < parts_.size(); ++i)
      if (contains(site_.script_folders, parts_[i])) return true;
    return false;
  }

  /// The same for the place where a link leads in the end.
  bool really_in_script_folder(const std::string& real) const {
    if (!real.starts_with(root_path_ + "/")) return false;
    const auto parts = split(std::string_view(real).substr(root_path_.size()));
    return std::any_of(parts.begin(), parts.empty() ? parts.end() : parts.end() - 1,
                       [&](const std::string& part) { return contains(site_.script_folders, part); });
  }

  const Settings& settings_;
  const Site& site_;
  const Asked& asked_;
  std::vector<std::string> parts_;
  bool trailing_slash_ = false;
  bool stands_first_ = true;
  bool may_be_linked_ = false;        ///< A link may lead to the entry, so that its real place is elsewhere.
  bool answers_for_nothing_ = false;  ///< The fallback is looked at.
  struct stat info_ {};               ///< Of the file that is judged.
  std::string root_path_;             ///< The document root, or what is mounted.
  std::size_t skip_ = 0;              ///< How many parts lead to the mount.
  std::optional<Folder> root_;
  std::vector<std::string> trail_;
};

}  // namespace

Resolution resolve(const Settings& settings, const Site& site, const Asked& asked) {
  return Resolver(settings, site, asked).run();
}

bool is_known_method(std::string_view method) {
  constexpr std::array<std::string_view, 7> kKnown = {"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"};
  return std::find(kKnown.begin(), kKnown.end(), method) != kKnown.end();
}

bool would_run(const Settings& settings, std::string_view name, const struct stat& info, bool in_script_folder) {
  if (!S_ISREG(info.st_mode)) return false;
  const script::Interpreter* const interpreter = script::interpreter_for(settings.interpreters, name);
  if (interpreter != nullptr && interpreter->where == script::Interpreter::Where::anywhere) return true;
  return in_script_folder && (info.st_mode & 0111) != 0;
}

bool is_hidden(const Site& site, std::string_view name) {
  return name.starts_with('.') && !contains(site.hidden_files_shown, name) && !contains(site.hidden_files_shown, "*");
}

bool is_backup(std::string_view name) {
  return name.ends_with('~') || name.ends_with(".bak") || name.ends_with(".swp");
}

}  // namespace porter::sites
