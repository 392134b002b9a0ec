// See language_facts.hpp.
#include "machine/language_facts.hpp"

#include <algorithm>
#include <array>
#include <boost/asio/this_coro.hpp>
#include <utility>

#include "core/files/content.hpp"
#include "core/http/head.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "run/pool/order.hpp"
#include "run/script_source.hpp"

namespace porter::machine {
namespace {

constexpr std::chrono::seconds kMostFactsTime{10};
constexpr std::size_t kMostFacts = 4 * 1024 * 1024;

/// A program in a language that prints what facts_of() gives, read from its standard input.
struct Question {
  std::string_view language;
  std::vector<std::string> arguments;
  std::string_view text;
};

const std::vector<Question>& questions() {
  static const std::vector<Question> kQuestions = {
      {"PHP",
       {"-q"},
       R"(<?php
$names = ['upload_max_filesize', 'post_max_size', 'max_file_uploads', 'memory_limit', 'max_execution_time',
  'max_input_time', 'max_input_vars', 'display_errors', 'display_startup_errors', 'error_reporting', 'log_errors',
  'error_log', 'short_open_tag', 'output_buffering', 'default_charset', 'date.timezone', 'session.save_path',
  'upload_tmp_dir', 'opcache.enable', 'allow_url_fopen', 'disable_functions'];
$values = [];
foreach ($names as $name)
  if (ini_get($name) !== false) $values[] = ['name' => $name, 'value' => (string) ini_get($name)];
$values[] = ['name' => 'php.ini', 'value' => php_ini_loaded_file() ?: 'none'];
$values[] = ['name' => 'further ini files', 'value' => preg_replace('/,\s*/', ', ', trim((string) php_ini_scanned_files()))];
$modules = [];
foreach (get_loaded_extensions() as $name) $modules[] = ['name' => $name, 'version' => (string) phpversion($name)];
echo json_encode(['values' => $values, 'modules' => $modules,
  'search_paths' => explode(PATH_SEPARATOR, get_include_path())], JSON_INVALID_UTF8_SUBSTITUTE);
)"},
      {"Perl",
       {},
       R"(use Config; use File::Find; use JSON::PP;
my (%seen, @modules);
for my $path (grep { -d } @INC) {
  find({no_chdir => 1, wanted => sub {
    my $name = substr($File::Find::name, length $path);
    if (-d) { $File::Find::prune = 1 if ($name =~ tr!/!!) > 2; return }
    return unless $name =~ s!\.pm$!!;
    $name =~ s!^/!!; $name =~ s!/!::!g;
    push @modules, {name => $name, version => ''} unless $seen{$name}++;
  }}, $path);
}
print encode_json({values => [map { {name => $_, value => "$Config{$_}"} } qw(archname usethreads useithreads)],
  search_paths => [@INC], modules => [sort { $a->{name} cmp $b->{name} } @modules]});
)"},
      {"Python",
       {"-"},
       R"(import json, sys
try:
    from importlib import metadata
    modules = sorted({(d.metadata["Name"] or "?", d.version) for d in metadata.distributions()})
except Exception:
    modules = []
print(json.dumps({"values": [{"name": "prefix", "value": sys.prefix}, {"name": "executable", "value": sys.executable},
    {"name": "encoding", "value": sys.getdefaultencoding()}],
    "search_paths": [p for p in sys.path if p],
    "modules": [{"name": n, "version": v} for n, v in modules]}))
)"},
      {"Ruby",
       {"-"},
       R"(require "json"
puts JSON.generate({values: [{name: "platform", value: RUBY_PLATFORM}, {name: "gem folder", value: Gem.dir}],
  search_paths: $LOAD_PATH, modules: Gem::Specification.map { |s| {name: s.name, version: s.version.to_s} }})
)"},
      {"JavaScript",
       {"-"},
       R"(const m = require("module");
console.log(JSON.stringify({values: Object.entries(process.versions).map(([name, value]) => ({name, value})),
  search_paths: m.globalPaths, modules: m.builtinModules.filter((n) => !n.startsWith("_")).map((name) =>
  ({name, version: ""}))}));
)"},
      {"Lua",
       {"-"},
       R"(local function quoted(s) return '"' .. s:gsub('[%c"\\]', function(c) return string.format("\\u%04x", c:byte()) end)
  .. '"' end
local paths = {}
for path in (package.path .. ";" .. package.cpath):gmatch("[^;]+") do paths[#paths + 1] = quoted(path) end
print('{"values": [], "modules": [], "search_paths": [' .. table.concat(paths, ", ") .. "]}")
)"},
      {"Tcl",
       {},
       R"(set paths {}
foreach path $auto_path { lappend paths "\"[string map {\\ \\\\ \" \\\"} $path]\"" }
puts "{\"values\": \[\], \"modules\": \[\], \"search_paths\": \[[join $paths {, }]\]}"
)"},
  };
  return kQuestions;
}

/// What the interpreter prints when it runs `text`.
asio::awaitable<std::string> output_for(run::RunSet& runs, const FoundInterpreter& found, std::string search_path,
                                        std::vector<std::string> arguments, std::string_view text) {
  run::RunOrder order;
  order.program = found.path;
  order.arguments = {found.path};
  // As its pages find it.
  for (std::string& word : run::directive_arguments(
           found.interpreter, {}, found.interpreter.is_persistent() ? run::Runs::persistent : run::Runs::fresh))
    order.arguments.push_back(std::move(word));
  order.arguments.insert(order.arguments.end(), arguments.begin(), arguments.end());
  order.environment.add("PATH", search_path);
  for (const std::string& variable : found.interpreter.environment) {
    const std::size_t equals = variable.find('=');
    order.environment.add(variable.substr(0, equals), variable.substr(equals + 1));
  }
  order.folder = "/";
  order.input = run::InputKind::file;
  order.input_file = files::unnamed_file(text);
  auto started = run::Run::start(co_await asio::this_coro::executor, runs, std::move(order));
  std::string output;
  if (std::holds_alternative<run::StartError>(started)) co_return output;
  const auto process = std::get<std::shared_ptr<run::Run>>(started);
  process->set_deadline(run::Clock::now() + kMostFactsTime);
  std::vector<char> buffer(64 * 1024);
  while (const std::size_t got = co_await process->read(buffer))
    if (output.size() < kMostFacts) output += std::string_view(buffer.data(), got);
  co_await process->end();
  co_return output;
}

}  // namespace

asio::awaitable<nlohmann::json> facts_of(run::RunSet& runs, FoundInterpreter found, std::string search_path) {
  nlohmann::json out = nlohmann::json::object();
  const auto& all = questions();
  const auto question = std::find_if(all.begin(), all.end(), [&](const Question& one) {
    return http::same_name(one.language, found.interpreter.language);
  });
  if (question == all.end()) co_return out;
  auto asking = output_for(runs, found, std::move(search_path), question->arguments, question->text);
  const std::string output = co_await std::move(asking);
  auto told = parse_json(text::to_utf8(output));
  if (told.is_object()) out = std::move(told);
  co_return out;
}

asio::awaitable<std::string> information_page(run::RunSet& runs, FoundInterpreter found, std::string search_path) {
  std::vector<std::string> arguments = {"-q"};
  auto asking = output_for(runs, found, std::move(search_path), std::move(arguments), "<?php phpinfo();");
  std::string page = co_await std::move(asking);
  co_return page;
}

}  // namespace porter::machine
