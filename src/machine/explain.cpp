// From a URL to what answers it, and from a file to its URLs. See explain.hpp.
#include "machine/explain.hpp"

#include <arpa/inet.h>
#include <ifaddrs.h>
#include <netdb.h>
#include <sys/stat.h>

#include <algorithm>
#include <array>
#include <climits>
#include <cstdlib>
#include <filesystem>
#include <memory>
#include <optional>
#include <string_view>

#include "core/files/paths.hpp"
#include "core/findings/finding_json.hpp"
#include "core/http/findings.hpp"
#include "core/http/host.hpp"
#include "core/http/target.hpp"
#include "core/sites/choose.hpp"
#include "core/sites/places.hpp"
#include "core/sites/route.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"
#include "machine/instance.hpp"
#include "machine/port_holder.hpp"

namespace porter::machine {
namespace {

std::string ip_text(const sockaddr* address) {
  std::array<char, INET6_ADDRSTRLEN> text{};
  if (address->sa_family == AF_INET)
    ::inet_ntop(AF_INET, &reinterpret_cast<const sockaddr_in*>(address)->sin_addr, text.data(), text.size());
  if (address->sa_family == AF_INET6)
    ::inet_ntop(AF_INET6, &reinterpret_cast<const sockaddr_in6*>(address)->sin6_addr, text.data(), text.size());
  return text.data();
}

std::vector<std::string> own_addresses() {
  std::vector<std::string> out = {"127.0.0.1", "::1"};
  ifaddrs* all = nullptr;
  if (::getifaddrs(&all) != 0) return out;
  for (const ifaddrs* one = all; one != nullptr; one = one->ifa_next)
    if (one->ifa_addr != nullptr) out.push_back(ip_text(one->ifa_addr));
  ::freeifaddrs(all);
  return out;
}

std::vector<std::string> addresses_of(const std::string& name) {
  addrinfo hints{};
  hints.ai_socktype = SOCK_STREAM;
  addrinfo* all = nullptr;
  std::vector<std::string> out;
  if (::getaddrinfo(name.c_str(), nullptr, &hints, &all) != 0) return out;
  for (const addrinfo* one = all; one != nullptr; one = one->ai_next) out.push_back(ip_text(one->ai_addr));
  ::freeaddrinfo(all);
  return out;
}

bool is_loopback(const std::string& ip) { return ip.starts_with("127.") || ip == "::1"; }

/// True if a connection to `ip` comes in at one of the listener's sockets.
bool listens_at(const Listener& listener, const std::string& ip) {
  const bool v6 = ip.find(':') != ip.npos;
  const auto endpoints = listener.address.endpoints();
  return std::any_of(endpoints.begin(), endpoints.end(), [&](const Endpoint& endpoint) {
    return endpoint.ip == ip || (endpoint.is_v6() == v6 && (endpoint.ip == "0.0.0.0" || endpoint.ip == "::"));
  });
}

/// What a URL is made of, as a browser reads it.
struct Url {
  http::Host host;
  std::uint16_t port = 80;
  std::string target = "/";
};

class Explainer {
 public:
  Explainer(const sites::ResolveContext& in, const Standing& standing, const std::string& folder)
      : in_(in), settings_(in.settings), standing_(standing), folder_(folder), listeners_(in.settings.listeners()) {}

  Explanation run(const std::string& what) {
    out_.what = what;
    if (what.starts_with("file://")) {
      const auto path = http::percent_decode(
          std::string_view(what).substr(what.find('/', 7) == what.npos ? what.size() : what.find('/', 7)));
      if (!path || path->empty()) {
        no_url(what, "it names no file of this machine");
      } else {
        say("The URL begins with file:, so the browser shows the file itself: no server and no interpreter has part in "
            "it.");
        explain_file(*path);
      }
    } else if (what.starts_with("https://")) {
      find({Code::tls_on_plain_port, {}});
      explain_url("http://" + what.substr(8));
    } else if (what.starts_with("http://")) {
      explain_url(what);
    } else if (what.find("://") != what.npos) {
      no_url(what, "it does not begin with http://");
    } else if (is_url_without_scheme(what)) {
      explain_url("http://" + what);
    } else {
      explain_file(what.starts_with('/') ? what : folder_ + "/" + what);
    }
    out_.is_served = out_.findings.empty();
    return std::move(out_);
  }

 private:
  void say(std::string step) { out_.trail.push_back(std::move(step)); }
  void find(Finding finding) { out_.findings.push_back(std::move(finding)); }
  void no_url(const std::string& what, const std::string& problem) {
    find({Code::not_a_url, {{"what", what}, {"problem", problem}}});
  }

