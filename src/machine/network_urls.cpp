// See network_urls.hpp.
#include "machine/network_urls.hpp"

#include <qrencode.h>

#include <algorithm>
#include <memory>

#include "core/sites/site_json.hpp"
#include "core/text/json.hpp"
#include "machine/environment.hpp"

namespace porter::machine {

std::vector<std::string> network_urls(const Settings& settings, const Site& site) {
  std::vector<std::string> urls;
  for (const Listener& listener : settings.listeners()) {
    if (listener.address.is_local() || listener.sites.empty() || &settings.sites[listener.sites.front()] != &site)
      continue;
    const bool is_one = listener.address.reach == Address::Reach::one;
    for (const std::string& ip : is_one ? std::vector{listener.address.ip} : network_addresses()) {
      const std::string host = ip.find(':') == ip.npos ? ip : "[" + ip + "]";
      urls.push_back("http://" + host + ":" + std::to_string(listener.address.port) + "/");
    }
  }
  return urls;
}

std::vector<std::string> qr_code(const std::string& text) {
  const std::unique_ptr<QRcode, void (*)(QRcode*)> code(::QRcode_encodeString8bit(text.c_str(), 0, QR_ECLEVEL_L),
                                                        ::QRcode_free);
  std::vector<std::string> rows;
  for (int y = 0; code && y < code->width; ++y) {
    std::string& row = rows.emplace_back();
    for (int x = 0; x < code->width; ++x) row += (code->data[y * code->width + x] & 1) != 0 ? '1' : '0';
  }
  return rows;
}

std::string qr_code_text(const std::vector<std::string>& rows, std::size_t indent) {
  constexpr int kMargin = 2;
  const int width = static_cast<int>(rows.size());
  const auto is_dark = [&](int x, int y) { return x >= 0 && y >= 0 && x < width && y < width && rows[y][x] == '1'; };
  std::string out;
  for (int y = -kMargin; y < width + kMargin && width > 0; y += 2) {
    // Black on white, whatever the colours of the terminal.
    out += std::string(indent, ' ') + "\x1b[30;107m";
    for (int x = -kMargin; x < width + kMargin; ++x) {
      const bool upper = is_dark(x, y);
      const bool lower = is_dark(x, y + 1);
      out += upper && lower ? "█" : upper ? "▀" : lower ? "▄" : " ";
    }
    out += "\x1b[0m\n";
  }
  return out;
}

nlohmann::json json_of_sites(const Settings& settings) {
  auto all = nlohmann::json::array();
  for (const Site& site : settings.sites) {
    auto& one = all.emplace_back(sites::json_of(settings, site));
    const auto urls = network_urls(settings, site);
    if (urls.empty()) continue;
    one["network_urls"] = urls;
    one["network_code"] = qr_code(urls.front());
  }
  return all;
}

}  // namespace porter::machine
