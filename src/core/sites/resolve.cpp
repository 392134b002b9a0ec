// The way from a path to what it leads to: the deepest entry that exists is looked up, then judged by what it is and by
// what of the path is left behind it.
#include "core/sites/resolve.hpp"

#include <dirent.h>
#include <fcntl.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <climits>
#include <cstdlib>
#include <memory>
#include <optional>

#include "core/files/content.hpp"
#include "core/files/near.hpp"
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

std::vector<std::string_view> split(std::string_view path) { return text::parts_of(path, '/'); }

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
  std::string path;                     ///< On disk, by the names that led to it.
  std::string real;                     ///< Where it really lies, without links.
  std::size_t parts = 0;                ///< How many parts of the asked path lead to it.
  std::string name;                     ///< The last of the names that led to it.
  bool cannot_be_shadowed = true;       ///< As in FileFound.
  const Fallback* fallback = nullptr;   ///< Not null: it answers for a path that matches nothing.
  const std::string* linked = nullptr;  ///< Not null: it lies in this folder outside of the root, which is allowed.
  bool is_mounted = false;              ///< It is itself what is mounted, by the settings' own word.
  bool is_index = false;                ///< It stands for the folder that was asked for.
};

/// One resolution in the making.
class Resolver {
 public:
  Resolver(const ResolveContext& in, const Site& site, const Asked& asked)
      : settings_(in.settings),
        search_path_(in.search_path),
        programs_(in.programs),
        site_(site),
        asked_(asked),
        parts_(asked.target.segments),
        findable_(
            static_cast<std::size_t>(std::find_if(parts_.begin(), parts_.end(),
                                                  [](const std::string& part) { return part.find('/') != part.npos; }) -
                                     parts_.begin())),
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
    if (error != nullptr && error->number == EXDEV && !site_.linked_folders.empty()) {
      auto linked = root_->open_linked(relative, O_PATH, site_.linked_folders);
      if (auto* const good = std::get_if<Folder::Linked>(&linked)) {
        entry.linked = good->folder;
        found = std::move(good->handle);
        error = nullptr;
      }
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
    if (error.number == EXDEV || error.number == ELOOP) return outside(path, count);
    if (error.number == EACCES) return closed_folder(count);
    if (files::is_lack_of_resources(error)) return out_of_resources("open " + path, error.number);
    return finding(Code::file_vanished, {{"file", path}, {"reason", describe(error)}});
  }

  /// A link on the way to the first `count` parts leads out of the root.
  Finding outside(const std::string& path, std::size_t count) const {
    Finding out = finding(Code::outside_root, {{"root", root_path_}, {"file", path}});
    // The first name on the way that leads out is the link, and what it leads to is what may be allowed.
    for (std::size_t i = skip_ + 1; i <= count; ++i) {
      std::array<char, PATH_MAX> real{};
      const std::string link = disk_path(i);
      if (::realpath(link.c_str(), real.data()) == nullptr) break;
      const auto is_allowed = [&](const std::string& folder) { return files::lies_in(real.data(), folder); };
      if (is_allowed(root_->real_path()) ||
          std::any_of(site_.linked_folders.begin(), site_.linked_folders.end(), is_allowed))
        continue;
      struct stat info {};
      const std::string target = real.data();
      const bool is_folder = ::stat(target.c_str(), &info) == 0 && S_ISDIR(info.st_mode);
      out.facts.emplace_back("link", link);
      out.facts.emplace_back("leads_to", target);
      if (settings_.file.empty() || target.starts_with("/proc/")) break;
      const std::string folder = is_folder ? target : std::string(files::folder_of(target));
      out.facts.emplace_back("site", site_.name);
      std::string allowed;
      for (const std::string& one : site_.linked_folders) allowed += "\"" + one + "\", ";
      out.facts.emplace_back("allow", "linked-folders = [" + allowed + "\"" + (folder.empty() ? "/" : folder) + "\"]");
      out.facts.emplace_back("mount", "uporter mount add " + text::shell_word(url_path(i)) + " " +
                                          text::shell_word(target) + " --site " + text::shell_word(site_.name) +
                                          settings_.option);
      break;
    }
    return out;
  }

