// How other devices reach a site: its URLs, and the first of them as a code that a camera reads.
#pragma once

#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "core/settings/settings.hpp"

namespace porter::machine {

/// The URLs by which other devices of the network reach `site`, one of `settings`: by an IP address of this machine, at
/// an address that lets them in and whose first site it is. None: they do not.
std::vector<std::string> network_urls(const Settings& settings, const Site& site);

/// `text` as a QR code: a row each, of '1' where it is dark and '0' where not. None: it cannot be made.
std::vector<std::string> qr_code(const std::string& text);
/// Such a code for a terminal, black on white, indented by `indent`. Two rows share a line.
std::string qr_code_text(const std::vector<std::string>& rows, std::size_t indent);

/// All sites as JSON, with the URLs for other devices.
nlohmann::json json_of_sites(const Settings& settings);

}  // namespace porter::machine
