// Choosing a site by host. See choose.hpp.
#include "core/sites/choose.hpp"

#include <algorithm>
#include <cctype>

#include "core/text/text.hpp"

namespace porter::sites {
namespace {

/// The names that the sites of the address answer to, for a sentence.
std::string names_at(const Settings& settings, const Listener& listener) {
  std::string out;
  for (const std::size_t index : listener.sites)
    for (const std::string& host : settings.sites[index].hosts) out += (out.empty() ? "" : ", ") + host;
  return out;
}

std::string quoted(const std::string& name) { return "\"" + name + "\""; }

/// What a URL has behind the host; nothing for the port that http has by itself.
std::string port_in_url(std::uint16_t port) { return port == 80 ? "" : ":" + std::to_string(port); }

/// The finding for a name of a site that answers at other addresses than `address`.
std::optional<Finding> site_elsewhere(const Settings& settings, const http::Host& host, const std::string& address) {
  for (const Site& site : settings.sites)
    for (const std::string& pattern : site.hosts) {
      if (pattern == "*" || !host_matches(pattern, host.name)) continue;
      const Address& at = main_address(settings, site);
      return Finding{Code::host_elsewhere,
                     {{"host", host.name},
                      {"site", site.name},
                      {"address", address},
                      {"url", "http://" + host.name + port_in_url(at.port) + "/"}}};
    }
  return std::nullopt;
}

}  // namespace

bool host_matches(std::string_view pattern, std::string_view name) {
  if (pattern == "*") return true;
  if (!pattern.starts_with("*.")) return pattern == name;
  pattern.remove_prefix(1);
  return name.size() > pattern.size() && name.ends_with(pattern);
}

std::variant<Chosen, Finding> choose_site(const Settings& settings, const Listener& listener, const http::Host& host) {
  const std::string address = listener.address.text();
  // Even where no site is, a page of ours is only for the names by which a browser on this machine comes here.
  const bool is_usual = host.name.empty() || host.is_ip || http::is_localhost_name(host.name);
  if (listener.sites.empty() && is_usual) return Chosen{nullptr, "No site uses the address " + address + "."};
  if (listener.sites.empty()) {
    return Finding{Code::host_not_served,
                   {{"host", host.name},
                    {"address", address},
                    {"url", "http://localhost" + port_in_url(listener.address.port) + "/"}}};
  }
  const Site* best = nullptr;
  std::string_view best_pattern;
  for (const std::size_t index : listener.sites) {
    const Site& site = settings.sites[index];
    for (const std::string& pattern : site.hosts) {
      if (pattern == "*" || !host_matches(pattern, host.name)) continue;
      const bool exact = !pattern.starts_with('*');
      if (exact) return Chosen{&site, "The site " + quoted(site.name) + " answers to the host " + host.name + "."};
      if (pattern.size() > best_pattern.size()) {
        best = &site;
        best_pattern = pattern;
      }
    }
  }
  if (best != nullptr)
    return Chosen{best, "The site " + quoted(best->name) + " answers to " + std::string(best_pattern) +
                            ", which the host " + host.name + " is one of."};
  const Site& first = settings.sites[listener.sites.front()];
  const std::string it = "so the first site of the address " + address + " answers: " + quoted(first.name) + ".";
  if (std::find(first.hosts.begin(), first.hosts.end(), "*") != first.hosts.end())
    return Chosen{&first, "No site names the host " + host.name + ", and the first site of the address " + address +
                              " accepts any name: " + quoted(first.name) + "."};
  if (host.name.empty()) return Chosen{&first, "The request names no host, " + it};
  if (host.is_ip || host.name == "localhost") return Chosen{&first, "No site names the host " + host.name + ", " + it};
  if (auto elsewhere = site_elsewhere(settings, host, address)) return std::move(*elsewhere);
  Finding finding{Code::host_not_served,
                  {{"host", host.name}, {"address", address}, {"site", first.name}, {"colon", ":"}}};
  finding.facts.emplace_back("names", names_at(settings, listener));
  finding.facts.emplace_back("url", url_of(settings, first, listener.address) + "/");
  const std::string name = text::shell_word(host.name);
  finding.facts.emplace_back(
      "command", settings.file.empty()
                     ? "uporter serve " + text::shell_word(first.document_root) + " --host " + name
                     : "uporter site change " + text::shell_word(first.name) + " --root-of " + name + settings.option);
  return finding;
}

std::vector<std::string> urls_of(const Settings& settings, const Site& site, const Address& address) {
  const auto uses_address = [&](const Site& other) {
    const auto& addresses = other.addresses.empty() ? settings.addresses : other.addresses;
    return std::find(addresses.begin(), addresses.end(), address) != addresses.end();
  };
  const auto first = std::find_if(settings.sites.begin(), settings.sites.end(), uses_address);
  const bool is_first = first != settings.sites.end() && &*first == &site;
  std::vector<std::string> hosts;
  const auto add = [&hosts](const std::string& host) {
    if (std::find(hosts.begin(), hosts.end(), host) == hosts.end()) hosts.push_back(host);
  };
  const std::string bracketed = address.ip.find(':') == std::string::npos ? address.ip : "[" + address.ip + "]";
  // An address of one interface is not where a name below localhost leads to.
  if (address.reach == Address::Reach::one && is_first) add(bracketed);
  // A name that leads to this machine by itself comes before one that has to be made known to it.
  for (const std::string& pattern : site.hosts)
    if (http::is_localhost_name(pattern) && !pattern.starts_with('*')) add(pattern);
  for (const std::string& pattern : site.hosts)
    if (pattern.starts_with("*.") && http::is_localhost_name(pattern) && pattern != "*.localhost")
      add("www" + pattern.substr(1));
  for (const std::string& pattern : site.hosts)
    if (!pattern.starts_with('*')) add(pattern);
  if (is_first && address.reach != Address::Reach::one) add("localhost");
  if (hosts.empty()) add("localhost");
  const std::string port = port_in_url(address.port);
  for (std::string& host : hosts) host = "http://" + host + port;
  return hosts;
}

std::string url_of(const Settings& settings, const Site& site, const Address& address) {
  return urls_of(settings, site, address).front();
}

const Address& main_address(const Settings& settings, const Site& site) {
  return site.addresses.empty() ? settings.addresses.front() : site.addresses.front();
}

std::string name_as_host(std::string_view name) {
  std::string out = text::to_lower(name);
  const auto is_other = [](unsigned char c) { return c >= 0x80 || std::isalnum(c) == 0; };
  std::replace_if(out.begin(), out.end(), is_other, '-');
  out.erase(0, out.find_first_not_of('-'));
  while (out.ends_with('-')) out.pop_back();
  constexpr std::size_t kLongestLabel = 63;
  out.resize(std::min(out.size(), kLongestLabel));
  return out.empty() ? "pages" : out;
}

}  // namespace porter::sites
