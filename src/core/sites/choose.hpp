// Which site answers: by the address that a request came to, then by the host that it names.
#pragma once

#include <string>
#include <variant>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/http/host.hpp"
#include "core/settings/settings.hpp"

namespace porter::sites {

/// The site that answers, and why it is that one.
struct Chosen {
  const Site* site = nullptr;  ///< In the settings; null: the address has no site, and a start page answers.
  std::string reason;          ///< A sentence.
};

/// Chooses among the sites of `listener`: the one that lists the host itself, else the one with the longest wildcard,
/// else the first of the address if it accepts any name. That first one also answers to what every browser on this
/// machine may ask for: localhost, an IP address, or no host at all (HTTP/1.0; empty name). A finding if there is none.
std::variant<Chosen, Finding> choose_site(const Settings& settings, const Listener& listener, const http::Host& host);

/// True if the host `name` (in lower case) is one that `pattern` means: an exact name, "*.name", "*".
bool host_matches(std::string_view pattern, std::string_view name);

/// A URL under which a browser on this machine reaches the site at the address, without path:
/// "http://gulls.localhost:8080".
std::string url_of(const Settings& settings, const Site& site, const Address& address);
/// The same for every name by which a browser reaches the site there, the best first; of a wildcard one name stands for
/// all.
std::vector<std::string> urls_of(const Settings& settings, const Site& site, const Address& address);
/// The address that the site is usually asked for at: its first. Requires that it has one.
const Address& main_address(const Settings& settings, const Site& site);

/// `name` as the name of a site that is found at NAME.localhost: lower-case letters, digits and hyphens.
std::string name_as_host(std::string_view name);

}  // namespace porter::sites
