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

#include "core/files/paths.hpp"
#include "core/findings/resources.hpp"
#include "core/script/interpreters.hpp"
#include "core/sites/script_places.hpp"
#include "core/sites/shown_names.hpp"
#include "core/text/text.hpp"

namespace porter::sites {
namespace {

using files::Descriptor;
using files::Folder;
using files::SystemError;

/// Looking for a near name is a courtesy: of a very large folder, only so many are looked at.
constexpr std::size_t kMostNamesToCompare = 20000;
/// So many take well below a millisecond.
constexpr std::size_t kFewNames = 300;

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

/// What lies at the end of a path, held open.
struct Entry {
  Descriptor handle;  ///< For looking up only; read through files::reopen().
  struct stat info {};
  std::string path;          ///< On disk, by the names that led to it.
  std::string real;          ///< Where it really lies, without links.
  std::size_t parts = 0;     ///< How many parts of the asked path lead to it.
  std::string name;          ///< The last of the names that led to it.
  bool stands_first = true;  ///< As in FileFound.
  bool is_fallback = false;  ///< It answers for a path that matches nothing.
  bool is_mounted = false;   ///< It is itself what is mounted, by the settings' own word.
  bool is_index = false;     ///< It stands for the folder that was asked for.
};

/// One resolution in the making.
class Resolver {
 public:
  Resolver(const Surroundings& in, const Site& site, const Asked& asked)
      : settings_(in.settings),
        search_path_(in.search_path),
        site_(site),
        asked_(asked),
        parts_(split(asked.target.path)),
        trailing_slash_(asked.target.path.ends_with('/')),
        root_path_(site.document_root) {}

  Resolution run() {
    Outcome outcome = decide();
    if (const auto* const finding = std::get_if<Finding>(&outcome)) say(sentence_of(*finding));
    return {std::move(outcome), std::move(trail_), has_more_names_};
  }

 private:
  void say(std::string step) { trail_.push_back(std::move(step)); }

  /// The path on disk of the first `count` parts.
  std::string disk_path(std::size_t count) const {
    return count <= skip_ ? root_path_ : root_path_ + "/" + joined(parts_, skip_, count);
  }
  std::string url_path(std::size_t count) const { return http::percent_encode_path("/" + joined(parts_, 0, count)); }
  Finding finding(Code code, std::vector<Fact> facts) const {
    facts.emplace_back("target", asked_.target.raw_path);
    return {code, std::move(facts)};
  }

  /// Looks up what lies at `relative` below the root; of a path without links, the real one is known by itself.
  std::variant<Entry, SystemError> look_up(const std::string& relative) const {
    Entry entry;
    auto found = root_->open_without_links(relative, O_PATH);
    const auto* error = std::get_if<SystemError>(&found);
    const bool is_linked = error != nullptr && error->number == ELOOP;
    if (is_linked) {
      found = root_->open_beneath(relative, O_PATH);
      error = std::get_if<SystemError>(&found);
    }
    if (error != nullptr) return *error;
    entry.handle = std::move(std::get<Descriptor>(found));
    if (::fstat(entry.handle.get(), &entry.info) != 0) return SystemError{errno};
    const std::string& root = root_->real_path();
    entry.real = is_linked          ? files::path_of(entry.handle)
                 : relative.empty() ? root
                                    : (root == "/" ? "" : root) + "/" + relative;
    if (entry.real.empty()) return SystemError{ENOENT};
    return entry;
  }
  /// The same for the first `count` parts of the asked path.
  std::variant<Entry, SystemError> look_up_parts(std::size_t count) const {
    auto found = look_up(joined(parts_, skip_, count));
    if (auto* const entry = std::get_if<Entry>(&found)) {
      entry->path = disk_path(count);
      entry->parts = count;
      entry->name = count > skip_ ? parts_[count - 1] : std::string(files::base_name(root_path_));
    }
    return found;
  }

