// Asking PHP about itself, by a small program in its own language. See php.hpp.
#include "machine/php.hpp"

#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <boost/asio/co_spawn.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/this_coro.hpp>
#include <ctime>
#include <filesystem>
#include <system_error>

#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/script/interpreters.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "machine/environment.hpp"
#include "machine/instance.hpp"
#include "machine/probe.hpp"

namespace porter::machine {
namespace {

/// What was set aside bears this behind its name.
constexpr const char* kAside = ".old-";

constexpr std::string_view kQuestion = R"(<?php
$size = fn($name) => function_exists('ini_parse_quantity') ? ini_parse_quantity(ini_get($name))
  : (int) ini_get($name) * (1024 ** (int) strpos('_kmg', strtolower(substr(ini_get($name), -1)) ?: '_'));
$folders = getenv('PHP_INI_SCAN_DIR');
$folders = $folders === false ? PHP_CONFIG_FILE_SCAN_DIR : $folders;
$files = [php_ini_loaded_file() ?: PHP_CONFIG_FILE_PATH . '/php.ini'];
foreach (explode(PATH_SEPARATOR, $folders) as $folder) $files[] = $folder === '' ? PHP_CONFIG_FILE_SCAN_DIR : $folder;
echo json_encode(['files' => array_values(array_filter($files)), 'post' => $size('post_max_size'),
  'upload' => $size('upload_max_filesize')], JSON_INVALID_UTF8_SUBSTITUTE);
)";

std::optional<std::uint64_t> size_in(const nlohmann::json& said, const char* name) {
  const auto found = said.find(name);
  // 0 stands for no limit.
  if (found == said.end() || !found->is_number_integer() || found->get<long long>() <= 0) return std::nullopt;
  return found->get<std::uint64_t>();
}

}  // namespace

std::string opcode_folder() {
  std::string folder = state_folder() + ".php-opcodes";
  return make_private(folder) ? folder : std::string();
}

void set_opcodes_aside(const std::string& folder) {
  static std::atomic<unsigned> count{0};
  const std::string aside = folder + kAside + std::to_string(::getpid()) + "-" + std::to_string(count++);
  if (!folder.empty() && ::rename(folder.c_str(), aside.c_str()) == 0) make_private(folder);
}

void remove_opcodes_aside(const std::string& folder) {
  namespace fs = std::filesystem;
  const fs::path path(folder);
  std::error_code ignored;
  std::vector<fs::path> found;
  for (fs::directory_iterator at(path.parent_path(), ignored), end; !ignored && at != end; at.increment(ignored))
    if (at->path().filename().string().starts_with(path.filename().string() + kAside)) found.push_back(at->path());
  for (const fs::path& one : found) fs::remove_all(one, ignored);
}

asio::awaitable<std::optional<PhpFacts>> ask_php(run::RunSet& runs, run::PoolOrder order) {
  run::RunOrder question;
  question.program = order.program;
  question.arguments = std::move(order.arguments);
  question.arguments.emplace_back("-q");
  // What a site has put before each of its scripts has no business here.
  for (const char* const directive : {"auto_prepend_file=", "auto_append_file=", "opcache.enable=0"})
    question.arguments.insert(question.arguments.end(), {"-d", directive});
  question.environment = script::Environment(order.environment);
  question.folder = order.folder;
  question.input = run::InputKind::file;
  question.input_file = files::unnamed_file(std::string(kQuestion));
  auto started = run::Run::start(co_await asio::this_coro::executor, runs, std::move(question));
  if (std::holds_alternative<run::StartError>(started)) co_return std::nullopt;
  auto asked = output_of(std::get<std::shared_ptr<run::Run>>(started));
  const std::string output = co_await std::move(asked);
  // Warnings may stand before it.
  const auto said = parse_json(std::string_view(output).substr(std::min(output.rfind("{\"files\""), output.size())));
  if (!said.is_object()) co_return std::nullopt;
  PhpFacts out;
  if (const auto files = said.find("files"); files != said.end() && files->is_array())
    for (const auto& file : *files)
      if (file.is_string()) out.files.push_back(file.get<std::string>());
  out.post_size = size_in(said, "post");
  out.upload_size = size_in(said, "upload");
  co_return out;
}

