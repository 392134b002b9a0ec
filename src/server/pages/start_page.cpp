// Writing the start page.
#include "server/pages/start_page.hpp"

#include <fmt/format.h>

#include "core/text/text.hpp"
#include "server/pages/frame.hpp"

namespace porter::server::pages {

std::string start_page(const StartPage& page) {
  using text::escape_html;
  const std::string heading = page.empty_root.empty() ? "No site here yet" : "This folder is empty";
  std::string out = "<h1>" + heading + "</h1>\n";
  if (page.empty_root.empty()) {
    out += "<p class=\"lead\">The server runs. Add a site to this address.</p>\n";
  } else {
    out += fmt::format(
        "<p class=\"lead\">The server runs. The document root <code>{}</code> is empty; what you put there shows "
        "here.</p>\n",
        escape_html(page.empty_root));
  }
  out +=
      fmt::format("<h2>What to do next</h2>\n<div class=\"remedy\"><pre>{}</pre></div>\n", escape_html(page.next_step));
  if (!page.console_url.empty())
    out += fmt::format("<p>Or <a href=\"{}\">go on in the console</a>.</p>\n", escape_html(page.console_url));
  if (!page.sites.empty()) {
    out += "<h2>Sites</h2>\n<dl>\n";
    for (const auto& [name, url] : page.sites)
      out += fmt::format("<dt>{}</dt><dd><a href=\"{}\">{}</a></dd>\n", escape_html(name), escape_html(url),
                         escape_html(url));
    out += "</dl>\n";
  }
  out += "<h2>Languages</h2>\n<dl>\n";
  for (const auto& [language, path] : page.interpreters)
    out += fmt::format("<dt>{}</dt><dd class=\"mono\">{}</dd>\n", escape_html(language),
                       path.empty() ? "not installed" : escape_html(path));
  return frame(heading, out + "</dl>\n");
}

}  // namespace porter::server::pages