  /// "localhost:8080/x" and the like, unless there is a file of that name.
  bool is_url_without_scheme(const std::string& what) const {
    struct stat info {};
    if (what.starts_with('/') || what.starts_with('.') || ::stat((folder_ + "/" + what).c_str(), &info) == 0)
      return false;
    const auto host = http::parse_host(what.substr(0, what.find_first_of("/?")));
    if (!host) return false;
    if (host->port || host->is_ip || http::is_localhost_name(host->name)) return true;
    return std::any_of(settings_.sites.begin(), settings_.sites.end(),
                       [&](const Site& site) { return text::contains(site.hosts, host->name); });
  }

  std::optional<Url> split(const std::string& text) {
    const std::size_t begin = 7;
    const std::size_t end = std::min(text.find_first_of("/?#", begin), text.size());
    const auto host = http::parse_host(std::string_view(text).substr(begin, end - begin));
    if (!host || host->name.empty()) {
      no_url(text, "it names no host");
      return std::nullopt;
    }
    Url url{*host, host->port.value_or(80), text.substr(end)};
    // What follows "#" stays in the browser, and a path may be left out.
    url.target = url.target.substr(0, url.target.find('#'));
    if (!url.target.starts_with('/')) url.target = "/" + url.target;
    return url;
  }

  void explain_url(const std::string& text) {
    const auto url = split(text);
    if (!url) return;
    say("The host is " + url->host.name + ", and the port is " + std::to_string(url->port) +
        (url->host.port ? "." : ", as no other one is named."));
    const auto leads_to = where_it_leads(url->host);
    if (leads_to.empty()) return;
    const Listener* const listener = find_listener(leads_to, url->port);
    if (listener == nullptr) return nobody_listens(*url);
    say("The address " + listener->address.text() + " of the settings matches it.");
    check_running(*url);
    auto target = http::parse_target(url->target, "GET");
    if (const auto* const error = std::get_if<http::TargetError>(&target)) return find(http::finding_of(*error));
    auto route = sites::route(in_, {*listener, url->host}, {"GET", std::get<http::Target>(target)});
    if (!route.choice.empty()) say(std::move(route.choice));
    // The last step of a path that leads to a finding is its sentence.
    if (std::holds_alternative<Finding>(route.outcome) && !route.trail.empty()) route.trail.pop_back();
    for (std::string& step : route.trail) say(std::move(step));
    tell_outcome(route.outcome);
  }

  /// The addresses that a browser on this machine goes to for the host; none, with a finding, if they are not ours.
  std::vector<std::string> where_it_leads(const http::Host& host) {
    const auto own = own_addresses();
    if (http::is_localhost_name(host.name)) {
      say("The name " + host.name + " always means this computer (RFC 6761).");
      return {"127.0.0.1", "::1"};
    }
    std::vector<std::string> found = host.is_ip ? std::vector<std::string>{host.name} : addresses_of(host.name);
    std::string shown;
    for (const std::string& ip : found)
      if (shown.find(ip) == shown.npos) shown += (shown.empty() ? "" : ", ") + ip;
    std::erase_if(found, [&](const std::string& ip) { return !text::contains(own, ip) && !is_loopback(ip); });
    if (!found.empty()) {
      say(host.is_ip ? host.name + " is an address of this machine."
                     : "The name " + host.name + " leads to this machine (" + shown + ").");
      return found;
    }
    find(host.is_ip
             ? Finding{Code::address_not_here, {{"address", host.name}}}
             : Finding{Code::name_not_here, {{"host", host.name}, {"found", shown.empty() ? "nowhere" : shown}}});
    return {};
  }

  const Listener* find_listener(const std::vector<std::string>& leads_to, std::uint16_t port) const {
    for (const std::string& ip : leads_to)
      for (const Listener& listener : listeners_)
        if (listener.address.port == port && listens_at(listener, ip)) return &listener;
    return nullptr;
  }

  void nobody_listens(const Url& url) {
    std::string addresses;
    for (const Listener& listener : listeners_) addresses += (addresses.empty() ? "" : ", ") + listener.address.text();
    // The same path under the host where it is at home, if a site names it, else at the first address.
    std::string better;
    const Listener* best = nullptr;
    for (const Listener& listener : listeners_) {
      const auto chosen = sites::choose_site(settings_, listener, url.host);
      if (best == nullptr || (std::holds_alternative<sites::Chosen>(chosen) && better.empty())) best = &listener;
      if (std::holds_alternative<sites::Chosen>(chosen) && better.empty()) better = url.host.name;
    }
    if (best != nullptr) {
      const std::string host = better.empty()                    ? "localhost"
                               : better.find(':') != better.npos ? "[" + better + "]"
                                                                 : better;
      better =
          "http://" + host + (best->address.port == 80 ? "" : ":" + std::to_string(best->address.port)) + url.target;
    }
    const auto has_port = [&](const Listener& listener) { return listener.address.port == url.port; };
    if (std::any_of(listeners_.begin(), listeners_.end(), has_port)) {
      const std::string at_home = "http://localhost:" + std::to_string(url.port) + url.target;
      find({Code::this_computer_only,
            {{"host", url.host.name}, {"port", std::to_string(url.port)}, {"addresses", addresses}, {"url", at_home}}});
      return;
    }
    say("The settings name no address with port " + std::to_string(url.port) + "; they name " + addresses + ".");
    if (!report_other_program(url, better)) {
      find({Code::other_port, {{"port", std::to_string(url.port)}, {"addresses", addresses}, {"url", better}}});
      if (!standing_.is_running) check_running(url);
    }
  }

