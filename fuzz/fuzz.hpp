// What every fuzz target is: a function that takes bytes, and must neither crash nor hang whatever they are.
#pragma once

#include <string_view>

namespace porter::fuzz {

/// A parser under test. It aborts when what the parser says contradicts itself.
using Target = void (*)(std::string_view bytes);

struct NamedTarget {
  std::string_view name;
  Target run;
};

/// All targets, ended by one without a function.
extern const NamedTarget kTargets[];

}  // namespace porter::fuzz
