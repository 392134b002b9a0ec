// The entry for libFuzzer: the target is chosen when it is built.
#include <cstddef>
#include <cstdint>

#include "fuzz.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  for (const porter::fuzz::NamedTarget* target = porter::fuzz::kTargets; target->run != nullptr; ++target)
    if (target->name == PORTER_FUZZ_TARGET) target->run({reinterpret_cast<const char*>(data), size});
  return 0;
}