  Finding root_gone(SystemError error) const {
    if (files::is_lack_of_resources(error)) return out_of_resources("open " + root_path_, error.number);
    if (site_.is_root_missing && root_path_ == site_.document_root && is_absence(error)) {
      Finding out{Code::document_root_missing, {{"root", root_path_}, {"root_quoted", text::shell_word(root_path_)}}};
      if (auto near = files::nearest_folder(root_path_)) out.facts.emplace_back("nearest", std::move(*near));
      return out;
    }
    return finding(Code::document_root_gone,
                   {{"root", root_path_}, {"root_quoted", text::shell_word(root_path_)}, {"reason", describe(error)}});
  }

  static bool is_absence(SystemError error) {
    return error.number == ENOENT || error.number == ENOTDIR || error.number == ENAMETOOLONG;
  }

  Outcome decide() {
    say("The site is \"" + site_.name + "\", and its document root is " + site_.document_root + ".");
    if (!site_.missing_root.empty())
      say("The settings name " + site_.missing_root +
          ", which does not exist, so the document root from before is kept.");
    if (const Mount* const mount = find_mount()) {
      struct stat info {};
      skip_ = split(mount->path).size();
      root_path_ = mount->target;
      say("Below its path " + mount->path + " it shows " + mount->target + ".");
      if (::stat(mount->target.c_str(), &info) == 0 && !S_ISDIR(info.st_mode)) return judge_mounted_file(*mount);
    }
    auto root = Folder::open(root_path_);
    if (const auto* const error = std::get_if<SystemError>(&root)) return root_gone(*error);
    root_ = std::move(std::get<Folder>(root));
    if (findable_ < parts_.size()) return judge_deepest();
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
    for (std::size_t count = skip_ + 1; count < parts_.size() && count <= findable_; ++count) {
      auto next = look_up_parts(count);
      const auto* const error = std::get_if<SystemError>(&next);
      if (error != nullptr && is_absence(*error)) break;
      if (error != nullptr) return failed(*error, disk_path(count), count);
      deepest = std::move(next);
    }
    return judge_entry(std::move(std::get<Entry>(deepest)));
  }

  /// The mount with the longest path that the asked one begins with.
  const Mount* find_mount() const { return longest_beginning(site_.mounts); }

  /// The one whose path is the longest that the asked one begins with; null if there is none.
  template <typename WithPath>
  const WithPath* longest_beginning(const std::vector<WithPath>& all) const {
    const WithPath* found = nullptr;
    std::size_t longest = 0;
    for (const WithPath& one : all) {
      const auto parts = split(one.path);
      if ((found != nullptr && parts.size() <= longest) || parts.size() > parts_.size()) continue;
      if (!std::equal(parts.begin(), parts.end(), parts_.begin())) continue;
      found = &one;
      longest = parts.size();
    }
    return found;
  }

  /// A mount of one file: what of the path is left is for the script that it may be.
  Outcome judge_mounted_file(const Mount& mount) {
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
    if (mount.program) {
      if (auto refused = refuse_language("compiled", entry.path); refused && mount.program->arguments.empty())
        return std::move(*refused);
      return interpreted(entry, *mount.program);
    }
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
    if (auto refused = forbidden_in(entry)) return std::move(*refused);
    // A link must not show by another name what is hidden by its own.
    if (auto refused = hidden_in(entry)) return std::move(*refused);
    if (S_ISDIR(entry.info.st_mode)) return judge_folder(std::move(entry));
    if (!S_ISREG(entry.info.st_mode)) return special(entry);
    return judge_file(std::move(entry));
  }

  /// A finding if the settings forbid what was asked for, by the path that leads there or by where it really lies.
  std::optional<Finding> forbidden_in(const Entry& entry) const {
    if (site_.forbidden.empty()) return std::nullopt;
    const bool is_folder = S_ISDIR(entry.info.st_mode);
    const std::string* pattern = forbidding(site_, joined(parts_, skip_, entry.parts), is_folder);
    const std::string& root = root_->real_path();
    if (pattern == nullptr && files::lies_in(entry.real, root))
      pattern =
          forbidding(site_, std::string_view(entry.real).substr(std::min(root.size(), entry.real.size())), is_folder);
    if (pattern == nullptr) return std::nullopt;
    return finding(Code::forbidden_path, {{"file", entry.path}, {"pattern", *pattern}, {"site", site_.name}});
  }

