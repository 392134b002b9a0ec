// See site_json.hpp.
#include "core/sites/site_json.hpp"

#include "core/sites/choose.hpp"
#include "core/text/json.hpp"
#include "core/text/text.hpp"

namespace porter::sites {

nlohmann::json json_of(const Settings& settings, const Site& site) {
  auto mounts = nlohmann::json::array();
  for (const Mount& mount : site.mounts)
    mounts.push_back({{"path", text::to_utf8(mount.path)}, {"target", text::to_utf8(mount.target)}});
  auto addresses = nlohmann::json::array();
  for (const Address& address : site.addresses.empty() ? settings.addresses : site.addresses)
    addresses.push_back(address.text());
  auto fallbacks = nlohmann::json::array();
  for (const Fallback& fallback : site.fallbacks)
    fallbacks.push_back(
        {{"path", text::to_utf8(fallback.path)}, {"script", text::to_utf8(fallback.root + "/" + fallback.script)}});
  nlohmann::json out = {{"name", text::to_utf8(site.name)},
                        {"url", url_of(settings, site, main_address(settings, site)) + "/"},
                        {"folder", text::to_utf8(site.document_root)},
                        {"hosts", site.hosts},
                        {"addresses", addresses},
                        {"fallbacks", fallbacks},
                        {"mounts", mounts}};
  if (site.interpreters) out["languages"] = *site.interpreters;
  if (site.is_until_stop) out["until_stop"] = true;
  return out;
}

nlohmann::json json_of_sites(const Settings& settings) {
  auto all = nlohmann::json::array();
  for (const Site& site : settings.sites) all.push_back(json_of(settings, site));
  return all;
}

}  // namespace porter::sites
