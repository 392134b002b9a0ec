// zlib's deflate, with a gzip wrapper. See gzip.hpp.
#include "server/response/gzip.hpp"

#include <array>
#include <new>

namespace porter::server {
namespace {

// On one's own machine the wire costs nothing; a light level shows what a published site will send without making the
// page wait for it.
constexpr int kLevel = 4;
constexpr int kGzipWindow = 15 + 16;
constexpr int kMemoryLevel = 8;

}  // namespace

Gzip::Gzip() {
  if (::deflateInit2(&stream_, kLevel, Z_DEFLATED, kGzipWindow, kMemoryLevel, Z_DEFAULT_STRATEGY) != Z_OK)
    throw std::bad_alloc();
}

Gzip::~Gzip() { ::deflateEnd(&stream_); }

void Gzip::add(std::string_view data, More more, std::string& out) {
  stream_.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(data.data()));
  stream_.avail_in = static_cast<uInt>(data.size());
  std::array<char, 16 * 1024> buffer;
  do {
    stream_.next_out = reinterpret_cast<Bytef*>(buffer.data());
    stream_.avail_out = static_cast<uInt>(buffer.size());
    ::deflate(&stream_, more == More::yes ? Z_NO_FLUSH : Z_FINISH);
    out.append(buffer.data(), buffer.size() - stream_.avail_out);
  } while (stream_.avail_out == 0);
}

std::string gzip(std::string_view data) {
  std::string out;
  Gzip stream;
  stream.add(data, Gzip::More::no, out);
  return out;
}

}  // namespace porter::server
