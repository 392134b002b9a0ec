// How deep texts from outside may nest.
#pragma once

#include <cstddef>

namespace porter {

/// How deep lists, objects, tables, or the parts of an upload, may lie within one another. Whoever reads them goes down
/// its own stack, and nothing of people's own comes near it. What is deeper is treated as text, or refused.
inline constexpr std::size_t kDeepestNesting = 128;

}  // namespace porter
