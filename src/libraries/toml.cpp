// toml++, compiled into the programs, as fmt is (fmt.cpp).
#define TOML_IMPLEMENTATION
#include <toml++/toml.h>
