// Parts of answers that went out of files: read again when somebody looks at them.
#pragma once

#include <string>

#include "core/exchange/recorded.hpp"
#include "core/files/descriptor.hpp"

namespace porter::exchange {

/// The file of `slice`, if it is still as it was; else not open.
files::Descriptor open_slice(const FileSlice& slice);

/// Puts what is out of files into the bytes of `wire`, as far as it is `most` bytes in all. Returns the slice whose
/// file is not what it was; nullptr: all is there, or it is too much and stays as it was.
const FileSlice* fill_slices(Wire& wire, std::uint64_t most);

}  // namespace porter::exchange