  /// Reports the program that listens on the port, if that is another one than our server.
  bool report_other_program(const Url& url, const std::string& better) {
    const auto holder = find_port_holder(url.port);
    if (!holder || (standing_.is_running && holder->id == standing_.process)) return false;
    Finding finding{Code::other_program, {{"port", std::to_string(url.port)}, {"holder", text_of(*holder)}}};
    if (!better.empty()) finding.facts.emplace_back("url", better);
    // Another server of this user is stopped as such.
    const auto own = running_instances();
    const bool is_own = std::any_of(own.begin(), own.end(), [&](const Instance& instance) {
      return lock_holder(instance) == std::optional(holder->id);
    });
    finding.facts.emplace_back(
        "command", is_own ? "uporter stop --at " + std::to_string(url.port) : "kill " + std::to_string(holder->id));
    find(std::move(finding));
    return true;
  }

  void check_running(const Url& url) {
    if (standing_.is_running) {
      say("The server is running (process " + std::to_string(standing_.process) + ").");
      return;
    }
    const std::string shown = "http://" + url.host.name + ":" + std::to_string(url.port) + url.target;
    if (!report_other_program(url, {})) not_running(shown);
  }
  void not_running(const std::string& url) {
    Finding finding{Code::server_not_running, {{"settings", settings_.file}, {"option", standing_.option}}};
    if (!url.empty()) finding.facts.emplace_back("url", url);
    find(std::move(finding));
  }

  void tell_outcome(const sites::Outcome& outcome) {
    if (const auto* const finding = std::get_if<Finding>(&outcome)) {
      find(*finding);
    } else if (const auto* const file = std::get_if<sites::FileFound>(&outcome)) {
      out_.outcome = "The file " + file->path + " is sent.";
    } else if (const auto* const script = std::get_if<sites::ScriptFound>(&outcome)) {
      out_.outcome = "The script " + script->path + " is run" +
                     (script->interpreter.empty() ? ", as a program of its own." : " by " + script->interpreter + ".");
    } else if (const auto* const start = std::get_if<sites::StartPage>(&outcome)) {
      out_.outcome = start->empty_root.empty() ? "A start page says that the address has no site yet."
                                               : "A start page says that the document root is empty.";
    } else if (const auto* const redirect = std::get_if<sites::Redirect>(&outcome)) {
      out_.outcome = "The browser is sent on to " + redirect->location + ".";
    } else {
      out_.outcome = "The entries of the folder " + std::get<sites::FolderFound>(outcome).path + " are listed.";
    }
  }

  void explain_file(const std::string& named) {
    std::array<char, PATH_MAX> real{};
    const bool exists = ::realpath(named.c_str(), real.data()) != nullptr;
    const std::string path = exists ? std::string(real.data()) : http::remove_dot_segments(named);
    struct stat info {};
    const bool is_folder = exists && ::stat(path.c_str(), &info) == 0 && S_ISDIR(info.st_mode);
    if (!exists) return find(no_such_file(path));
    if (path != named) say(named + " is " + path + " on disk.");
    std::vector<Finding> refusals;
    bool is_inside = false;
    for (const sites::Place& place : sites::places_of(settings_, path)) {
      is_inside = true;
      try_place(place, path, is_folder, refusals);
    }
    if (out_.urls.empty()) {
      for (Finding& refusal : refusals) find(std::move(refusal));
      if (!is_inside) outside(path, is_folder);
      return;
    }
    out_.outcome = "It is served at " + out_.urls.front();
    if (!standing_.is_running) not_running(out_.urls.front());
  }

