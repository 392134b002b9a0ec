// resolve(): what a request leads to at the site that answers it; route() (core/sites/route.hpp) finds the site first.
//
// Serving, problem pages and every explanation call it, so that what is explained is what happens. It reads the file
// system but changes nothing, runs nothing, and may be called from any thread. The outcome comes with its trail: the
// steps by which it was reached, as sentences for people.
//
// What is judged is what is sent: a file or folder is looked up once and held open, judged by that handle and by where
// it really lies, and read through the same handle. What takes its place meanwhile is never sent.
#pragma once

#include <sys/stat.h>

#include <string>
#include <string_view>
#include <variant>
#include <vector>

#include "core/files/beneath.hpp"
#include "core/files/descriptor.hpp"
#include "core/findings/finding.hpp"
#include "core/http/target.hpp"
#include "core/settings/settings.hpp"

namespace porter::sites {

/// What a request is resolved in: the settings, and the machine's folders in which interpreters are looked for,
/// separated by colons as in PATH. Both outlive what is made of them.
struct ResolveContext {
  const Settings& settings;
  const std::string& search_path;
  files::ProgramsFound* programs = nullptr;  ///< Where they were found; null: each is looked for.
};

/// What is asked for.
struct Asked {
  std::string_view method;
  const http::Target& target;
  /// With how many of its folder a name that does not exist is compared: all may take some tens of milliseconds.
  enum class Near { all, few } near_names = Near::all;
  bool may_be_page = true;  ///< A page would do; see may_be_page().
};

/// A file to be sent, already open.
struct FileFound {
  files::Descriptor file;
  struct stat info {};
  std::string path;  ///< On disk.
  bool cannot_be_shadowed =
      true;                  ///< No other file can come to stand before it: it is no later index file of its folder.
  bool is_fallback = false;  ///< It stands for a path that leads to no file.
};

/// A folder whose entries are to be shown.
struct FolderFound {
  std::string path;                  ///< On disk, without a final slash.
  bool is_script_folder = false;     ///< Its executable files would be run.
  std::vector<std::string> mounted;  ///< Names of the mounts right below it.
  files::Folder root;                ///< What it lies below: the document root, or what is mounted.
  files::Descriptor handle;          ///< The folder itself, for looking up only.
};

/// A script to be run.
struct ScriptFound {
  std::string path;         ///< On disk.
  std::string interpreter;  ///< The full path of the program that runs it; empty if it is run directly.
  const script::Interpreter* rule = nullptr;  ///< Of that interpreter, in the settings; null if it is run directly.
  std::string name;       ///< SCRIPT_NAME: the decoded path that leads to the script (RFC 3875, section 4.1.13).
  std::string path_info;  ///< PATH_INFO: the decoded rest of the path; empty or begins with a slash (4.1.5).
  struct stat info {};    ///< Of its file.
  bool ignores_persistent =
      false;                       ///< Its language is to be persistent, and its own first line has it start each time.
  bool cannot_be_shadowed = true;  ///< As in FileFound, as is the next.
  bool is_fallback = false;
};

struct Redirect {
  int status = 301;
  std::string location;  ///< An absolute path with its query.
};

/// The page that is shown where there is none of a site to show.
struct StartPage {
  std::string empty_root;  ///< The document root that is empty; empty itself where the address has no site.
};

using Outcome = std::variant<FileFound, FolderFound, ScriptFound, Redirect, StartPage, Finding>;

struct Resolution {
  Outcome outcome;
  std::vector<std::string> trail;
  bool has_more_names = false;  ///< Near names were looked for among a few, and there are more.
};

/// Whether a page would do for the request, or a style, a script, a picture or data is asked for: by Sec-Fetch-Dest,
/// else by Accept, else by the ending of the path.
bool may_be_page(const http::RequestHead& head, const http::Target& target);

/// What `asked` leads to at `site`, which is one of the settings'.
Resolution resolve(const ResolveContext& in, const Site& site, const Asked& asked);

/// The methods that a file or listing answers, as the value of an Allow field.
inline constexpr std::string_view kReadingMethods = "GET, HEAD, OPTIONS";
/// The methods that a script is given, as the value of an Allow field.
inline constexpr std::string_view kScriptMethods = "GET, HEAD, POST, PUT, PATCH, DELETE, OPTIONS";

/// True if the file called `name` in a folder would be run for a request: its ending or its permissions say so.
bool would_run(const Settings& settings, const Site& site, std::string_view name, const struct stat& info,
               bool in_script_folder);

}  // namespace porter::sites