  /// A finding if a part of where `entry` really lies, from the root on, is hidden.
  std::optional<Finding> hidden_in(const Entry& entry) const {
    const std::string& real = entry.real;
    const std::string& root = entry.linked != nullptr ? *entry.linked : root_->real_path();
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
    auto index = find_index(folder);
    if (auto* const failure = std::get_if<Finding>(&index)) return std::move(*failure);
    auto& file = std::get<std::optional<Entry>>(index);
    const std::string names = text::listed(site_.index_files);
    if (const Fallback* const fallback = find_fallback();
        !file && fallback != nullptr && !site_.listing.value_or(false)) {
      say(folder.path + " is a folder without an index file (" + names + ").");
      return fall_back(*fallback);
    }
    if (!trailing_slash_) {
      say(asked_.target.raw_path + " is a folder, and a folder's URL ends in a slash, so that links in its page work.");
      std::string location = url_path(folder.parts) + "/";
      if (asked_.target.has_query) location += "?" + asked_.target.query;
      return Redirect{301, std::move(location)};
    }
    say(folder.path + " is a folder.");
    if (file) {
      say("Its index file is " + file->name + ".");
      if (auto refused = hidden_in(*file)) return std::move(*refused);
      return judge_file(std::move(*file));
    }
    if (!site_.listing.value_or(true)) return finding(Code::no_index, {{"folder", folder.path}, {"names", names}});
    if (auto refused = refuse_method("folder")) return std::move(*refused);
    say("It has none of the index files (" + names + "), so its entries are listed.");
    const bool runs = runs_in(folder, folder.real);
    if (folder.linked != nullptr) {
      auto base = Folder::open(*folder.linked);
      if (const auto* const error = std::get_if<SystemError>(&base)) return failed(*error, folder.path, folder.parts);
      root_ = std::move(std::get<Folder>(base));
    }
    return FolderFound{folder.path, runs, mounts_below(folder.parts), std::move(*root_), std::move(folder.handle)};
  }

  /// The index file of `folder`, the first that exists; a finding if that cannot be told.
  std::variant<std::optional<Entry>, Finding> find_index(const Entry& folder) const {
    const std::string below = joined(parts_, skip_, folder.parts) + (folder.parts > skip_ ? "/" : "");
    for (const std::string& name : site_.index_files) {
      auto found = look_up(below + name);
      if (const auto* const error = std::get_if<SystemError>(&found)) {
        if (files::is_lack_of_resources(*error)) return failed(*error, folder.path + "/" + name, folder.parts);
        continue;
      }
      Entry index = std::move(std::get<Entry>(found));
      if (!S_ISREG(index.info.st_mode)) continue;
      index.path = folder.path + "/" + name;
      index.name = name;
      index.parts = folder.parts;
      index.is_index = true;
      index.cannot_be_shadowed = name == site_.index_files.front();
      return std::optional<Entry>(std::move(index));
    }
    return std::optional<Entry>();
  }

  /// The names of the mounts right below the first `count` parts.
  std::vector<std::string> mounts_below(std::size_t count) const {
    std::vector<std::string> names;
    for (const Mount& mount : site_.mounts) {
      const auto parts = split(mount.path);
      if (parts.size() == count + 1 && std::equal(parts.begin(), parts.end() - 1, parts_.begin()))
        names.emplace_back(parts.back());
    }
    return names;
  }

