// The frame that all of the server's own pages share: document, style, footer.
#pragma once

#include <string>
#include <string_view>

namespace porter::server::pages {

/// The Content-Security-Policy of our HTML pages: the one style sheet that frame() puts into them (told by its SHA-256)
/// and an empty icon, and nothing else; no frame of another page around them.
inline constexpr std::string_view kHtmlPolicy =
    "default-src 'none'; style-src 'sha256-zJkIqxbivcd0FlN/fgtoQN+GcXie4jdNnJbHWaSX/F8='; img-src data:; base-uri "
    "'none'; "
    "form-action 'none'; frame-ancestors 'none'";
/// That of our pages of plain text, which need nothing.
inline constexpr std::string_view kTextPolicy = "default-src 'none'; frame-ancestors 'none'";

/// A whole HTML document with `title` (plain text) around `content` (HTML).
std::string frame(std::string_view title, std::string_view content);

}  // namespace porter::server::pages
