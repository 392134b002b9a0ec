// Formatting the start lines.
#include "server/start_lines.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "core/sites/choose.hpp"
#include "core/text/text.hpp"
#include "machine/network_urls.hpp"

namespace porter::server {

namespace {

/// The URLs by which other devices reach the sites, and the first as a code to be photographed.
void append_network_urls(std::string& out, const Settings& settings, bool shows_code) {
  constexpr std::size_t kBelowUrls = 17;
  std::vector<std::string> urls;
  for (const Site& site : settings.sites)
    for (std::string& url : machine::network_urls(settings, site)) urls.push_back(std::move(url));
  bool is_first = true;
  for (const std::string& url : urls) {
    out += fmt::format("  {:<13}  {}\n", is_first ? "Other devices" : "", url);
    is_first = false;
  }
  if (shows_code && !urls.empty()) out += machine::qr_code_text(machine::qr_code(urls.front()), kBelowUrls);
}

}  // namespace

std::string text_of(const StartLines& start, Colour colour) {
  const bool coloured = colour == Colour::on;
  const std::string_view bold = coloured ? "\x1b[1m" : "";
  const std::string_view good = coloured ? "\x1b[1;32m" : "";
  const std::string_view warn = coloured ? "\x1b[1;33m" : "";
  const std::string_view plain = coloured ? "\x1b[0m" : "";
  std::string out;
  const auto into = std::back_inserter(out);
  fmt::format_to(into, "{}Upright Porter started{} after {:.0f} ms\n\n", good, plain,
                 std::chrono::duration<double, std::milli>(start.ready_after).count());
  if (start.instead_of) fmt::format_to(into, "  {}Port{}           {}\n", warn, plain, *start.instead_of);
  const Settings& settings = start.settings;
  if (settings.file.empty()) {
    const Site& site = settings.sites.front();
    fmt::format_to(into, "  URL            {}http://localhost:{}/{}\n", bold, settings.addresses.front().port, plain);
    fmt::format_to(into, "  Document root  {}\n", text::escape_line(site.document_root));
  } else {
    fmt::format_to(into, "  Settings       {}\n", text::escape_line(settings.file));
    std::size_t widest = 0;
    for (const Site& site : settings.sites) widest = std::max(widest, site.name.size());
    for (const Site& site : settings.sites)
      fmt::format_to(into, "  {:<13}  {:<{}}  {}{}/{}  {}\n", &site == &settings.sites.front() ? "Sites" : "",
                     site.name, widest, bold, sites::url_of(settings, site, sites::main_address(settings, site)), plain,
                     text::escape_line(site.document_root));
    if (settings.sites.empty())
      fmt::format_to(into, "  Sites          {}none yet{}; add one: uporter site add NAME FOLDER\n", warn, plain);
  }
  if (!start.console.empty()) fmt::format_to(into, "  Console        {}\n", start.console);
  std::string runs;
  std::string missing;
  for (const machine::FoundInterpreter& found : start.interpreters) {
    const std::string& name = found.interpreter.language;
    const std::string whose = found.site.empty() ? "" : " for " + found.site;
    if (found.path.empty()) {
      missing += (missing.empty() ? "" : ", ") + name + whose;
    } else {
      runs += (runs.empty() ? "" : ", ") + name + (found.version.empty() ? "" : " " + found.version) + whose;
    }
  }
  fmt::format_to(into, "  Languages      {}\n", runs.empty() ? "compiled programs" : runs + ", compiled programs");
  if (!missing.empty()) fmt::format_to(into, "  Not installed  {}\n", missing);
  std::string open_to_network;
  for (const Listener& listener : settings.listeners()) {
    const Address& address = listener.address;
    if (!address.is_local()) open_to_network += (open_to_network.empty() ? "" : ", ") + address.text();
  }
  if (open_to_network.empty()) {
    out += "  Reach          this computer only\n";
  } else {
    fmt::format_to(into, "  Reach          {}other computers in the network can reach it{} ({})\n", warn, plain,
                   open_to_network);
    append_network_urls(out, settings, start.shows_code);
  }
  for (const std::string& remark : start.remarks)
    fmt::format_to(into, "  {}Note{}           {}\n", warn, plain, text::escape_line(remark));
  fmt::format_to(into, "  Stop           {}\n\n", start.stop);
  return out;
}

}  // namespace porter::server
