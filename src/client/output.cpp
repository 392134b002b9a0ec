// Speaking to people at a terminal.
#include "client/output.hpp"

#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <exception>
#include <new>
#include <utility>

#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/findings/finding_json.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/instance.hpp"
#include "machine/terminal.hpp"

namespace porter::client {
namespace {

/// What the command has to tell as JSON.
struct {
  bool is_wanted = false;
  bool has_facts = false;
  nlohmann::json findings = nlohmann::json::array();
} told_as_json;

/// Tells `text`, of which `finding` is the JSON.
void tell(const std::string& text, const nlohmann::json& finding) {
  if (told_as_json.is_wanted) {
    told_as_json.findings.push_back(finding);
  } else {
    std::fputs(text.c_str(), stderr);
  }
}

/// Prints the errors that were met; behind facts they go where errors go.
void flush_findings() {
  if (told_as_json.findings.empty()) return;
  const nlohmann::json all = {{"findings", std::exchange(told_as_json.findings, nlohmann::json::array())}};
  std::fputs((json_text(all, 2) + "\n").c_str(), told_as_json.has_facts ? stderr : stdout);
}

}  // namespace

void set_json_wanted() { told_as_json.is_wanted = true; }
bool is_json_wanted() { return told_as_json.is_wanted; }

void print_json(const nlohmann::json& facts) {
  told_as_json.has_facts = true;
  std::fputs((json_text(facts, 2) + "\n").c_str(), stdout);
}

void print_json_line(const nlohmann::json& facts) {
  told_as_json.has_facts = true;
  std::fputs((json_text(facts) + "\n").c_str(), stdout);
}

const Paint& paint() {
  static const Paint kPaint = [] {
    return machine::wants_colour() ? Paint{"\x1b[1;32m", "\x1b[1;33m", "\x1b[1;31m", "\x1b[1m", "\x1b[0m"} : Paint{};
  }();
  return kPaint;
}

bool exists_if_named(const std::string& settings) {
  if (settings.empty()) return true;
  const std::string file = machine::find_settings_file(settings);
  if (::access(file.c_str(), F_OK) == 0) return true;
  // A server outlives the file that it was started with, and can be controlled all the same.
  if (machine::lock_holder(machine::find_instance(settings))) return true;
  fail(no_settings_file(file));
  return false;
}

std::string no_settings_file(const std::string& file) {
  return "Settings file " + text::escape_line(file) +
         " not found. Create it with a first site: uporter site add NAME FOLDER" + machine::settings_option(file);
}

void tell_of_variables() {
  constexpr std::size_t kMostNamed = 8;
  const std::vector<std::string> names = machine::kept_from_scripts();
  if (names.empty() || is_json_wanted()) return;
  std::string shown;
  for (std::size_t i = 0; i < names.size() && i < kMostNamed; ++i) shown += (i > 0 ? ", " : "") + names[i];
  if (names.size() > kMostNamed) shown += " and " + std::to_string(names.size() - kMostNamed) + " more";
  std::fprintf(stderr,
               "Exported here, and not passed on to scripts: %s. To pass one on, in the settings of a site: "
               "environment = { %s = \"…\" }\n",
               text::escape_line(shown).c_str(), text::escape_line(names.front()).c_str());
}

void print_wrapped(const std::string& lines, std::size_t indent) {
  static const std::size_t kWidth = machine::terminal_width();
  std::fputs(text::wrap(lines, kWidth, indent).c_str(), stdout);
}

std::string shown(const nlohmann::json& text) { return text::escape_line(text.get<std::string>()); }

int fail(const std::string& sentence, int status) {
  tell(sentence + "\n", {{"code", status == kBadUse ? "usage-error" : "not-done"},
                         {"sentence", text::to_utf8(sentence)},
                         {"remedy", ""},
                         {"text", text::to_utf8(sentence + "\n")}});
  return status;
}

int fail(const std::vector<SettingsProblem>& problems) {
  for (const SettingsProblem& problem : problems) tell(text_of(problem), json_of(problem));
  return kBadUse;
}

int fail_with(const nlohmann::json& body) {
  if (!body.is_object()) return fail("The server gave a response that cannot be read.");
  for (const auto& finding : body.value("findings", nlohmann::json::array()))
    tell(finding.value("text", std::string("(unknown finding)\n")), finding);
  return kFailed;
}

int fail(const Finding& finding) {
  tell(text::escape_line(sentence_of(finding)) + "\nWhat to do: " + text::escape_lines(remedy_of(finding), "    ") +
           "\n",
       json_of(finding));
  return kFailed;
}

namespace {

std::variant<std::string, Unreadable> told(std::variant<std::string, files::SystemError> content,
                                           const std::string& path) {
  if (auto* const text = std::get_if<std::string>(&content)) return std::move(*text);
  const int error = std::get<files::SystemError>(content).number;
  const std::string name = text::escape_line(path);
  if (error == EISDIR) return Unreadable{name + " is a folder. Name a file."};
  if (error == ENOENT) return Unreadable{"There is no file " + name + "."};
  return Unreadable{"The file " + name + " cannot be read: " + files::describe({error}) + "."};
}

}  // namespace

std::variant<std::string, Unreadable> content_of_named(const std::string& path) {
  return told(files::read_whole(path), path);
}

std::variant<std::string, Unreadable> body_from(const std::string& source) {
  if (source != "-") return content_of_named(source);
  return told(files::read_rest(files::Descriptor(::dup(STDIN_FILENO))), "standard input");
}

int guarded(const std::string& command, const std::function<int()>& work) noexcept {
  try {
    const int status = work();
    flush_findings();
    return status;
  } catch (const std::bad_alloc&) {
    std::fprintf(stderr, "There is no memory left for \"%s\".\n", command.c_str());
  } catch (const std::exception& error) {
    const Finding finding{Code::internal_error,
                          {{"program", "uporter"}, {"action", '"' + command + '"'}, {"reason", error.what()}}};
    std::fprintf(stderr, "%s\n", text::escape_lines(sentence_of(finding) + " " + remedy_of(finding), "  ").c_str());
  }
  return kFailed;
}

}  // namespace porter::client
