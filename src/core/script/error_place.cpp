// Taking error messages apart, language by language. The order matters: forms that cannot be mistaken come first.
#include "core/script/error_place.hpp"

#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <charconv>

#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/http/head.hpp"

namespace porter::script {
namespace {

std::vector<std::string_view> lines_of(std::string_view text) {
  std::vector<std::string_view> out;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    std::string_view line = text.substr(0, end);
    if (line.ends_with('\r')) line.remove_suffix(1);
    out.push_back(line);
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return out;
}

/// The number at the front of `text`; 0 if there is none. `rest` is what follows it.
std::size_t leading_number(std::string_view text, std::string_view& rest) {
  std::size_t number = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
  if (error != std::errc{}) return 0;
  rest = text.substr(static_cast<std::size_t>(end - text.data()));
  return number;
}

std::size_t leading_number(std::string_view text) {
  std::string_view rest;
  return leading_number(text, rest);
}

std::string full_path(std::string_view file, const std::string& script_path) {
  if (file.starts_with('/')) return std::string(file);
  if (file.starts_with("./")) file.remove_prefix(2);
  return script_path.substr(0, script_path.rfind('/') + 1) + std::string(file);
}

/// `  File "x.py", line 3, in main` … `ValueError: text`: the last such line that lies beside the script or below,
/// since the innermost ones are often in a library.
std::optional<ErrorPlace> python_place(const std::vector<std::string_view>& lines, const std::string& script_path) {
  std::optional<ErrorPlace> place;
  const std::string folder = script_path.substr(0, script_path.rfind('/') + 1);
  for (const std::string_view line : lines) {
    const std::string_view rest = http::trim(line);
    const std::size_t mark = rest.find("\", line ");
    if (!rest.starts_with("File \"") || mark == rest.npos) continue;
    ErrorPlace here{full_path(rest.substr(6, mark - 6), script_path), leading_number(rest.substr(mark + 8)), {}};
    if (here.line > 0 && (!place || here.file.starts_with(folder))) place = std::move(here);
  }
  if (!place) return std::nullopt;
  for (const std::string_view line : lines)
    if (!line.empty() && line.front() != ' ' && !line.starts_with("Traceback")) place->message = std::string(line);
  return place;
}

/// `PHP Fatal error:  Uncaught Exception: text in /a.php:3` or `PHP Parse error:  text in /a.php on line 3`.
std::optional<ErrorPlace> php_place(const std::vector<std::string_view>& lines) {
  for (std::string_view line : lines) {
    const std::size_t start = line.find("PHP ");
    const std::size_t error = line.find(" error:  ");
    if (start == line.npos || error == line.npos || error < start) continue;
    const std::string_view message = line.substr(start);
    const std::size_t in = message.rfind(" in /");
    if (in == message.npos) continue;
    const std::string_view where = message.substr(in + 4);
    const std::size_t on_line = where.rfind(" on line ");
    const std::size_t colon = where.rfind(':');
    const std::size_t end = on_line != where.npos ? on_line : colon;
    if (end == where.npos) continue;
    const std::size_t number = leading_number(where.substr(end + (on_line != where.npos ? 9 : 1)));
    if (number > 0) return ErrorPlace{std::string(where.substr(0, end)), number, std::string(message.substr(0, in))};
  }
  return std::nullopt;
}

/// `text at x.pl line 3.` and `text at x.pl line 3, near "…"`: the first, since later ones follow from it.
std::optional<ErrorPlace> perl_place(const std::vector<std::string_view>& lines, const std::string& script_path) {
  for (const std::string_view line : lines) {
    const std::size_t mark = line.rfind(" line ");
    const std::size_t at = mark == line.npos ? mark : line.rfind(" at ", mark);
    if (at == line.npos) continue;
    std::string_view rest;
    const std::size_t number = leading_number(line.substr(mark + 6), rest);
    const std::string_view file = line.substr(at + 4, mark - at - 4);
    if (number == 0 || file.empty() || file.find(' ') != file.npos || !(rest.starts_with('.') || rest.starts_with(',')))
      continue;
    return ErrorPlace{full_path(file, script_path), number, std::string(line.substr(0, at))};
  }
  return std::nullopt;
}

/// `    (file "x.tcl" line 3)`, with the message in the first line.
std::optional<ErrorPlace> tcl_place(const std::vector<std::string_view>& lines, const std::string& script_path) {
  for (const std::string_view line : lines) {
    const std::string_view rest = http::trim(line);
    const std::size_t mark = rest.find("\" line ");
    if (!rest.starts_with("(file \"") || mark == rest.npos) continue;
    const std::size_t number = leading_number(rest.substr(mark + 7));
    if (number > 0)
      return ErrorPlace{full_path(rest.substr(7, mark - 7), script_path), number, std::string(lines.front())};
  }
  return std::nullopt;
}

/// `FILE:3:in 'x': text` (Ruby), `lua: FILE:3: text`, `FILE: 3: text` and `FILE: line 3: text` (shells), `FILE:3` alone
/// (JavaScript, with the message in a later line), wherever FILE is the script's own path or name.
std::optional<ErrorPlace> colon_place(const std::vector<std::string_view>& lines, const std::string& script_path) {
  const std::string name = script_path.substr(script_path.rfind('/') + 1);
  for (const std::string_view line : lines) {
    std::size_t at = line.find(script_path + ":");
    std::size_t after = at + script_path.size() + 1;
    if (at == line.npos) {
      at = line.find(name + ":");
      after = at + name.size() + 1;
    }
    if (at == line.npos) continue;
    std::string_view rest = http::trim(line.substr(after));
    if (rest.starts_with("line ")) rest.remove_prefix(5);
    const std::size_t number = leading_number(rest, rest);
    if (number == 0 || !(rest.empty() || rest.front() == ':')) continue;
    if (rest.starts_with(':')) rest.remove_prefix(1);
    std::string message(http::trim(rest));
    // JavaScript shows the source first, and the message in the first line after it that names an error.
    if (message.empty())
      for (const std::string_view other : lines)
        if (message.empty() && other.find("Error") != other.npos && !other.starts_with(' '))
          message = std::string(other);
    return ErrorPlace{script_path, number, std::move(message)};
  }
  return std::nullopt;
}

/// What `file` holds, if it is an ordinary one below `folder` and all names on the way there are shown.
std::optional<std::string> content_below(const std::string& folder, const std::string& file,
                                         const std::function<bool(std::string_view)>& is_shown) {
  constexpr std::size_t kMostBytes = 1024 * 1024;
  if (!file.starts_with(folder + "/")) return std::nullopt;
  const auto root = files::Folder::open(folder);
  if (std::holds_alternative<files::SystemError>(root)) return std::nullopt;
  // Looked up only, not opened: opening a device may do something.
  const auto found = std::get<files::Folder>(root).open_beneath(file.substr(folder.size() + 1), O_PATH);
  const auto* const entry = std::get_if<files::Descriptor>(&found);
  struct stat info {};
  if (entry == nullptr || ::fstat(entry->get(), &info) != 0 || !S_ISREG(info.st_mode)) return std::nullopt;
  const std::string real = files::path_of(*entry);
  const std::string& top = std::get<files::Folder>(root).real_path();
  if (!real.starts_with(top)) return std::nullopt;
  for (std::string_view rest = std::string_view(real).substr(top.size()); !rest.empty();) {
    const std::size_t slash = std::min(rest.find('/'), rest.size());
    if (!is_shown(rest.substr(0, slash))) return std::nullopt;
    rest.remove_prefix(std::min(slash + 1, rest.size()));
  }
  const auto opened = files::reopen(*entry, info, O_RDONLY);
  const auto* const open = std::get_if<files::Descriptor>(&opened);
  return open == nullptr ? std::nullopt : files::content_of(*open, kMostBytes);
}

std::vector<SourceLine> lines_around(std::string_view content, std::size_t line, std::size_t around) {
  constexpr std::size_t kMostShown = 400;
  std::vector<SourceLine> out;
  for (std::size_t number = 1; !content.empty(); ++number) {
    const std::size_t end = std::min(content.find('\n'), content.size());
    const bool is_near = number >= line ? number - line <= around : line - number <= around;
    if (is_near) out.push_back({number, std::string(content.substr(0, std::min(end, kMostShown))), number == line});
    if (number > line && !is_near) break;
    content.remove_prefix(std::min(end + 1, content.size()));
  }
  return out;
}

}  // namespace

std::optional<ErrorPlace> find_error_place(std::string_view error_text, const std::string& script_path) {
  const auto lines = lines_of(error_text);
  if (auto place = php_place(lines)) return place;
  if (auto place = python_place(lines, script_path)) return place;
  if (auto place = tcl_place(lines, script_path)) return place;
  if (auto place = colon_place(lines, script_path)) return place;
  return perl_place(lines, script_path);
}

std::size_t line_number(std::string_view text) { return leading_number(text); }

std::vector<SourceLine> source_around(const std::string& file, std::size_t line, std::size_t around,
                                      std::span<const std::string> folders,
                                      const std::function<bool(std::string_view)>& is_shown) {
  for (const std::string& folder : folders)
    if (const auto content = content_below(folder, file, is_shown)) return lines_around(*content, line, around);
  return {};
}

std::optional<std::size_t> line_left_open(const ErrorPlace& place, std::span<const std::string> folders) {
  constexpr std::size_t kLinesBefore = 8;
  const std::size_t at = place.message.find("unexpected ");
  const auto token = at == place.message.npos ? std::nullopt : quoted_name(std::string_view(place.message).substr(at));
  if (!token) return std::nullopt;
  const auto lines = source_around(place.file, place.line, kLinesBefore, folders,
                                   [](std::string_view name) { return !name.starts_with('.'); });
  const auto trimmed = [](std::string_view text) {
    text.remove_prefix(std::min(text.find_first_not_of(" \t"), text.size()));
    return text.substr(0, text.find_last_not_of(" \t\r") + 1);
  };
  std::optional<std::size_t> before;
  for (const SourceLine& line : lines) {
    const std::string_view text = trimmed(line.text);
    if (line.number == place.line) return text.starts_with(*token) ? before : std::nullopt;
    const bool is_comment =
        text.starts_with("//") || text.starts_with('#') || text.starts_with('*') || text.starts_with("/*");
    if (text.empty() || is_comment) continue;
    constexpr std::string_view kEnds = ";{}:,([>";
    before = kEnds.find(text.back()) == kEnds.npos ? std::optional(line.number) : std::nullopt;
  }
  return std::nullopt;
}

std::optional<std::string> quoted_name(std::string_view line) {
  for (const char quote : {'\'', '"', '`'}) {
    const std::size_t open = line.find(quote);
    const std::size_t close = open == line.npos ? open : line.find(quote == '`' ? '\'' : quote, open + 1);
    if (close != line.npos && close > open + 1) return std::string(line.substr(open + 1, close - open - 1));
  }
  return std::nullopt;
}

}  // namespace porter::script
