// explain and doctor: what leads where, and what is wrong.
#pragma once

#include <string>

#include "client/instance_commands.hpp"

namespace porter::client {

int run_explain(const Meant& meant, const std::string& what, Form form);
int run_doctor(const Meant& meant, Form form);

}  // namespace porter::client