  Outcome judge_file(Entry file) {
    const std::string_view real_name = files::base_name(file.real);
    const bool own_word = file.is_mounted && real_name == file.name;
    if (!own_word && (is_withheld_copy(settings_, site_, file.name) || is_withheld_copy(settings_, site_, real_name)))
      return finding(Code::backup_file, {{"file", file.path}, {"file_quoted", text::shell_word(file.path)}});
    // A link must not show by another name what would be run by its own, so the real place and name count too.
    const script::Interpreter* interpreter = script::interpreter_for(settings_.languages_of(site_), file.name);
    if (interpreter == nullptr && real_name != file.name)
      interpreter = script::interpreter_for(settings_.languages_of(site_), real_name);
    if (interpreter != nullptr && interpreter->where == script::Interpreter::Where::anywhere)
      return interpreted(file, *interpreter);
    const bool is_script = interpreter != nullptr && interpreter->where == script::Interpreter::Where::script_folder;
    // What the settings name runs wherever it lies, if it is a script or a program at all.
    const bool is_named = file.is_mounted || file.fallback != nullptr || is_mounted_file(site_, file.real);
    if (is_named && (is_script || is_program(file))) return run_directly(file, interpreter);
    const bool runs_here = runs_in(file, files::folder_of(file.real));
    if (runs_here) say(file.path + " lies in a script folder, so it is run and not shown.");
    if (runs_here) return run_directly(file, interpreter);
    if (is_script) {
      const std::string folder = site_.script_folders.empty() ? "cgi-bin" : site_.script_folders.front();
      const std::string place = site_.document_root + "/" + folder;
      std::vector<Fact> facts = {{"file", file.path},
                                 {"file_quoted", text::shell_word(file.path)},
                                 {"language", interpreter->language},
                                 {"folders", folder},
                                 {"folder_quoted", text::shell_word(place)}};
      if (::access(place.c_str(), F_OK) != 0) facts.emplace_back("folder_to_make", text::shell_word(place));
      return finding(Code::script_needs_script_folder, std::move(facts));
    }
    if (file.fallback == nullptr && (file.parts < parts_.size() || (trailing_slash_ && !file.is_index))) {
      if (const Fallback* const fallback = find_fallback()) return fall_back(*fallback);
      return finding(Code::not_a_folder, {{"file", file.path}, {"url", url_path(file.parts)}});
    }
    if (auto refused = refuse_method("file")) return std::move(*refused);
    return open_file(file);
  }

  /// True for a file that may be run and says itself how: a compiled program, or one with a first line for that.
  static bool is_program(const Entry& file) { return (file.info.st_mode & 0111) != 0 && starts_itself(start_of(file)); }

  Outcome open_file(const Entry& file) {
    auto opened = files::reopen(file.handle, file.info, O_RDONLY);
    if (const auto* const error = std::get_if<SystemError>(&opened))
      return error->number == EACCES ? unreadable(file.path, "+r") : failed(*error, file.path, file.parts);
    FileFound found{std::move(std::get<Descriptor>(opened)), {}, file.path, file.cannot_be_shadowed};
    if (::fstat(found.file.get(), &found.info) != 0) return failed({errno}, file.path, file.parts);
    say("The file is " + file.path + ".");
    return found;
  }

  Outcome interpreted(const Entry& file, const script::Interpreter& interpreter) {
    say(file.path + " is a " + interpreter.language + " script.");
    if (auto refused = refuse_language(interpreter.language, file.path)) return std::move(*refused);
    if (interpreter.is_persistent() && !interpreter.persistence.external.empty()) {
      say("It is run by the external servers at " + text::listed(interpreter.persistence.external) + ".");
      return found_script(file, interpreter.program, &interpreter);
    }
    if (interpreter.program != file.path && ::faccessat(file.handle.get(), "", R_OK, AT_EMPTY_PATH) != 0 &&
        errno == EACCES)
      return unreadable(file.path, "+r");
    std::string program = programs_ != nullptr ? programs_->find(interpreter.program, search_path_)
                                               : files::find_program(interpreter.program, search_path_);
    if (program.empty()) {
      Finding missing = finding(Code::interpreter_not_installed,
                                {{"file", file.path}, {"program", interpreter.program}, {"path", search_path_}});
      if (!interpreter.package.empty()) missing.facts.emplace_back("package", interpreter.package);
      return missing;
    }
    say("It is run by " + program + (interpreter.is_persistent() ? ", whose processes are kept." : "."));
    return found_script(file, std::move(program), &interpreter);
  }

