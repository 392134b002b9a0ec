// Asking apt-cache. See packages.hpp.
#include "machine/packages.hpp"

#include <algorithm>
#include <array>
#include <boost/asio/this_coro.hpp>
#include <string_view>
#include <vector>

#include "core/files/beneath.hpp"
#include "core/text/text.hpp"
#include "machine/probe.hpp"

namespace porter::machine {
asio::awaitable<Finding> with_package(run::RunSet& runs, std::string search_path, Finding finding) {
  const std::string likely(finding.code == Code::module_missing ? finding.fact("packages").value_or("") : "");
  const std::vector<std::string_view> packages = text::parts_of(likely, ' ');
  const std::string program = packages.empty() ? "" : files::find_program("apt-cache", search_path);
  if (program.empty()) co_return finding;
  // What they all begin with, so that one question will do.
  std::string prefix(packages.front());
  for (const std::string_view package : packages)
    while (!package.starts_with(prefix)) prefix.pop_back();
  run::RunOrder order;
  order.program = program;
  order.arguments = {program, "pkgnames", prefix};
  order.environment.add("PATH", search_path);
  order.folder = "/";
  auto started = run::Run::start(co_await asio::this_coro::executor, runs, std::move(order));
  if (std::holds_alternative<run::StartError>(started)) co_return finding;
  const auto process = std::get<std::shared_ptr<run::Run>>(started);
  auto output = output_of(process);
  std::string names = co_await std::move(output);
  names = "\n" + names + "\n";
  const auto known = std::find_if(packages.begin(), packages.end(), [&](std::string_view package) {
    return names.find("\n" + std::string(package) + "\n") != names.npos;
  });
  const auto install = std::find_if(finding.facts.begin(), finding.facts.end(),
                                    [](const Fact& fact) { return fact.first == "install"; });
  if (known != packages.end() && install != finding.facts.end())
    install->second = "sudo apt-get install " + std::string(*known);
  co_return finding;
}

}  // namespace porter::machine