namespace {

/// A bound on a body, as whoever set it would write it.
struct Bound {
  std::string who;
  std::string key;
  std::uint64_t bytes;
};

/// The finding for the `larger` bound that the `smaller` one takes the meaning from; nullopt if it does not.
std::optional<Finding> contradiction(const Bound& larger, const Bound& smaller, const std::string& site) {
  if (larger.bytes <= smaller.bytes) return std::nullopt;
  Finding out{Code::body_limits_differ,
              {{"larger_who", larger.who},
               {"larger", text::format_limit(larger.bytes)},
               {"larger_key", larger.key},
               {"smaller_who", smaller.who},
               {"smaller", text::format_limit(smaller.bytes)},
               {"smaller_key", smaller.key}}};
  if (!site.empty()) out.facts.emplace_back("site", site);
  return out;
}

/// Those of the PHP that runs by `rule`, for `site` if that has its own.
void add_contradictions(const Settings& settings, const script::Interpreter& rule, const Site& site,
                        const std::string& named, const std::string& search_path, std::vector<Finding>& out) {
  const std::string program = files::find_program(rule.program, search_path);
  if (!rule.is_php() || !rule.persistence.external.empty() || program.empty()) return;
  std::optional<PhpFacts> facts;
  asio::io_context context(1);
  run::RunSet runs(context.get_executor());
  auto order = run::pool_order(settings, site, rule, program, {passed_on(), {}});
  if (::access(order.folder.c_str(), X_OK) != 0) order.folder = "/";
  asio::co_spawn(context, ask_php(runs, order), [&](const std::exception_ptr&, std::optional<PhpFacts> said) {
    facts = std::move(said);
    context.stop();
  });
  context.run();
  if (!facts || !facts->post_size || !facts->upload_size) return;
  const Bound server{"the server", "body", settings.limits.body};
  const Bound post{rule.language, "post_max_size", *facts->post_size};
  const Bound upload{rule.language, "upload_max_filesize", *facts->upload_size};
  const auto add = [&](const Bound& larger, const Bound& smaller) {
    if (auto found = contradiction(larger, smaller, named)) out.push_back(std::move(*found));
  };
  add(upload, post);
  add(post, server);
  // As they come, PHP takes less than the server does, and nobody has asked for more.
  if (settings.limits.body != Limits().body) add(server, post);
}

}  // namespace

std::vector<Finding> body_contradictions(const Settings& settings, const std::string& search_path) {
  std::vector<Finding> out;
  Site anywhere;
  anywhere.document_root = "/";
  for (const script::Interpreter& rule : settings.interpreters)
    add_contradictions(settings, rule, anywhere, "", search_path, out);
  for (const Site& site : settings.sites)
    for (const script::Interpreter& rule : site.own_languages)
      if (std::find(settings.interpreters.begin(), settings.interpreters.end(), rule) == settings.interpreters.end())
        add_contradictions(settings, rule, site, site.name, search_path, out);
  // The same for each site that runs its PHP in a way of its own says nothing new.
  const auto without_site = [](Finding finding) {
    std::erase_if(finding.facts, [](const Fact& fact) { return fact.first == "site"; });
    return finding.facts;
  };
  for (std::size_t i = 0; i < out.size(); ++i)
    out.erase(std::remove_if(out.begin() + static_cast<std::ptrdiff_t>(i) + 1, out.end(),
                             [&](const Finding& other) { return without_site(other) == without_site(out[i]); }),
              out.end());
  return out;
}

namespace {

/// Adds the files below `folder` that a program there may have loaded, by the endings of the languages.
void add_modules(const std::string& folder, std::vector<std::string>& files) {
  namespace fs = std::filesystem;
  constexpr std::size_t kMostFiles = 2000;
  constexpr std::string_view kEndings[] = {".py", ".pl",  ".pm",  ".psgi", ".rb",  ".ru",
                                           ".js", ".mjs", ".cjs", ".lua",  ".tcl", ".so"};
  std::error_code error;
  for (fs::recursive_directory_iterator entry(folder, fs::directory_options::skip_permission_denied, error), end;
       !error && entry != end && files.size() < kMostFiles; entry.increment(error)) {
    const std::string ending = entry->path().extension().string();
    if (std::find(std::begin(kEndings), std::end(kEndings), ending) != std::end(kEndings) &&
        entry->is_regular_file(error))
      files.push_back(entry->path().string());
  }
}

}  // namespace

asio::awaitable<void> watch_files(run::RunSet& runs, std::shared_ptr<run::Pool> pool) {
  const run::PoolOrder& order = pool->order();
  const std::time_t since = std::time(nullptr);
  std::vector<std::string> files = {order.program};
  for (std::size_t i = 1; i < order.arguments.size(); ++i) {
    const std::string& argument = order.arguments[i];
    const std::string path = argument.starts_with('/') ? argument : order.folder + "/" + argument;
    if (::access(path.c_str(), F_OK) == 0 && !argument.empty()) files.push_back(path);
  }
  if (order.is_of_folder) add_modules(order.folder, files);
  pool->files().watch(files, since);
  if (!files::base_name(order.program).starts_with("php")) co_return;
  auto asking = ask_php(runs, order);
  const auto facts = co_await std::move(asking);
  if (facts) pool->files().watch(facts->files, since);
}

}  // namespace porter::machine
