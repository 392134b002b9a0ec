#include "core/sites/choose.hpp"

#include <catch2/catch.hpp>

using namespace porter;
using namespace porter::sites;

namespace {

Site site(std::string name, std::vector<std::string> hosts, std::vector<Address> addresses = {}) {
  Site out;
  out.name = std::move(name);
  out.hosts = std::move(hosts);
  out.addresses = std::move(addresses);
  return out;
}

const Address kCommon{Address::Reach::this_computer, {}, 8080};
const Address kOpen{Address::Reach::network, {}, 8081};
const Address kBare{Address::Reach::one, "::1", 8082};

Settings harbour() {
  Settings settings;
  settings.file = "/uporter.toml";
  settings.addresses = {kCommon};
  settings.sites = {site("gulls", {"gulls.localhost", "*.gulls.localhost"}),
                    site("deck", {"*.deck.gulls.localhost", "ferry.example"}),
                    site("any", {"any.localhost", "*"}, {kOpen}), site("late", {"late.localhost"}, {kOpen, kCommon})};
  return settings;
}

}  // namespace

TEST_CASE("the site is chosen by address, exact host, longest wildcard, and then the first") {
  struct Row {
    Address address;
    std::string host;
    std::string chosen;
  };
  const auto row = GENERATE(values<Row>({
      {kCommon, "gulls.localhost", "gulls"},
      {kCommon, "GULLS.localhost.", "gulls"},
      {kCommon, "gulls.localhost:99", "gulls"},
      {kCommon, "www.gulls.localhost", "gulls"},
      {kCommon, "a.b.gulls.localhost", "gulls"},
      {kCommon, "x.deck.gulls.localhost", "deck"},
      {kCommon, "deck.gulls.localhost", "gulls"},
      {kCommon, "notgulls.localhost", "refused"},
      {kCommon, "ferry.example", "deck"},
      {kCommon, "www.ferry.example", "refused"},
      {kCommon, "late.localhost", "late"},
      {kCommon, "any.localhost", "refused"},
      {kCommon, "localhost", "gulls"},
      {kCommon, "127.0.0.1:8080", "gulls"},
      {kCommon, "[::1]:8080", "gulls"},
      {kCommon, "192.168.7.2", "gulls"},
      {kCommon, "evil.example", "refused"},
      {kOpen, "any.localhost", "any"},
      {kOpen, "evil.example", "any"},
      {kOpen, "late.localhost", "late"},
      {kOpen, "gulls.localhost", "any"},
      {kOpen, "localhost", "any"},
      {kBare, "localhost", "none"},
      {kBare, "evil.example", "refused"},
      {kBare, "x.localhost", "none"},
      {kBare, "127.0.0.1", "none"},
  }));
  const Settings settings = harbour();
  Listener listener{row.address, {}};
  for (const Listener& known : settings.listeners())
    if (known.address == row.address) listener = known;
  CAPTURE(row.address.text(), row.host);
  const auto result = choose_site(settings, listener, *http::parse_host(row.host));
  std::string chosen = "refused";
  if (const auto* const found = std::get_if<Chosen>(&result)) {
    chosen = found->site == nullptr ? "none" : found->site->name;
    CHECK_FALSE(found->reason.empty());
  } else {
    const bool is_of_other = row.host == "any.localhost";
    CHECK(std::get<Finding>(result).code == (is_of_other ? Code::host_elsewhere : Code::host_not_served));
  }
  CHECK(chosen == row.chosen);
}

TEST_CASE("a request without a host goes to the first site of its address") {
  const Settings settings = harbour();
  const auto result = choose_site(settings, settings.listeners().front(), {});
  CHECK(std::get<Chosen>(result).site->name == "gulls");
}

TEST_CASE("each site has the URLs by which a browser reaches it, the best first") {
  const Settings settings = harbour();
  const auto urls = [&](std::size_t index, const Address& address) {
    std::string out;
    for (const std::string& url : urls_of(settings, settings.sites[index], address))
      out += (out.empty() ? "" : " ") + url;
    return out;
  };
  CHECK(urls(0, kCommon) == "http://gulls.localhost:8080 http://www.gulls.localhost:8080 http://localhost:8080");
  CHECK(urls(1, kCommon) == "http://www.deck.gulls.localhost:8080 http://ferry.example:8080");
  CHECK(urls(2, kOpen) == "http://any.localhost:8081 http://localhost:8081");
  CHECK(urls(3, {Address::Reach::this_computer, {}, 80}) == "http://late.localhost");
}
