// What this program is.
#pragma once

namespace porter::client {

/// "uporter 0.1.0 (4f2c9e1b7a30)": the version, and the commit that it was built from.
const char* version_text();

}  // namespace porter::client
