// Lists of variables, and the last of each name. See environment.hpp.
#include "core/script/environment.hpp"

#include <algorithm>
#include <utility>

namespace porter::script {

Environment::Environment(const std::vector<std::string>& variables) {
  // What a browser's request comes to.
  text_.reserve(2048);
  places_.reserve(48);
  for (const std::string& variable : variables) add(variable);
}

void Environment::add(std::string_view variable) {
  places_.push_back({text_.size(), std::min(variable.find('='), variable.size())});
  text_ += variable;
  text_ += '\0';
}

void Environment::add(std::string_view name, std::string_view value) {
  const std::size_t begin = text_.size();
  places_.push_back({begin, name.size()});
  // For every run some dozens are added, so in one step each.
  text_.resize(begin + name.size() + value.size() + 2);
  char* const behind = std::copy(name.begin(), name.end(), text_.data() + begin);
  *behind = '=';
  std::copy(value.begin(), value.end(), behind + 1);
}

void Environment::keep_last_of_each_name() {
  Environment kept;
  for (std::size_t i = 0; i < places_.size(); ++i) {
    const std::string_view name = variable(i).substr(0, places_[i].name + 1);
    bool is_said_again = false;
    for (std::size_t later = i + 1; later < places_.size(); ++later)
      is_said_again = is_said_again || variable(later).starts_with(name);
    if (!is_said_again) kept.add(variable(i));
  }
  *this = std::move(kept);
}

std::vector<std::string> Environment::list() const {
  std::vector<std::string> out;
  for (std::size_t i = 0; i < places_.size(); ++i) out.emplace_back(variable(i));
  return out;
}

std::vector<char*> Environment::pointers() {
  std::vector<char*> out;
  out.reserve(places_.size() + 1);
  for (const Place& place : places_) out.push_back(text_.data() + place.begin);
  out.push_back(nullptr);
  return out;
}

}  // namespace porter::script
