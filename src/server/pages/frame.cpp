// The shared frame and its style sheet, which follows the reader's choice of light or dark.
#include "server/pages/frame.hpp"

#include <fmt/format.h>

#include "core/text/text.hpp"

namespace porter::server::pages {
namespace {

constexpr std::string_view kStyle = R"css(
:root { color-scheme: light dark; --ink: #17242d; --soft: #5a6b76; --paper: #f6f8f9; --card: #ffffff; --line: #d8e0e4;
  --accent: #0b6477; --warn: #a03c12; --code: #eef3f5; --mark: #fbe3d6; }
@media (prefers-color-scheme: dark) { :root { --ink: #e4ecf0; --soft: #98a9b3; --paper: #10181d; --card: #182229;
  --line: #2b3941; --accent: #63c5d8; --warn: #f0a27c; --code: #0f1519; --mark: #4a2a1c; } }
* { box-sizing: border-box; }
body { margin: 0; background: var(--paper); color: var(--ink); font: 16px/1.5 system-ui, "DejaVu Sans", sans-serif; }
main { max-width: 60rem; margin: 0 auto; padding: 2.5rem 1.5rem 1rem; }
h1 { font-size: 1.6rem; line-height: 1.25; margin: 0 0 1rem; overflow-wrap: anywhere; }
h2 { font-size: 0.8rem; text-transform: uppercase; letter-spacing: 0.06em; color: var(--soft); margin: 1.75rem 0 0.5rem; }
a { color: var(--accent); text-underline-offset: 0.15em; }
code, pre, .mono { font-family: ui-monospace, "DejaVu Sans Mono", monospace; font-size: 0.9em; }
pre { background: var(--code); border: 1px solid var(--line); border-radius: 6px; padding: 0.75rem 1rem; margin: 0;
  overflow-x: auto; white-space: pre-wrap; overflow-wrap: anywhere; }
.lead { font-size: 1.1rem; overflow-wrap: anywhere; margin: 0; }
.status { color: var(--warn); font-weight: 600; margin: 0 0 0.25rem; }
.mark { display: inline-block; min-width: 100%; background: var(--mark); font-weight: 600; }
.remedy pre { margin-top: 0.5rem; }
.remedy { background: var(--card); border: 1px solid var(--line); border-left: 4px solid var(--accent);
  border-radius: 6px; padding: 0.75rem 1rem; overflow-wrap: anywhere; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: 0.25rem 1.5rem; margin: 0; }
dt { color: var(--soft); } dd { margin: 0; overflow-wrap: anywhere; }
ol { margin: 0; padding-left: 1.4rem; } li { overflow-wrap: anywhere; }
table { width: 100%; border-collapse: collapse; background: var(--card); border: 1px solid var(--line); }
th, td { padding: 0.45rem 1rem; text-align: left; white-space: nowrap; border-bottom: 1px solid var(--line); vertical-align: baseline; }
tr:last-child td { border-bottom: 0; }
th { font-size: 0.85rem; font-weight: 600; } th a { color: var(--soft); }
td.number, th.number { text-align: right; font-variant-numeric: tabular-nums; }
td.name, th.name { width: 100%; white-space: normal; overflow-wrap: anywhere; } td.date { color: var(--soft); }
.runs { font-size: 0.75rem; color: var(--accent); border: 1px solid; border-radius: 1em; padding: 0 0.5em;
  margin-left: 0.5em; }
.folder { font-weight: 600; }
.count { color: var(--soft); }
footer { max-width: 60rem; margin: 0 auto; padding: 1rem 1.5rem 2rem; color: var(--soft); font-size: 0.85rem; }
)css";

}  // namespace

std::string frame(std::string_view title, std::string_view content) {
  return fmt::format(
      "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
      "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
      "<title>{}</title>\n<link rel=\"icon\" href=\"data:,\">\n<style>{}</style>\n</head>\n<body>\n<main>\n{}</main>\n"
      "<footer>Upright Porter {}</footer>\n</body>\n</html>\n",
      text::escape_html(title), kStyle, content, PORTER_VERSION);
}

}  // namespace porter::server::pages
