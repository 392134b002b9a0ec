// An environment: the variables that a program is given, in one piece of memory, as execve() takes them.
#pragma once

#include <algorithm>
#include <cstddef>
#include <string>
#include <string_view>
#include <vector>

namespace porter::script {

class Environment {
 public:
  Environment() = default;
  explicit Environment(const std::vector<std::string>& variables);

  /// Adds "NAME=value" at the end. It holds no NUL.
  void add(std::string_view variable) {
    begins_.push_back(text_.size());
    text_ += variable;
    text_ += '\0';
  }
  void add(std::string_view name, std::string_view value) {
    begins_.push_back(text_.size());
    text_ += name;
    text_ += '=';
    text_ += value;
    text_ += '\0';
  }
  /// Of several variables with one name, keeps the last.
  void keep_last_of_each_name();

  /// Each "NAME=value", in the order in which they were added.
  std::vector<std::string> list() const;
  /// The same as one text, each with a NUL behind it.
  const std::string& text() const { return text_; }
  /// Calls `take(name, value)` for each, in that order.
  template <typename Take>
  void each(Take take) const {
    for (std::size_t i = 0; i < begins_.size(); ++i) {
      const std::string_view all = variable(i);
      const std::size_t name = std::min(all.find('='), all.size());
      take(all.substr(0, name), all.substr(std::min(name + 1, all.size())));
    }
  }
  /// What execve() takes: pointers to each, and a null pointer. They last until the environment changes or moves.
  std::vector<char*> pointers();

 private:
  std::string_view variable(std::size_t number) const {
    const std::size_t end = number + 1 < begins_.size() ? begins_[number + 1] : text_.size();
    return std::string_view(text_).substr(begins_[number], end - 1 - begins_[number]);
  }

  std::string text_;                 ///< The variables, each with a NUL behind it.
  std::vector<std::size_t> begins_;  ///< Where each begins.
};

}  // namespace porter::script
