// The words of each language for a missing module, and the rules by which Debian names packages. See
// missing_module.hpp.
#include "core/script/missing_module.hpp"

#include <algorithm>
#include <array>
#include <filesystem>
#include <system_error>
#include <utility>

#include "core/text/text.hpp"

namespace porter::script {
namespace {

/// The part of `text` between `before` and the next one of `ends`; empty if there is none.
std::string_view between(std::string_view text, std::string_view before, std::string_view ends) {
  const std::size_t at = text.find(before);
  if (at == text.npos) return {};
  const std::string_view rest = text.substr(at + before.size());
  const std::size_t end = rest.find_first_of(ends);
  return end == rest.npos ? std::string_view() : rest.substr(0, end);
}

/// True for what may be the name of a module: nothing that a shell or a person could take for something else.
bool is_name(std::string_view text) {
  return !text.empty() && text.size() <= 100 && text.front() != '-' && text.front() != '.' && text.front() != '/' &&
         std::all_of(text.begin(), text.end(), [](char c) {
           return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                  std::string_view("_-.:/@").find(c) != std::string_view::npos;
         });
}

std::string replaced(std::string_view text, std::string_view from, std::string_view to) {
  std::string out;
  while (!text.empty()) {
    const bool is_here = text.starts_with(from);
    out += is_here ? to : text.substr(0, 1);
    text.remove_prefix(is_here ? from.size() : 1);
  }
  return out;
}

std::string_view first_part(std::string_view text, std::string_view ends) {
  return text.substr(0, text.find_first_of(ends));
}

std::optional<MissingModule> of_python(std::string_view text, std::string_view) {
  const std::string_view name = between(text, "No module named '", "'");
  if (!is_name(name)) return std::nullopt;
  const std::string root(first_part(name, "."));
  // A few are imported by another name than they are known by.
  static constexpr std::array<std::pair<std::string_view, std::string_view>, 5> kOther = {
      {{"PIL", "pillow"},
       {"cv2", "opencv-python"},
       {"sklearn", "scikit-learn"},
       {"yaml", "pyyaml"},
       {"dateutil", "python-dateutil"}}};
  const auto* const other =
      std::find_if(kOther.begin(), kOther.end(), [&](const auto& one) { return one.first == root; });
  const std::string distribution = other == kOther.end() ? root : std::string(other->second);
  return MissingModule{"Python", std::string(name), "python3-" + replaced(text::to_lower(root), "_", "-"),
                       "python3 -m pip install --user --break-system-packages " + distribution};
}

std::optional<MissingModule> of_perl(std::string_view text, std::string_view) {
  const std::string_view file = between(text, "Can't locate ", " ");
  if (!file.ends_with(".pm") || !is_name(file)) return std::nullopt;
  const std::string name = replaced(file.substr(0, file.size() - 3), "/", "::");
  // A module is often a part of a distribution that is called after the first part of its name.
  std::string packages;
  for (std::string part = replaced(text::to_lower(name), "::", "-"); !part.empty();
       part.erase(part.find('-') == part.npos ? 0 : part.rfind('-')))
    packages += (packages.empty() ? "lib" : " lib") + part + "-perl";
  return MissingModule{"Perl", name, packages, "cpan " + name};
}

std::optional<MissingModule> of_ruby(std::string_view text, std::string_view) {
  const std::string_view name = between(text, "cannot load such file -- ", " \n(");
  if (!is_name(name)) return std::nullopt;
  const std::string gem(first_part(name, "/"));
  return MissingModule{"Ruby", std::string(name), "ruby-" + replaced(text::to_lower(gem), "_", "-"),
                       "gem install --user-install " + gem};
}

std::optional<MissingModule> of_node(std::string_view text, std::string_view folder) {
  std::string_view name = between(text, "Cannot find module '", "'");
  if (name.empty()) name = between(text, "Cannot find package '", "'");
  if (!is_name(name)) return std::nullopt;
  // The part after the package's own name is a file in it.
  const std::size_t slash = name.find('/', name.starts_with('@') ? name.find('/') + 1 : 0);
  const std::string package(name.substr(0, slash));
  return MissingModule{"JavaScript", package, "node-" + replaced(replaced(text::to_lower(package), "@", ""), "/", "-"),
                       "cd " + text::shell_word(folder) + " && npm install " + package};
}

std::optional<MissingModule> of_lua(std::string_view text, std::string_view) {
  const std::string_view name = between(text, "module '", "'");
  if (!is_name(name) || text.find("' not found:") == text.npos) return std::nullopt;
  const std::string rock(first_part(name, "."));
  return MissingModule{"Lua", std::string(name), "lua-" + replaced(text::to_lower(rock), "_", "-"),
                       "luarocks install --local " + rock};
}

std::optional<MissingModule> of_r(std::string_view text, std::string_view) {
  std::string_view name = between(text, "there is no package called \u2018", "\xe2");
  if (name.empty()) name = between(text, "there is no package called '", "'");
  if (!is_name(name)) return std::nullopt;
  return MissingModule{
      "R", std::string(name), "r-cran-" + text::to_lower(name),
      "Rscript -e 'install.packages(\"" + std::string(name) + "\", repos = \"https://cloud.r-project.org\")'"};
}

/// The extension of PHP that has a function or a class of that name; empty if none is known to.
std::string_view extension_of(std::string_view name) {
  static constexpr std::array<std::pair<std::string_view, std::string_view>, 34> kKnown = {
      {{"mb_", "mbstring"},
       {"curl_", "curl"},
       {"simplexml_", "xml"},
       {"xml_", "xml"},
       {"dom_", "xml"},
       {"mysqli_", "mysql"},
       {"pg_", "pgsql"},
       {"sqlite_", "sqlite3"},
       {"image", "gd"},
       {"gd_", "gd"},
       {"gmp_", "gmp"},
       {"bc", "bcmath"},
       {"intl_", "intl"},
       {"numfmt_", "intl"},
       {"grapheme_", "intl"},
       {"idn_", "intl"},
       {"ldap_", "ldap"},
       {"imap_", "imap"},
       {"zip_", "zip"},
       {"ssh2_", "ssh2"},
       {"apcu_", "apcu"},
       {"yaml_", "yaml"},
       {"mysqli", "mysql"},
       {"SQLite3", "sqlite3"},
       {"ZipArchive", "zip"},
       {"DOMDocument", "xml"},
       {"XMLWriter", "xml"},
       {"XMLReader", "xml"},
       {"SimpleXMLElement", "xml"},
       {"NumberFormatter", "intl"},
       {"IntlDateFormatter", "intl"},
       {"SoapClient", "soap"},
       {"Imagick", "imagick"},
       {"Redis", "redis"}}};
  for (const auto& [start, extension] : kKnown)
    if (name.starts_with(start)) return extension;
  return {};
}

/// True if PHP has the extension here, so that something else is wrong with the name.
bool is_enabled(std::string_view extension) {
  const std::string file = "-" + std::string(extension == "mysql" ? "mysqli" : extension) + ".ini";
  std::error_code ignored;
  for (const auto& version : std::filesystem::directory_iterator("/etc/php", ignored))
    for (const auto& entry : std::filesystem::directory_iterator(version.path() / "cgi/conf.d", ignored))
      if (entry.path().filename().string().ends_with(file)) return true;
  return false;
}

/// PDO does not say which driver it has looked for. What stands in the source of the script does.
std::string_view driver_named_in(std::string_view text) {
  static constexpr std::array<std::pair<std::string_view, std::string_view>, 5> kDrivers = {
      {{"mysql:", "mysql"}, {"pgsql:", "pgsql"}, {"sqlite:", "sqlite3"}, {"odbc:", "odbc"}, {"dblib:", "sybase"}}};
  for (const auto& [start, extension] : kDrivers)
    if (text.find(start) != text.npos) return extension;
  return {};
}

std::optional<MissingModule> of_php(std::string_view text, std::string_view) {
  if (text.find("could not find driver") != text.npos) {
    // The trace shows the beginning of what it was asked to connect to.
    const std::string_view driver = driver_named_in(text);
    const std::string package = driver.empty() ? "php-mysql php-pgsql php-sqlite3" : "php-" + std::string(driver);
    return MissingModule{"PHP", driver.empty() ? "pdo" : "pdo_" + std::string(driver == "sqlite3" ? "sqlite" : driver),
                         package, "sudo apt-get install " + package};
  }
  std::string_view name = between(text, "Call to undefined function ", "(");
  if (name.empty()) name = between(text, "Class \"", "\"");
  const std::size_t namespaced = name.rfind('\\');
  if (namespaced != name.npos) name.remove_prefix(namespaced + 1);
  const std::string_view extension = extension_of(name);
  if (extension.empty() || is_enabled(extension)) return std::nullopt;
  const std::string package = "php-" + std::string(extension);
  // PHP itself installs nothing.
  return MissingModule{"PHP", "ext-" + std::string(extension), package, "sudo apt-get install " + package};
}

}  // namespace

std::optional<MissingModule> find_missing_module(std::string_view error_text, std::string_view folder) {
  for (const auto& of_language : {of_python, of_perl, of_ruby, of_node, of_lua, of_r, of_php})
    if (auto missing = of_language(error_text, folder)) return missing;
  return std::nullopt;
}

}  // namespace porter::script
