// The only place that is compiled anew for each commit.
#include "client/version.hpp"

#include "commit.hpp"

namespace porter::client {

const char* version_text() { return "uporter " PORTER_VERSION " (" PORTER_COMMIT ")"; }

}  // namespace porter::client
