// The frame that all of the server's own pages share: document, style, footer.
#pragma once

#include <string>
#include <string_view>

namespace porter::server::pages {

/// A whole HTML document with `title` (plain text) around `content` (HTML).
std::string frame(std::string_view title, std::string_view content);

}  // namespace porter::server::pages
