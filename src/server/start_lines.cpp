// Formatting the start lines.
#include "server/start_lines.hpp"

#include <fmt/format.h>

#include <iterator>

#include "core/text/text.hpp"

namespace porter::server {

std::string text_of(const StartLines& start, Colour colour) {
  const bool coloured = colour == Colour::on;
  const std::string_view bold = coloured ? "\x1b[1m" : "";
  const std::string_view good = coloured ? "\x1b[1;32m" : "";
  const std::string_view warn = coloured ? "\x1b[1;33m" : "";
  const std::string_view plain = coloured ? "\x1b[0m" : "";
  std::string out;
  const auto into = std::back_inserter(out);
  fmt::format_to(into, "{}Upright Porter is ready{} after {:.0f} ms\n\n", good, plain,
                 std::chrono::duration<double, std::milli>(start.ready_after).count());
  if (start.instead_of) fmt::format_to(into, "  {}Port{}           {}\n", warn, plain, *start.instead_of);
  fmt::format_to(into, "  URL            {}http://localhost:{}/{}\n", bold, start.port, plain);
  fmt::format_to(into, "  Document root  {}\n", text::escape_line(start.document_root));
  std::string runs;
  std::string missing;
  for (const run::FoundInterpreter& found : start.interpreters) {
    const std::string name(found.interpreter->language);
    if (found.path.empty()) {
      missing += (missing.empty() ? "" : ", ") + name;
    } else {
      runs += (runs.empty() ? "" : ", ") + name + (found.version.empty() ? "" : " " + found.version);
    }
  }
  fmt::format_to(into, "  Runs           {}\n", runs.empty() ? "compiled programs" : runs + ", compiled programs");
  if (!missing.empty()) fmt::format_to(into, "  Not installed  {}\n", missing);
  if (start.reach == Reach::this_computer) {
    out += "  Reach          this computer only\n";
  } else {
    fmt::format_to(into, "  Reach          {}other computers in the network can reach it{}\n", warn, plain);
  }
  fmt::format_to(into, "  Stop           Ctrl+C\n\n");
  return out;
}

}  // namespace porter::server