  /// The finding for what could not be looked up or opened for another reason than that there is nothing.
  Finding failed(SystemError error, const std::string& path, std::size_t count) const {
    if (error.number == EXDEV || error.number == ELOOP)
      return finding(Code::outside_root, {{"root", root_path_}, {"file", path}});
    if (error.number == EACCES) return closed_folder(count);
    if (files::is_lack_of_resources(error)) return out_of_resources("open " + path, error.number);
    return finding(Code::file_vanished, {{"file", path}, {"reason", describe(error)}});
  }

  Finding root_gone(SystemError error) const {
    if (files::is_lack_of_resources(error)) return out_of_resources("open " + root_path_, error.number);
    return finding(Code::document_root_gone,
                   {{"root", root_path_}, {"root_quoted", text::shell_word(root_path_)}, {"reason", describe(error)}});
  }

  static bool is_absence(SystemError error) {
    return error.number == ENOENT || error.number == ENOTDIR || error.number == ENAMETOOLONG;
  }

  Outcome decide() {
    say("The site is \"" + site_.name + "\", and its document root is " + site_.document_root + ".");
    if (const Mount* const mount = find_mount()) {
      struct stat info {};
      skip_ = split(mount->path).size();
      root_path_ = mount->target;
      say("Below its path " + mount->path + " it shows " + mount->target + ".");
      if (::stat(mount->target.c_str(), &info) == 0 && !S_ISDIR(info.st_mode)) return judge_mounted_file();
    }
    auto root = Folder::open(root_path_);
    if (const auto* const error = std::get_if<SystemError>(&root)) return root_gone(*error);
    root_ = std::move(std::get<Folder>(root));
    auto found = look_up_parts(parts_.size());
    const auto* const error = std::get_if<SystemError>(&found);
    if (error == nullptr) return judge_entry(std::move(std::get<Entry>(found)));
    if (!is_absence(*error)) return failed(*error, disk_path(parts_.size()), parts_.size());
    return judge_deepest();
  }

