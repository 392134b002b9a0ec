// Compressing answers on the fly (the gzip coding of RFC 9110, section 8.4.1.3), through zlib.
#pragma once

#include <zlib.h>

#include <string>
#include <string_view>

namespace porter::server {

/// One compressed response in the making: add() as often as there is something, and once with More::no at the end.
class Gzip {
 public:
  Gzip();
  ~Gzip();
  Gzip(const Gzip&) = delete;
  Gzip& operator=(const Gzip&) = delete;

  enum class More { yes, no };
  /// Compresses `data` and appends what comes out to `out`; with More::no, also the end.
  void add(std::string_view data, More more, std::string& out);

 private:
  z_stream stream_{};
};

/// All of `data`, compressed.
std::string gzip(std::string_view data);

}  // namespace porter::server
