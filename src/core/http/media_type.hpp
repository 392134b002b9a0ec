// Media types by file name ending (RFC 9110, section 8.3; the type names are those of the IANA registry).
#pragma once

#include <string>
#include <string_view>
#include <unordered_map>

namespace porter::http {

/// Media types by ending, in lower case and without its dot.
using TypesByEnding = std::unordered_map<std::string, std::string>;

/// The value of Content-Type for a file called `name`: from those that are `chosen`; else from the table of the types
/// that web pages use, text types with
/// "; charset=utf-8"; else from `more`, the system's own list; else "application/octet-stream". Endings are compared
/// without regard to case.
std::string media_type(std::string_view name, const TypesByEnding& chosen, const TypesByEnding& more);

/// Endings (lower case, without the dot) and their types from the text of a list in the common form "type ending …",
/// one type a line, with "#" before comments.
TypesByEnding parse_type_list(std::string_view text);

/// True if a body of that Content-Type gets notably smaller through compression: text and its kin, not images or video.
bool compresses_well(std::string_view content_type);

}  // namespace porter::http