  /// The language of a source that has to be compiled, by the ending of `name`, and the compiler.
  static std::optional<std::pair<const char*, std::string>> source_language(std::string_view name) {
    for (const auto& [ending, language, compiler] : {std::tuple(".c", "C", "gcc"),
                                                     {".cc", "C++", "g++"},
                                                     {".cpp", "C++", "g++"},
                                                     {".cxx", "C++", "g++"},
                                                     {".f90", "Fortran", "gfortran"},
                                                     {".rs", "Rust", "rustc"}})
      if (name.ends_with(ending) && name.size() > std::string_view(ending).size()) return std::pair(language, compiler);
    return std::nullopt;
  }

  /// Runs the file by its own first line, else by its ending.
  Outcome run_directly(const Entry& file, const script::Interpreter* interpreter) {
    if (const auto source = source_language(file.name); (file.info.st_mode & 0111) == 0 && source) {
      const std::string program = file.name.substr(0, file.name.rfind('.'));
      return finding(
          Code::source_not_compiled,
          {{"file", file.path},
           {"language", source->first},
           {"compile", "cd " + text::shell_word(std::string(files::folder_of(file.path))) + " && " + source->second +
                           " -o " + text::shell_word(program) + " " + text::shell_word(file.name)}});
    }
    if ((file.info.st_mode & 0111) == 0)
      return finding(Code::script_not_executable, {{"file", file.path},
                                                   {"file_quoted", text::shell_word(file.path)},
                                                   {"mode", permissions(file.info.st_mode)}});
    // Whatever it is, it may run, and no ending has a say: the file itself need not be looked at.
    if (interpreter == nullptr && !site_.interpreters) return found_script(file, {}, nullptr);
    const std::string start = start_of(file);
    const script::FirstLine line = script::read_first_line(start);
    ignores_persistent_ =
        interpreter != nullptr && interpreter->persistence.is_wanted.value_or(false) && starts_itself(start);
    if (ignores_persistent_)
      say("Its own first line decides, so persistent = true of [interpreter." + interpreter->language +
          "] has no effect on it.");
    if (interpreter != nullptr && !starts_itself(start)) {
      say("It has no first line that names an interpreter, so its ending decides.");
      return interpreted(file, *interpreter);
    }
    const script::Interpreter* const named = script::interpreter_called(settings_.languages_of(site_), line.meant());
    if (auto refused = refuse_language(named == nullptr ? "compiled" : named->language, file.path))
      return std::move(*refused);
    return found_script(file, {}, nullptr);
  }

  std::optional<Finding> refuse_language(const std::string& language, const std::string& path) const {
    if (!site_.interpreters || text::contains(*site_.interpreters, language)) return std::nullopt;
    std::string with_language;
    for (const std::string& known : *site_.interpreters) with_language += "\"" + known + "\", ";
    return finding(Code::interpreter_not_allowed,
                   {{"file", path},
                    {"language", language},
                    {"site", site_.name},
                    {"with_language", with_language + "\"" + language + "\""},
                    {"languages", site_.interpreters->empty() ? "none" : text::listed(*site_.interpreters)}});
  }

  /// True for what the system knows to start. A byte-order mark keeps a first line from being recognised, which is a
  /// problem to be told and not to be hidden.
  static bool starts_itself(std::string_view start) {
    return start.starts_with("#!") || start.starts_with("\xef\xbb\xbf#!") || script::is_compiled(start);
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
    found.cannot_be_shadowed = file.cannot_be_shadowed;
    found.is_fallback = file.fallback != nullptr;
    found.ignores_persistent = ignores_persistent_;
    if (file.fallback != nullptr && rule != nullptr && rule->is_php()) {
      // Pages of PHP find what was asked for in REQUEST_URI; to the script itself no path leads on.
      found.name = file.fallback->url;
      return found;
    }
    // SCRIPT_NAME and PATH_INFO together are the path as it was sent, doubled slashes included (RFC 3875, section 3.3).
    const std::string& path = asked_.target.path;
    if (file.is_index) {
      found.name = path + file.name;
      return found;
    }
    // An application that answers for a path is at home there, and all that follows is its own.
    const std::size_t parts = file.fallback != nullptr ? split(file.fallback->path).size() : file.parts;
    std::size_t end = 0;
    for (std::size_t i = 0; i < parts && end < path.size(); ++i) {
      while (end < path.size() && path[end] == '/') ++end;
      end = std::min(path.find('/', end), path.size());
    }
    found.name = path.substr(0, end);
    found.path_info = path.substr(end);
    return found;
  }

