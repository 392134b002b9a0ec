// The page that lists a folder's entries.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "core/sites/listing.hpp"

namespace porter::server::pages {

/// The page for the folder at the decoded URL path `path`, which ends in a slash, with `entries` in the order shown.
std::string listing_page(std::string_view path, const std::vector<sites::Row>& entries, sites::Order order);

}  // namespace porter::server::pages
