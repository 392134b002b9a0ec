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
  void add(std::string_view variable);
  void add(std::string_view name, std::string_view value);
  /// Of several variables with one name, keeps the last.
  void keep_last_of_each_name();

  /// Each "NAME=value", in the order in which they were added.
  std::vector<std::string> list() const;
  /// The same as one text, each with a NUL behind it.
  const std::string& text() const { return text_; }
  /// Calls `take(name, value)` for each, in that order.
  template <typename Take>
  void each(Take take) const {
    for (std::size_t i = 0; i < places_.size(); ++i) {
      const std::string_view all = variable(i);
      const std::size_t name = places_[i].name;
      take(all.substr(0, name), all.substr(std::min(name + 1, all.size())));
    }
  }
  std::size_t size() const { return places_.size(); }
  /// What execve() takes: pointers to each, and a null pointer. They last until the environment changes or moves.
  std::vector<char*> pointers();

 private:
  struct Place {
    std::size_t begin;
    std::size_t name;  ///< Bytes of its name.
  };

  std::string_view variable(std::size_t number) const {
    const std::size_t begin = places_[number].begin;
    const std::size_t end = number + 1 < places_.size() ? places_[number + 1].begin : text_.size();
    return {text_.data() + begin, end - 1 - begin};
  }

  std::string text_;           ///< The variables, each with a NUL behind it.
  std::vector<Place> places_;  ///< Of each in it.
};

}  // namespace porter::script
