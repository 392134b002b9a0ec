// Exchanges as an HTTP Archive (HAR 1.2), and an entry of one as a side of a comparison.
//
// An archive is made piece by piece, exchange by exchange: what is kept of some thousand of them, inflated and encoded,
// would be a hundred times what they take in the server.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "core/exchange/body_pieces.hpp"
#include "core/exchange/difference.hpp"
#include "core/exchange/recorded.hpp"
#include "core/exchange/secrets.hpp"

namespace porter::exchange {

/// Whether values are told whose names mean a secret (core/exchange/secrets.hpp).
enum class Secrets { left_out, told };

/// Groups exchanges by the loading of a page: they are given to it in the order of their numbers.
class PageLoads {
 public:
  /// The number of the exchange with the page for whose loading `exchange` was made, its own if it is one; 0: none.
  std::uint64_t page_of(const Recorded& exchange);

 private:
  /// The page that a client has loaded last from a URL, so that what it loads for it is found by its Referer.
  std::map<std::pair<std::string, std::string>, std::uint64_t> pages_;
};

/// The text of an archive, piece by piece.
class HarText {
 public:
  struct Bounds {
    std::uint64_t all = 256ULL * 1024 * 1024;  ///< Bytes of the archive, but for some of its end.
    std::uint64_t file = 4ULL * 1024 * 1024;   ///< Bytes that came out of files, for each exchange.
    std::uint64_t body = 64ULL * 1024 * 1024;  ///< Bytes of a body without its codings.
  };
  /// `find` gives an exchange by its number; nullopt: it has gone meanwhile.
  using Find = std::function<std::optional<Recorded>(std::uint64_t)>;

  /// An archive of the exchanges `numbers`, in ascending order.
  HarText(std::vector<std::uint64_t> numbers, Find find, Secrets secrets, Bounds bounds);
  HarText(std::vector<std::uint64_t> numbers, Find find, Secrets secrets);
  ~HarText();
  HarText(const HarText&) = delete;
  HarText& operator=(const HarText&) = delete;

  /// Puts the next piece into `piece`, of some hundred KiB at most. False: there is no more.
  bool next(std::string& piece);

 private:
  class Body;

  // Each appends what belongs to one stage, and goes on to the next.

  void begin_entry(std::string& piece);
  void begin_response(std::string& piece);
  void add_to_body(std::string& piece);
  void end_entry(std::string& piece);
  void end(std::string& piece);
  /// The fields of the form that the request has sent.
  std::vector<std::pair<std::string, std::string>> form_params() const;

  const std::vector<std::uint64_t> numbers_;
  const Find find_;
  const Secrets secrets_;
  const Bounds bounds_;
  PageLoads loads_;
  std::vector<std::string> pages_;  ///< Their JSON.
  std::uint64_t written_ = 0;
  std::size_t at_ = 0;       ///< The next of the numbers.
  std::size_t entries_ = 0;  ///< That were begun.
  std::size_t left_out_ = 0;
  std::size_t gone_ = 0;
  enum class Stage { head, entries, request_body, response, response_body, rest_of_entry, tail, over };
  Stage stage_ = Stage::head;
  struct Entry;
  std::unique_ptr<Entry> entry_;  ///< The one in progress.
  std::unique_ptr<Body> body_;
};

/// The entry with that number, from 1 on, of an archive in `text`. A sentence: what is wrong with it.
std::variant<Side, std::string> side_in_har(const std::string& text, std::size_t number, const std::string& name);

}  // namespace porter::exchange