  /// Not all of the path exists: the way down to the last entry that does.
  Outcome judge_deepest() {
    auto deepest = look_up_parts(skip_);
    if (const auto* const error = std::get_if<SystemError>(&deepest)) return root_gone(*error);
    for (std::size_t count = skip_ + 1; count < parts_.size(); ++count) {
      auto next = look_up_parts(count);
      const auto* const error = std::get_if<SystemError>(&next);
      if (error != nullptr && is_absence(*error)) break;
      if (error != nullptr) return failed(*error, disk_path(count), count);
      deepest = std::move(next);
    }
    return judge_entry(std::move(std::get<Entry>(deepest)));
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
  Outcome judge_mounted_file() {
    const std::string_view above = files::folder_of(root_path_);
    auto folder = Folder::open(above.empty() ? "/" : std::string(above));
    if (const auto* const error = std::get_if<SystemError>(&folder)) return root_gone(*error);
    root_ = std::move(std::get<Folder>(folder));
    auto found = look_up(std::string(files::base_name(root_path_)));
    if (const auto* const error = std::get_if<SystemError>(&found))
      return is_absence(*error) ? root_gone(*error) : failed(*error, root_path_, skip_);
    Entry entry = std::move(std::get<Entry>(found));
    entry.path = root_path_;
    entry.name = files::base_name(root_path_);
    entry.parts = skip_;
    entry.is_mounted = true;
    if (!S_ISREG(entry.info.st_mode)) return special(entry);
    return judge_file(std::move(entry));
  }

  Finding special(const Entry& entry) const {
    return finding(
        Code::special_file,
        {{"file", entry.path}, {"file_quoted", text::shell_word(entry.path)}, {"kind", kind_name(entry.info.st_mode)}});
  }

  /// The deepest entry that exists.
  Outcome judge_entry(Entry entry) {
    for (std::size_t i = skip_; i < entry.parts; ++i)
      if (is_hidden(site_, parts_[i])) return hidden(disk_path(i + 1));
    // A link must not show by another name what is hidden by its own.
    if (auto refused = hidden_in(entry.real)) return std::move(*refused);
    if (S_ISDIR(entry.info.st_mode)) return judge_folder(std::move(entry));
    if (!S_ISREG(entry.info.st_mode)) return special(entry);
    return judge_file(std::move(entry));
  }

  /// A finding if a part of `real`, a path below the root, is hidden.
  std::optional<Finding> hidden_in(const std::string& real) const {
    const std::string& root = root_->real_path();
    for (std::size_t begin = root == "/" ? 0 : root.size(); begin < real.size();) {
      const std::size_t end = std::min(real.find('/', begin + 1), real.size());
      if (is_hidden(site_, std::string_view(real).substr(begin + 1, end - begin - 1)))
        return hidden(real.substr(0, end));
      begin = end;
    }
    return std::nullopt;
  }

  Outcome judge_folder(Entry folder) {
    if (folder.parts < parts_.size()) return nothing_there(folder);
    if (!trailing_slash_) {
      say(asked_.target.raw_path + " is a folder, and a folder's URL ends in a slash, so that links in its page work.");
      std::string location = url_path(folder.parts) + "/";
      if (asked_.target.has_query) location += "?" + asked_.target.query;
      return Redirect{301, std::move(location)};
    }
    say(folder.path + " is a folder.");
    const std::string below = joined(parts_, skip_, folder.parts) + (folder.parts > skip_ ? "/" : "");
    for (const std::string& name : site_.index_files) {
      auto found = look_up(below + name);
      if (const auto* const error = std::get_if<SystemError>(&found)) {
        if (files::is_lack_of_resources(*error)) return failed(*error, folder.path + "/" + name, folder.parts);
        continue;
      }
      Entry index = std::move(std::get<Entry>(found));
      if (!S_ISREG(index.info.st_mode)) continue;
      say("Its index file is " + name + ".");
      index.path = folder.path + "/" + name;
      index.name = name;
      index.parts = folder.parts;
      index.is_index = true;
      index.stands_first = name == site_.index_files.front();
      if (auto refused = hidden_in(index.real)) return std::move(*refused);
      return judge_file(std::move(index));
    }
    const std::string names = text::listed(site_.index_files);
    if (!site_.listing) return finding(Code::no_index, {{"folder", folder.path}, {"names", names}});
    if (auto refused = refuse_method("folder")) return std::move(*refused);
    say("It has none of the index files (" + names + "), so its entries are listed.");
    const bool runs = runs_in(folder, folder.real);
    return FolderFound{folder.path, runs, mounts_below(folder.parts), std::move(*root_), std::move(folder.handle)};
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

  Outcome judge_file(Entry file) {
    const std::string_view real_name = files::base_name(file.real);
    const bool own_word = file.is_mounted && real_name == file.name;
    if (!own_word && (is_withheld_copy(settings_, site_, file.name) || is_withheld_copy(settings_, site_, real_name)))
      return finding(Code::backup_file, {{"file", file.path}, {"file_quoted", text::shell_word(file.path)}});
    // A link must not show by another name what would be run by its own, so the real place and name count too.
    const script::Interpreter* interpreter = script::interpreter_for(settings_.interpreters, file.name);
    if (interpreter == nullptr && real_name != file.name)
      interpreter = script::interpreter_for(settings_.interpreters, real_name);
    if (interpreter != nullptr && interpreter->where == script::Interpreter::Where::anywhere)
      return interpreted(file, *interpreter);
    const bool is_program = (file.info.st_mode & 0111) != 0 || interpreter != nullptr;
    if (is_program && is_mounted_file(site_, file.real)) return run_directly(file, interpreter);
    const bool runs_here = runs_in(file, files::folder_of(file.real));
    if (runs_here) say(file.path + " lies in a script folder, so it is run and not shown.");
    if (runs_here || file.is_fallback || (file.is_mounted && is_program)) return run_directly(file, interpreter);
    if (interpreter != nullptr && interpreter->where == script::Interpreter::Where::script_folder) {
      const std::string folder = site_.script_folders.empty() ? "cgi-bin" : site_.script_folders.front();
      return finding(Code::script_needs_script_folder,
                     {{"file", file.path},
                      {"file_quoted", text::shell_word(file.path)},
                      {"language", interpreter->language},
                      {"folders", folder},
                      {"folder_quoted", text::shell_word(site_.document_root + "/" + folder)}});
    }
    if (file.parts < parts_.size() || (trailing_slash_ && !file.is_index))
      return finding(Code::not_a_folder, {{"file", file.path}, {"url", url_path(file.parts)}});
    if (auto refused = refuse_method("file")) return std::move(*refused);
    return open_file(file);
  }

  Outcome open_file(const Entry& file) {
    auto opened = files::reopen(file.handle, file.info, O_RDONLY);
    if (const auto* const error = std::get_if<SystemError>(&opened))
      return error->number == EACCES ? unreadable(file.path, "+r") : failed(*error, file.path, file.parts);
    FileFound found{std::move(std::get<Descriptor>(opened)), {}, file.path, file.stands_first};
    if (::fstat(found.file.get(), &found.info) != 0) return failed({errno}, file.path, file.parts);
    say("The file is " + file.path + ".");
    return found;
  }

  Outcome interpreted(const Entry& file, const script::Interpreter& interpreter) {
    say(file.path + " is a " + interpreter.language + " script.");
    if (auto refused = refuse_language(interpreter.language, file.path)) return std::move(*refused);
    std::string program = files::find_program(interpreter.program, search_path_);
    if (program.empty()) {
      Finding missing = finding(Code::interpreter_not_installed,
                                {{"file", file.path}, {"program", interpreter.program}, {"path", search_path_}});
      if (!interpreter.package.empty()) missing.facts.emplace_back("package", interpreter.package);
      return missing;
    }
    say("It is run by " + program + ".");
    return found_script(file, std::move(program), &interpreter);
  }

  /// Runs the file by its own first line, else by its ending.
  Outcome run_directly(const Entry& file, const script::Interpreter* interpreter) {
    if ((file.info.st_mode & 0111) == 0)
      return finding(Code::script_not_executable, {{"file", file.path},
                                                   {"file_quoted", text::shell_word(file.path)},
                                                   {"mode", permissions(file.info.st_mode)}});
    // Whatever it is, it may run, and no ending has a say: the file itself need not be looked at.
    if (interpreter == nullptr && !site_.interpreters) return found_script(file, {}, nullptr);
    const std::string start = start_of(file);
    const script::FirstLine line = script::read_first_line(start);
    const bool is_program = start.starts_with(
        "\x7f"
        "ELF");
    // A byte-order mark keeps the first line from being recognised, which is a problem to be told and not to be hidden.
    const bool starts_itself = start.starts_with("#!") || is_program || start.starts_with("\xef\xbb\xbf#!");
    if (interpreter != nullptr && !starts_itself) {
      say("It has no first line that names an interpreter, so its ending decides.");
      return interpreted(file, *interpreter);
    }
    const script::Interpreter* const named = script::interpreter_called(settings_.interpreters, line.meant());
    if (auto refused = refuse_language(named == nullptr ? "compiled" : named->language, file.path))
      return std::move(*refused);
    return found_script(file, {}, nullptr);
  }

  std::optional<Finding> refuse_language(const std::string& language, const std::string& path) const {
    if (!site_.interpreters || text::contains(*site_.interpreters, language)) return std::nullopt;
    return finding(Code::interpreter_not_allowed,
                   {{"file", path},
                    {"language", language},
                    {"site", site_.name},
                    {"languages", site_.interpreters->empty() ? "none" : text::listed(*site_.interpreters)}});
  }

  static std::string start_of(const Entry& entry) {
    auto opened = files::reopen(entry.handle, entry.info, O_RDONLY);
    const auto* const file = std::get_if<Descriptor>(&opened);
    std::array<char, 256> bytes{};
    const ssize_t got = file == nullptr ? 0 : ::read(file->get(), bytes.data(), bytes.size());
    return {bytes.data(), static_cast<std::size_t>(std::max<ssize_t>(got, 0))};
  }

  Outcome found_script(const Entry& file, std::string interpreter, const script::Interpreter* rule) const {
    ScriptFound found;
    found.path = file.path;
    found.interpreter = std::move(interpreter);
    found.rule = rule;
    found.info = file.info;
    if (file.is_fallback) {
      // What was asked for stands in REQUEST_URI; to the script itself no path leads on.
      found.name = "/" + site_.fallback;
      return found;
    }
    // SCRIPT_NAME and PATH_INFO together are the path as it was sent, doubled slashes included (RFC 3875, section 3.3).
    const std::string& path = asked_.target.path;
    if (file.is_index) {
      found.name = path + file.name;
      return found;
    }
    std::size_t end = 0;
    for (std::size_t i = 0; i < file.parts && end < path.size(); ++i) {
      while (end < path.size() && path[end] == '/') ++end;
      end = std::min(path.find('/', end), path.size());
    }
    found.name = path.substr(0, end);
    found.path_info = path.substr(end);
    return found;
  }

  /// The script that answers in place of what does not exist.
  Outcome fall_back() {
    say("There is nothing at " + asked_.target.raw_path + ", and for that the site has a fallback: " + site_.fallback +
        ".");
    const std::string path = root_path_ + "/" + site_.fallback;
    auto found = look_up(site_.fallback);
    if (const auto* const error = std::get_if<SystemError>(&found); error != nullptr && !is_absence(*error))
      return failed(*error, path, skip_);
    auto* const entry = std::get_if<Entry>(&found);
    if (entry == nullptr || !S_ISREG(entry->info.st_mode))
      return finding(Code::fallback_missing, {{"file", path}, {"site", site_.name}});
    entry->path = path;
    entry->name = files::base_name(site_.fallback);
    entry->parts = parts_.size();
    entry->is_fallback = true;
    return judge_file(std::move(*entry));
  }

  Outcome nothing_there(const Entry& folder) {
    if (!site_.fallback.empty() && skip_ == 0) return fall_back();
    const std::string& missing = parts_[folder.parts];
    const std::string_view root_name = files::base_name(site_.document_root);
    const std::string whole = "/" + joined(parts_, 0, parts_.size());
    std::vector<Fact> facts = {{"file", disk_path(parts_.size())}, {"missing", missing}, {"folder", folder.path}};
    const auto root_in_url = [&](const std::string& shown, const std::string& rest) {
      facts.emplace_back("name", shown);
      facts.emplace_back("root", site_.document_root);
      facts.emplace_back("url", rest.empty() ? "/" : http::percent_encode_path(rest) + (trailing_slash_ ? "/" : ""));
      return finding(Code::root_name_in_url, facts);
    };
    if (whole == site_.document_root || whole.starts_with(site_.document_root + "/"))
      return root_in_url(site_.document_root.substr(1), whole.substr(site_.document_root.size()));
    if (folder.parts == 0 && skip_ == 0 && http::same_name(missing, root_name))
      return root_in_url(missing, whole.substr(1 + missing.size()));
    say(folder.path + " is a folder, and it has no entry " + missing + ".");
    if (const auto near = nearest_name(folder, missing)) {
      facts.emplace_back("nearest", *near);
      facts.emplace_back("nearest_url",
                         url_path(folder.parts) + http::percent_encode_path((folder.parts > 0 ? "/" : "") + *near));
    }
    return finding(Code::path_not_found, std::move(facts));
  }

  /// The name in `folder`, of those that are shown, that `missing` was most likely meant to be.
  std::optional<std::string> nearest_name(const Entry& folder, const std::string& missing) {
    auto opened = files::reopen(folder.handle, folder.info, O_RDONLY | O_DIRECTORY);
    auto* const descriptor = std::get_if<Descriptor>(&opened);
    if (descriptor == nullptr) return std::nullopt;
    DIR* const open = ::fdopendir(descriptor->get());
    if (open == nullptr) return std::nullopt;
    [[maybe_unused]] const int now_of_the_directory = descriptor->release();
    const std::unique_ptr<DIR, int (*)(DIR*)> directory(open, ::closedir);
    text::NearestName nearest(missing);
    const std::size_t most = asked_.near_names == Asked::Near::few ? kFewNames : kMostNamesToCompare;
    for (std::size_t i = 0; !nearest.is_exhausted(); ++i) {
      const dirent* const entry = ::readdir(directory.get());
      has_more_names_ = entry != nullptr && i == most;
      if (entry == nullptr || i == most) break;
      const std::string_view name = entry->d_name;
      if (!is_hidden(site_, name) && name != "." && name != ".." && !is_withheld_copy(settings_, site_, name))
        nearest.consider(name);
    }
    return nearest.best();
  }

  Finding hidden(const std::string& path) const {
    std::string plain(files::base_name(path));
    plain.erase(0, plain.find_first_not_of('.'));
    if (plain.empty()) plain = "visible";
    const std::string folder(files::folder_of(path));
    return finding(Code::hidden_file, {{"file", path},
                                       {"file_quoted", text::shell_word(path)},
                                       {"plain_quoted", text::shell_word(folder + "/" + plain)}});
  }

  /// A folder on the way to the first `count` parts may not be entered.
  Finding closed_folder(std::size_t count) const {
    std::size_t closed = skip_;
    for (std::size_t i = skip_ + 1; i <= count; ++i) {
      auto opened = look_up_parts(i);
      if (std::holds_alternative<SystemError>(opened)) break;
      closed = i;
    }
    return unreadable(disk_path(closed), "+rx");
  }

  Finding unreadable(const std::string& path, std::string_view change) const {
    struct stat info {};
    const bool known = ::stat(path.c_str(), &info) == 0;
    return finding(Code::unreadable, {{"file", path},
                                      {"file_quoted", text::shell_word(path)},
                                      {"mode", known ? permissions(info.st_mode) : "unknown"},
                                      {"change", "a" + std::string(change)}});
  }

  std::optional<Finding> refuse_method(const std::string& kind) const {
    if (asked_.method == "GET" || asked_.method == "HEAD" || asked_.method == "OPTIONS") return std::nullopt;
    return finding(Code::method_not_allowed,
                   {{"method", std::string(asked_.method)}, {"kind", kind}, {"allowed", std::string(kReadingMethods)}});
  }

  /// True if what lies in `folder`, the real path of `entry` or of the folder that it lies in, is run and not shown: by
  /// any of the names that the folder has.
  bool runs_in(const Entry& entry, std::string_view folder) const {
    const std::size_t folders =
        S_ISDIR(entry.info.st_mode) || entry.is_index ? entry.parts : entry.parts - (entry.parts > 0 ? 1 : 0);
    for (std::size_t i = 0; i < folders && !entry.is_fallback; ++i)
      if (text::contains(site_.script_folders, parts_[i])) return true;
    if (entry.is_fallback && names_script_folder(site_, files::folder_of(entry.path))) return true;
    if (runs_below(site_, folder)) return true;
    const std::string& root = root_->real_path();
    const std::size_t above = root == "/" ? 1 : root.size() + 1;
    return is_linked_as_script_folder(site_, *root_, folder.substr(std::min(above, folder.size())));
  }

  const Settings& settings_;
  const std::string& search_path_;
  const Site& site_;
  const Asked& asked_;
  const std::vector<std::string> parts_;
  const bool trailing_slash_;
  std::string root_path_;  ///< The document root, or what is mounted.
  std::size_t skip_ = 0;   ///< How many parts lead to the mount.
  std::optional<Folder> root_;
  std::vector<std::string> trail_;
  bool has_more_names_ = false;
};

}  // namespace

Resolution resolve(const Surroundings& in, const Site& site, const Asked& asked) {
  return Resolver(in, site, asked).run();
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

}  // namespace porter::sites
