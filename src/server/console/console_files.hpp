// The files of the console's page. They are made from console/ when the server is built, and lie in the program itself.
#pragma once

#include <span>
#include <string_view>

namespace porter::server {

struct ConsoleFile {
  std::string_view path;     ///< At the console's address: "/", "/console-4KD2.js".
  std::string_view type;     ///< Its media type.
  std::string_view gzipped;  ///< What it holds, compressed.
  bool is_lasting;           ///< Its name changes with what it holds, so that it may be kept for ever.
};

std::span<const ConsoleFile> console_files();

}  // namespace porter::server
