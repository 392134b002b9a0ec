// Three stages, each of which takes from the one before: bytes as they were sent, without the transfer coding, without
// the content coding. See body_pieces.hpp.
#include "core/exchange/body_pieces.hpp"

#include <unistd.h>
#include <zlib.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "core/exchange/slices.hpp"
#include "core/http/head.hpp"
#include "core/text/text.hpp"

namespace porter::exchange {
namespace {

constexpr std::size_t kPiece = 32 * 1024;

}  // namespace

/// zlib's stream, and what waits to go through it.
class BodyPieces::Inflater {
 public:
  // 32: the kind of header is found out.
  Inflater() : is_open_(::inflateInit2(&stream_, 15 + 32) == Z_OK) {}
  ~Inflater() {
    if (is_open_) ::inflateEnd(&stream_);
  }
  Inflater(const Inflater&) = delete;
  Inflater& operator=(const Inflater&) = delete;

  bool wants_input() const { return is_open_ && at_ == input_.size() && !has_more_; }
  void take(std::string&& input) {
    input_ = std::move(input);
    at_ = 0;
  }
  /// Appends what comes next to `out`. False: it is over, in peace or not.
  bool inflate(std::string& out) {
    if (!is_open_) return false;
    std::array<char, kPiece> space;
    stream_.next_in = reinterpret_cast<Bytef*>(input_.data() + at_);
    stream_.avail_in = static_cast<uInt>(input_.size() - at_);
    stream_.next_out = reinterpret_cast<Bytef*>(space.data());
    stream_.avail_out = space.size();
    const int state = ::inflate(&stream_, Z_NO_FLUSH);
    at_ = input_.size() - stream_.avail_in;
    has_more_ = stream_.avail_out == 0;
    out.append(space.data(), space.size() - stream_.avail_out);
    has_begun_ = has_begun_ || !out.empty();
    is_whole_ = state == Z_STREAM_END;
    return state == Z_OK || state == Z_BUF_ERROR;
  }
  bool is_whole() const { return is_whole_; }
  bool has_begun() const { return has_begun_; }
  /// What was taken last, all of it.
  const std::string& input() const { return input_; }

 private:
  z_stream stream_{};
  bool is_open_;
  std::string input_;
  std::size_t at_ = 0;
  bool has_more_ = false;
  bool has_begun_ = false;
  bool is_whole_ = false;
};

BodyPieces::BodyPieces(const Message& message, const Wire& wire)
    : wire_(wire), at_(std::min(message.body_at, wire.bytes.size())), left_(UINT64_MAX) {
  if (http::list_has(message.field("Transfer-Encoding").value_or(""), "chunked")) {
    chunks_ = std::make_unique<http::ChunkReader>();
  } else if (const auto told = message.field("Content-Length")) {
    std::from_chars(told->data(), told->data() + told->size(), left_);
  }
  const std::string coding = text::to_lower(message.field("Content-Encoding").value_or(""));
  if (coding == "gzip" || coding == "x-gzip" || coding == "deflate") inflater_ = std::make_unique<Inflater>();
}

BodyPieces::~BodyPieces() = default;

bool BodyPieces::next_of_file(std::string& piece) {
  const FileSlice& slice = wire_.slices[slice_];
  if (!file_.is_open()) file_ = open_slice(slice);
  piece.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, slice.length - done_)));
  const ssize_t got =
      file_.is_open() ? ::pread(file_.get(), piece.data(), piece.size(), static_cast<off_t>(slice.offset + done_)) : -1;
  piece.resize(got > 0 ? static_cast<std::size_t>(got) : 0);
  done_ += piece.size();
  if (piece.empty()) is_incomplete_ = true;
  if (!piece.empty() && done_ < slice.length) return true;
  ++slice_;
  done_ = 0;
  file_.reset();
  return true;
}

bool BodyPieces::next_raw(std::string& piece) {
  piece.clear();
  while (piece.empty()) {
    const bool is_file_next = slice_ < wire_.slices.size() && wire_.slices[slice_].at <= at_;
    if (is_file_next) {
      next_of_file(piece);
      continue;
    }
    if (at_ >= wire_.bytes.size()) return false;
    const std::size_t end = slice_ < wire_.slices.size()
                                ? std::min<std::size_t>(wire_.slices[slice_].at, wire_.bytes.size())
                                : wire_.bytes.size();
    piece.assign(wire_.bytes, at_, std::min(kPiece, end - at_));
    at_ += piece.size();
  }
  return true;
}

bool BodyPieces::next_transferred(std::string& piece) {
  for (piece.clear(); piece.empty();) {
    if (left_ == 0 || (chunks_ && chunks_->state() != http::ChunkReader::State::more)) return false;
    if (!next_raw(raw_)) return false;
    if (chunks_) {
      chunks_->read(raw_, piece);
    } else {
      piece = raw_.substr(0, static_cast<std::size_t>(std::min<std::uint64_t>(left_, raw_.size())));
      left_ -= piece.size();
    }
  }
  return true;
}

bool BodyPieces::next(std::string& piece) {
  if (!inflater_ || is_plain_) return next_transferred(piece);
  for (piece.clear(); piece.empty();) {
    if (inflater_->is_whole()) return false;
    if (inflater_->wants_input()) {
      std::string input;
      if (!next_transferred(input)) {
        is_incomplete_ = true;
        return false;
      }
      inflater_->take(std::move(input));
    }
    const bool goes_on = inflater_->inflate(piece);
    if (goes_on || inflater_->is_whole()) continue;
    if (inflater_->has_begun()) {
      is_incomplete_ = true;
      return !piece.empty();
    }
    // Whatever it says of itself, it is not compressed.
    is_plain_ = true;
    piece = inflater_->input();
  }
  return true;
}

}  // namespace porter::exchange
