// Exchanges as an HTTP Archive (HAR 1.2), and an entry of one as a side of a comparison.
#pragma once

#include <nlohmann/json_fwd.hpp>
#include <string>
#include <variant>
#include <vector>

#include "core/exchange/difference.hpp"
#include "core/exchange/recorded.hpp"

namespace porter::exchange {

/// Whether the values of Authorization, Cookie and Set-Cookie are told.
enum class Secrets { left_out, told };

/// For each exchange the number of that with the page for whose loading it was made, its own if it is one; 0: none.
std::vector<std::uint64_t> page_loads(const std::vector<Recorded>& exchanges);

/// The exchanges as one archive, those that belong to the loading of one page grouped. What is out of files has been
/// put into their bytes, as far as it is wanted.
nlohmann::json har_of(const std::vector<Recorded>& exchanges, Secrets secrets);

/// The entry with that number, from 1 on, of an archive in `text`. A sentence: what is wrong with it.
std::variant<Side, std::string> side_in_har(const std::string& text, std::size_t number, const std::string& name);

}  // namespace porter::exchange