  /// What answers for paths that match nothing here: the fallback of the longest path. One for a path above a mount is
  /// not for what is mounted.
  const Fallback* find_fallback() const {
    const Fallback* const found = longest_beginning(site_.fallbacks);
    return found != nullptr && split(found->path).size() >= skip_ ? found : nullptr;
  }

  /// The script that answers in place of what does not exist.
  Outcome fall_back(const Fallback& fallback) {
    const std::string path = fallback.root + "/" + fallback.script;
    say("There is no file for " + asked_.target.raw_path + ", and for that " + fallback.path +
        " has a fallback: " + path + ".");
    if (fallback.root != root_path_) {
      auto root = Folder::open(fallback.root);
      if (const auto* const error = std::get_if<SystemError>(&root)) return root_gone(*error);
      root_ = std::move(std::get<Folder>(root));
      root_path_ = fallback.root;
    }
    auto found = look_up(fallback.script);
    if (const auto* const error = std::get_if<SystemError>(&found); error != nullptr && !is_absence(*error))
      return failed(*error, path, skip_);
    auto* const entry = std::get_if<Entry>(&found);
    if (entry == nullptr || !S_ISREG(entry->info.st_mode))
      return finding(Code::fallback_missing, {{"file", path}, {"site", site_.name}});
    entry->path = path;
    entry->name = files::base_name(fallback.script);
    entry->parts = parts_.size();
    entry->fallback = &fallback;
    entry->cannot_be_shadowed = false;
    Outcome outcome = judge_file(std::move(*entry));
    if (auto* const file = std::get_if<FileFound>(&outcome)) {
      // A front end's page is of no use where a style, a script or data is missing, and hides that it is.
      if (!asked_.may_be_page)
        return finding(Code::fallback_is_page, {{"file", disk_path(parts_.size())}, {"page", path}});
      file->is_fallback = true;
    }
    return outcome;
  }

  Outcome nothing_there(const Entry& folder) {
    if (const Fallback* const fallback = find_fallback()) return fall_back(*fallback);
    if (folder.parts == findable_)
      return finding(Code::encoded_slash, {{"part", parts_[findable_]}, {"folder", folder.path}});
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
    std::array<char, PATH_MAX> target{};
    const std::string link = disk_path(folder.parts + 1);
    if (const ssize_t length = ::readlink(link.c_str(), target.data(), target.size()); length > 0)
      return finding(Code::link_leads_nowhere,
                     {{"link", link}, {"leads_to", std::string(target.data(), static_cast<std::size_t>(length))}});
    say(folder.path + " is a folder, and it has no entry \"" + missing + "\".");
    if (skip_ == 0) add_routing(facts);
    if (const auto near = nearest_name(folder, missing)) {
      facts.emplace_back("nearest", *near);
      facts.emplace_back(http::same_name(*near, missing) ? "case_url" : "nearest_url",
                         url_path(folder.parts) + http::percent_encode_path((folder.parts > 0 ? "/" : "") + *near));
    }
    return finding(Code::path_not_found, std::move(facts));
  }

  bool has_file(const std::string& relative) const {
    struct stat info {};
    return ::fstatat(root_->handle().get(), relative.c_str(), &info, 0) == 0 && S_ISREG(info.st_mode);
  }

