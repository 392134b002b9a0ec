// Modules that a script wants and that are not installed, as each language tells of them.
#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace porter::script {

struct MissingModule {
  std::string language;
  std::string module;  ///< As the script names it.
  std::string
      packages;         ///< How the Debian package that has it may be called: the likeliest first, with spaces between.
  std::string command;  ///< What installs it by the language's own means.
};

/// The module that `error_text` says is missing, of a script in `folder`; nullopt if it says nothing of the kind.
std::optional<MissingModule> find_missing_module(std::string_view error_text, std::string_view folder);

}  // namespace porter::script