  void outside(const std::string& path, bool is_folder) {
    for (const Site& site : settings_.sites)
      say("It does not lie below " + site.document_root + ", the document root of the site \"" + site.name + "\".");
    const std::string folder = is_folder ? path : std::string(files::folder_of(path));
    Finding finding{Code::file_not_served, {{"file", path}}};
    // Nobody is told to show a whole home, or what it lies in.
    if (!files::lies_in(home_folder(), folder.empty() ? "/" : folder))
      finding.facts.emplace_back("command", "uporter mount add " +
                                                text::shell_word("/" + std::string(files::base_name(folder))) + " " +
                                                text::shell_word(folder) + standing_.option);
    if (!standing_.is_running) not_running({});
    find(std::move(finding));
  }

  /// The finding for a path at which there is nothing, with the name that may have been meant.
  static Finding no_such_file(const std::string& path) {
    Finding finding{Code::no_such_file, {{"file", path}}};
    const std::string folder(files::folder_of(path));
    std::vector<std::string> names;
    std::error_code error;
    for (std::filesystem::directory_iterator entry(folder.empty() ? "/" : folder, error), end;
         !error && entry != end && names.size() < 20000; entry.increment(error))
      names.push_back(entry->path().filename().string());
    if (error) {
      finding.facts.emplace_back("folder", folder);
    } else if (const auto near = text::nearest(files::base_name(path), names)) {
      finding.facts.emplace_back("nearest", folder + "/" + *near);
    }
    return finding;
  }

  /// Tries the URLs by which the file or folder at `path` would be reached by `place`.
  void try_place(const sites::Place& place, const std::string& path, bool is_folder, std::vector<Finding>& refusals) {
    const Site& site = *place.site;
    const bool is_root = path == place.root;
    say(path + (is_root ? " is " : " lies below ") + place.root + ", which the site \"" + site.name + "\" shows at " +
        (place.prefix.empty() ? "/" : place.prefix) + ".");
    std::string url_path = place.path;
    if (is_folder && !url_path.ends_with('/')) url_path += '/';
    auto outcome = outcome_at(site, url_path);
    if (!outcome) return;
    if (auto* const finding = std::get_if<Finding>(&*outcome)) {
      refusals.push_back(std::move(*finding));
      return;
    }
    // Another rule may lead the same URL to another file: a mount that hides it, or a fallback.
    const std::string reached = file_of(*outcome);
    if (!is_folder && reached != path) return say("But " + url_path + " leads to " + reached + ".");
    for (const Address& address : site.addresses.empty() ? settings_.addresses : site.addresses) {
      const auto bases = sites::urls_of(settings_, site, address);
      const std::string_view name = files::base_name(url_path);
      const bool is_index =
          !is_folder && text::contains(site.index_files, name) && is_first_index(site, url_path, path);
      for (const std::string& base : bases) {
        if (is_index)
          out_.urls.push_back(base + http::percent_encode_path(url_path.substr(0, url_path.size() - name.size())));
        out_.urls.push_back(base + http::percent_encode_path(url_path));
      }
    }
  }

  /// What a request for the decoded `path` of the site leads to; nullopt if it cannot be asked for.
  std::optional<sites::Outcome> outcome_at(const Site& site, const std::string& path) const {
    const auto target = http::parse_target(http::percent_encode_path(path), "GET");
    if (std::holds_alternative<http::TargetError>(target)) return std::nullopt;
    return std::move(sites::route_within(in_, site, {"GET", std::get<http::Target>(target)}).outcome);
  }

  static std::string file_of(const sites::Outcome& outcome) {
    if (const auto* const file = std::get_if<sites::FileFound>(&outcome)) return file->path;
    if (const auto* const script = std::get_if<sites::ScriptFound>(&outcome)) return script->path;
    if (const auto* const list = std::get_if<sites::FolderFound>(&outcome)) return list->path;
    return {};
  }

  /// True if the folder's own URL leads to the file at `path`.
  bool is_first_index(const Site& site, const std::string& url_path, const std::string& path) const {
    const auto outcome = outcome_at(site, url_path.substr(0, url_path.rfind('/') + 1));
    return outcome && file_of(*outcome) == path;
  }

  const sites::ResolveContext& in_;
  const Settings& settings_;
  const Standing& standing_;
  const std::string& folder_;
  std::vector<Listener> listeners_;
  Explanation out_;
};

}  // namespace

Explanation explain(const sites::ResolveContext& in, const Standing& standing, const std::string& what,
                    const std::string& folder) {
  return Explainer(in, standing, folder).run(what);
}

std::string json_of(const Explanation& explanation) {
  nlohmann::json out = {{"what", text::to_utf8(explanation.what)},
                        {"served", explanation.is_served},
                        {"outcome", text::to_utf8(explanation.outcome)},
                        {"urls", explanation.urls},
                        {"trail", nlohmann::json::array()},
                        {"findings", json_of(explanation.findings)}};
  for (const std::string& step : explanation.trail) out["trail"].push_back(text::to_utf8(step));
  return json_text(out, 2);
}

}  // namespace porter::machine
