// Speaking to people at a terminal.
#include "client/output.hpp"

#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <exception>
#include <new>

#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/instance.hpp"
#include "machine/terminal.hpp"

namespace porter::client {

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
  if (names.empty()) return;
  std::string shown;
  for (std::size_t i = 0; i < names.size() && i < kMostNamed; ++i) shown += (i > 0 ? ", " : "") + names[i];
  if (names.size() > kMostNamed) shown += " and " + std::to_string(names.size() - kMostNamed) + " more";
  std::fprintf(stderr,
               "Exported here, and not passed on to scripts: %s. To pass one on, in the settings of a site: "
               "environment = { %s = \"…\" }\n",
               text::escape_line(shown).c_str(), text::escape_line(names.front()).c_str());
}

std::string shown(const nlohmann::json& text) { return text::escape_line(text.get<std::string>()); }

int fail(const std::string& sentence, int status) {
  std::fputs((sentence + "\n").c_str(), stderr);
  return status;
}

int fail(const std::vector<SettingsProblem>& problems) {
  for (const SettingsProblem& problem : problems) std::fputs(text_of(problem).c_str(), stderr);
  return kFailed;
}

int fail_with(const nlohmann::json& body) {
  if (!body.is_object()) return fail("The server gave a response that cannot be read.");
  for (const auto& finding : body.value("findings", nlohmann::json::array()))
    std::fputs(finding.value("text", std::string("(unknown finding)\n")).c_str(), stderr);
  return kFailed;
}

int fail(const Finding& finding) {
  return fail(text::escape_line(sentence_of(finding)) +
              "\nWhat to do: " + text::escape_lines(remedy_of(finding), "    "));
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
    return work();
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
