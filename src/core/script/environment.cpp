// Lists of variables, and the last of each name. See environment.hpp.
#include "core/script/environment.hpp"

#include <utility>

namespace porter::script {

Environment::Environment(const std::vector<std::string>& variables) {
  // What a browser's request comes to.
  text_.reserve(2048);
  begins_.reserve(48);
  for (const std::string& variable : variables) add(variable);
}

void Environment::keep_last_of_each_name() {
  Environment kept;
  for (std::size_t i = 0; i < begins_.size(); ++i) {
    const std::string_view name = variable(i).substr(0, variable(i).find('=') + 1);
    bool is_said_again = false;
    for (std::size_t later = i + 1; later < begins_.size(); ++later)
      is_said_again = is_said_again || variable(later).starts_with(name);
    if (!is_said_again) kept.add(variable(i));
  }
  *this = std::move(kept);
}

std::vector<std::string> Environment::list() const {
  std::vector<std::string> out;
  for (std::size_t i = 0; i < begins_.size(); ++i) out.emplace_back(variable(i));
  return out;
}

std::vector<char*> Environment::pointers() {
  std::vector<char*> out;
  out.reserve(begins_.size() + 1);
  for (const std::size_t begin : begins_) out.push_back(text_.data() + begin);
  out.push_back(nullptr);
  return out;
}

}  // namespace porter::script
