// explain and doctor: what leads where, and what is wrong.
#pragma once

#include <string>

#include "client/instance_commands.hpp"

namespace porter::client {

int run_explain(const ServerChoice& meant, const std::string& what);
/// How far the doctor looks: with_syntax has each script checked by its interpreter as well.
enum class Depth { usual, with_syntax };
int run_doctor(const ServerChoice& meant, Depth depth);

}  // namespace porter::client
