// A recorded body, read piece by piece with its codings taken off, so that neither a large file nor a page that was
// compressed a thousandfold takes memory.
#pragma once

#include <cstdint>
#include <memory>
#include <string>

#include "core/exchange/message.hpp"
#include "core/exchange/recorded.hpp"
#include "core/files/descriptor.hpp"
#include "core/http/body.hpp"

namespace porter::exchange {

/// Reads the body of `message`, whose bytes are `wire`; both must outlive it. What is out of files is read from there.
class BodyPieces {
 public:
  BodyPieces(const Message& message, const Wire& wire);
  ~BodyPieces();
  BodyPieces(const BodyPieces&) = delete;
  BodyPieces& operator=(const BodyPieces&) = delete;

  /// Puts the next piece into `piece`, of some ten KiB at most. False: there is no more.
  bool next(std::string& piece);
  /// Whether a content coding was taken off, as far as it has been read.
  bool is_compressed() const { return inflater_ != nullptr && !is_plain_; }
  /// Whether something of it is missing that was sent: a file that has changed, a coding that is broken.
  bool is_incomplete() const { return is_incomplete_; }

 private:
  class Inflater;

  /// The next bytes as they were sent.
  bool next_raw(std::string& piece);
  bool next_of_file(std::string& piece);
  /// The next bytes without their transfer coding.
  bool next_transferred(std::string& piece);

  const Wire& wire_;
  std::size_t at_;          ///< In the bytes of the wire.
  std::size_t slice_ = 0;   ///< The next of its slices.
  std::uint64_t done_ = 0;  ///< Of that slice.
  files::Descriptor file_;  ///< Of that slice, once it was opened.
  std::uint64_t left_;      ///< By Content-Length.
  std::unique_ptr<http::ChunkReader> chunks_;
  std::unique_ptr<Inflater> inflater_;
  bool is_plain_ = false;  ///< It is not compressed, whatever it says.
  bool is_incomplete_ = false;
  std::string raw_;
};

}  // namespace porter::exchange