  /// True if the script looks at the path that was asked for, as one does that answers for many.
  bool asks_for_path(const std::string& relative) const {
    constexpr std::size_t kMost = 64 * 1024;
    const Descriptor file(::openat(root_->handle().get(), relative.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
    const auto text = file.is_open() ? files::content_of(file, kMost) : std::nullopt;
    return text && (text->find("REQUEST_URI") != text->npos || text->find("PATH_INFO") != text->npos);
  }

  /// Where the project looks as if one script answered for all its paths: which, and the command that lets it.
  void add_routing(std::vector<Fact>& facts) const {
    const bool routes =
        has_file("index.php") && (has_file(".htaccess") || has_file("composer.json") || has_file("../composer.json") ||
                                  has_file("artisan") || asks_for_path("index.php"));
    std::string below;
    for (const char* const folder : {"public", "web", "html", "htdocs", "www"})
      if (!routes && below.empty() && has_file(std::string(folder) + "/index.php")) below = folder;
    if (!routes && below.empty()) return;
    const std::string root = site_.document_root + (below.empty() ? "" : "/" + below);
    facts.emplace_back("script", root + "/index.php");
    const std::string folder_option = below.empty() ? "" : " --folder " + text::shell_word(root);
    facts.emplace_back("command", settings_.file.empty()
                                      ? "uporter serve " + text::shell_word(root) + " --fallback index.php"
                                      : "uporter site change " + text::shell_word(site_.name) + folder_option +
                                            " --fallback index.php" + settings_.option);
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
    for (std::size_t i = 0; i < folders && entry.fallback == nullptr; ++i)
      if (text::contains(site_.script_folders, parts_[i])) return true;
    if (entry.fallback != nullptr && names_script_folder(site_, files::folder_of(entry.path))) return true;
    if (runs_below(site_, folder)) return true;
    if (entry.linked != nullptr) return is_linked_from_script_folder(site_, *root_, *entry.linked, folder);
    const std::string& root = root_->real_path();
    const std::size_t above = root == "/" ? 1 : root.size() + 1;
    return is_linked_as_script_folder(site_, *root_, folder.substr(std::min(above, folder.size())));
  }

  const Settings& settings_;
  const std::string& search_path_;
  files::ProgramsFound* const programs_;
  const Site& site_;
  const Asked& asked_;
  const std::vector<std::string>& parts_;
  const std::size_t findable_;  ///< So many parts may be names: the next one holds an encoded slash.
  const bool trailing_slash_;
  std::string root_path_;  ///< The document root, or what is mounted.
  std::size_t skip_ = 0;   ///< How many parts lead to the mount.
  std::optional<Folder> root_;
  bool ignores_persistent_ = false;  ///< As in ScriptFound.
  std::vector<std::string> trail_;
  bool has_more_names_ = false;
};

}  // namespace

Resolution resolve(const ResolveContext& in, const Site& site, const Asked& asked) {
  return Resolver(in, site, asked).run();
}

bool may_be_page(const http::RequestHead& head, const http::Target& target) {
  if (const auto wanted = head.field("Sec-Fetch-Dest")) {
    constexpr std::string_view kOfPages[] = {"document", "iframe", "frame", "embed", "object"};
    return std::find(std::begin(kOfPages), std::end(kOfPages), *wanted) != std::end(kOfPages);
  }
  const std::string accept = head.joined("Accept");
  if (accept.find("text/html") != accept.npos) return true;
  if (!accept.empty() && accept.find("*/*") == accept.npos) return false;
  const std::string_view name = files::base_name(target.path);
  const std::size_t dot = name.rfind('.');
  if (dot == name.npos) return true;
  constexpr std::string_view kOfPages[] = {".html", ".htm", ".xhtml", ".php"};
  return std::find(std::begin(kOfPages), std::end(kOfPages), name.substr(dot)) != std::end(kOfPages);
}

bool would_run(const Settings& settings, const Site& site, std::string_view name, const struct stat& info,
               bool in_script_folder) {
  if (!S_ISREG(info.st_mode)) return false;
  const script::Interpreter* const interpreter = script::interpreter_for(settings.languages_of(site), name);
  if (interpreter != nullptr && interpreter->where == script::Interpreter::Where::anywhere) return true;
  return in_script_folder && (info.st_mode & 0111) != 0;
}

}  // namespace porter::sites
