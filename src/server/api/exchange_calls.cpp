// Calls about exchanges: which there were, what went over the wire, what differs, and sending one again.
#include <unistd.h>

#include <boost/asio/post.hpp>
#include <charconv>
#include <memory>

#include "core/exchange/base64.hpp"
#include "core/exchange/change.hpp"
#include "core/exchange/difference.hpp"
#include "core/exchange/exchange_json.hpp"
#include "core/exchange/har.hpp"
#include "core/exchange/message.hpp"
#include "core/exchange/slices.hpp"
#include "core/http/head.hpp"
#include "core/text/text.hpp"
#include "server/api/api.hpp"
#include "server/api/repeat.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kUsualMost = 40;
constexpr std::size_t kMostAtOnce = 10'000;

/// What follows "/v1/exchanges/" in the path of `call`, which has it.
std::string_view behind_exchanges(const Call& call) {
  return std::string_view(call.path).substr(std::string_view("/v1/exchanges/").size());
}

/// The number that `text` begins with, which is taken away from there with the slash behind it.
std::optional<std::uint64_t> take_number(std::string_view& text) {
  const std::string_view digits = text.substr(0, text.find('/'));
  std::uint64_t number = 0;
  const auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), number);
  if (error != std::errc{} || end != digits.data() + digits.size()) return std::nullopt;
  text.remove_prefix(std::min(digits.size() + 1, text.size()));
  return number;
}

/// What the query of a list asks for; a sentence if it cannot be understood.
std::variant<std::pair<ExchangeStore::Filter, std::size_t>, std::string> read_filter(const Call& call) {
  ExchangeStore::Filter filter;
  filter.site = call.parameter("site");
  filter.status = call.parameter("status").value_or("");
  filter.method = call.parameter("method").value_or("");
  filter.text = call.parameter("text").value_or("");
  if (!filter.status.empty() && !exchange::is_status_filter(filter.status))
    return "A status is three digits, such as 404, or stands for a hundred of them, such as 4xx";
  std::size_t most = kUsualMost;
  const std::pair<const char*, std::uint64_t*> numbers[] = {{"before", &filter.before}, {"after", &filter.after}};
  for (const auto& [name, into] : numbers) {
    if (!call.parameter(name)) continue;
    const auto number = call.number(name);
    if (!number) return std::string("The value of ") + name + " is not a number";
    *into = *number;
  }
  if (call.parameter("limit")) {
    const auto number = call.number("limit");
    if (!number || *number < 1 || *number > kMostAtOnce)
      return "The value of limit is not a number from 1 to " + std::to_string(kMostAtOnce);
    most = static_cast<std::size_t>(*number);
  }
  return std::pair(std::move(filter), most);
}

enum class OldBody { sent, replaced };

/// Why the request of `exchange` cannot be sent again, with its old body or another one; nullopt: it can.
std::optional<Finding> why_not_repeatable(const exchange::Recorded& exchange, OldBody body) {
  const std::string& bytes = exchange.request.bytes;
  const char* reason = nullptr;
  if (bytes.empty()) {
    reason = "nothing came of its request";
  } else if (body == OldBody::sent && exchange.request.is_cut()) {
    reason = "only the beginning of its body is kept";
  } else if (body == OldBody::sent &&
             exchange::read_transferred(exchange::read_message(bytes), bytes, bytes.size()).is_broken_off) {
    reason = "its body did not come whole, or was not read";
  }
  if (reason == nullptr) return std::nullopt;
  return Finding{Code::exchange_not_repeatable, {{"number", std::to_string(exchange.number)}, {"reason", reason}}};
}

Json json_of(const ExchangeStore::Page& page) {
  Json rows = Json::array();
  for (const exchange::Recorded& one : page.exchanges) rows.push_back(exchange::row_of(one));
  return {{"exchanges", std::move(rows)},
          {"last", page.last},
          {"gone_up_to", page.gone},
          {"lost", page.lost},
          {"has_more", page.has_more}};
}

}  // namespace

Finding Api::no_exchange(std::uint64_t number) const {
  const ExchangeStore& store = server_.shared().exchanges;
  Finding finding{Code::exchange_unknown, {{"number", std::to_string(number)}, {"option", instance_.option()}}};
  const std::uint64_t last = store.last_number();
  if (number >= 1 && number <= last) {
    finding.code = Code::exchange_gone;
    finding.facts.emplace_back("limit", text::format_limit(store.bounds().memory));
  } else if (!store.bounds().keep) {
    finding.facts.emplace_back("reason", "the settings say that none are kept");
  } else {
    finding.facts.emplace_back("reason", last == 0 ? "there was none yet" : "the last is " + std::to_string(last));
  }
  return finding;
}

asio::awaitable<Reply> Api::exchanges(const Call& call) {
  auto wanted = read_filter(call);
  if (const auto* const wrong = std::get_if<std::string>(&wanted)) co_return bad_call(422, *wrong);
  const auto& [filter, most] = std::get<0>(wanted);
  const bool with_pages = call.parameter("pages").value_or("") == "true";
  const bool with_errors = call.parameter("errors").value_or("") == "true";
  // Looking for words in all that was sent takes its time.
  run::Helpers& helpers = with_pages || with_errors || !filter.text.empty() ? server_.shared().helpers.lengthy
                                                                            : server_.shared().helpers.quick;
  auto listing =
      helpers.run([&store = server_.shared().exchanges, filter = filter, most = most, with_pages, with_errors] {
        const auto page = store.list(filter, most, with_pages || with_errors ? RecordedWith::all : RecordedWith::heads);
        Json out = json_of(page);
        exchange::PageLoads loads;
        for (std::size_t i = 0; with_pages && i < page.exchanges.size(); ++i)
          if (const std::uint64_t load = loads.page_of(page.exchanges[i]); load != 0)
            out["exchanges"][i]["page"] = load;
        for (std::size_t i = 0; with_errors && i < page.exchanges.size(); ++i)
          for (const exchange::Run& run : page.exchanges[i].runs)
            for (const std::string& line : run.error_lines)
              out["exchanges"][i]["error_lines"].push_back(text::to_utf8(line));
        return json_text(out);
      });
  Reply reply;
  reply.text = co_await std::move(listing);
  co_return reply;
}

asio::awaitable<Reply> Api::exchanges_har(const Call& call) {
  auto wanted = read_filter(call);
  if (const auto* const wrong = std::get_if<std::string>(&wanted)) co_return bad_call(422, *wrong);
  const auto& [filter, most] = std::get<0>(wanted);
  const auto secrets =
      call.parameter("secrets").value_or("") == "true" ? exchange::Secrets::told : exchange::Secrets::left_out;
  ExchangeStore& store = server_.shared().exchanges;
  auto listing = server_.shared().helpers.lengthy.run(
      [&store, filter = filter, most = most] { return store.numbers(filter, most); });
  auto numbers = co_await std::move(listing);
  const auto archive = std::make_shared<exchange::HarText>(
      std::move(numbers), [&store](std::uint64_t number) { return store.find(number); }, secrets);
  Reply reply;
  reply.type = "application/json";
  reply.stream = [this, archive](Stream& stream) { return send_archive(stream, archive); };
  co_return reply;
}

asio::awaitable<void> Api::send_archive(Stream& stream, std::shared_ptr<exchange::HarText> archive) {
  // A file that it is made from may lie on a mount that does not answer.
  constexpr std::chrono::seconds kMostForPiece{60};
  for (bool goes_on = true; goes_on && !is_closed_;) {
    auto making = server_.shared().helpers.lengthy.run_within(kMostForPiece, [archive] {
      std::string piece;
      archive->next(piece);
      return piece;
    });
    const auto piece = co_await std::move(making);
    // Without its end the archive is told from a whole one.
    if (!piece) stream.break_off();
    goes_on = piece && !piece->empty();
    if (goes_on) goes_on = co_await stream.send(*piece);
  }
}

asio::awaitable<Reply> Api::exchange(const Call& call) {
  std::string_view rest = behind_exchanges(call);
  const auto number = take_number(rest);
  if (!number) co_return bad_call(404, "There is no such call; exchanges have numbers");
  if (rest == "curl") {
    Reply reply = co_await exchange_for_curl(*number);
    co_return reply;
  }
  if (rest == "request" || rest == "response" || rest == "page") {
    Reply reply = co_await exchange_bytes(*number, rest);
    co_return reply;
  }
  constexpr std::string_view kDifference = "difference/";
  if (rest.starts_with(kDifference)) {
    rest.remove_prefix(kDifference.size());
    const auto other = take_number(rest);
    if (!other || !rest.empty()) co_return bad_call(404, "There is no such call; exchanges have numbers");
    Reply reply = co_await exchange_difference(*number, *other);
    co_return reply;
  }
  if (!rest.empty()) co_return bad_call(404, "There is no such call");
  auto finding =
      server_.shared().helpers.quick.run([&store = server_.shared().exchanges, number = *number]() -> std::string {
        const auto found = store.find(number);
        return found ? json_text(exchange::json_of(*found)) : "";
      });
  Reply reply;
  reply.text = co_await std::move(finding);
  if (reply.text.empty()) co_return refused(no_exchange(*number));
  co_return reply;
}

asio::awaitable<Reply> Api::exchange_for_curl(std::uint64_t number) {
  auto looking =
      server_.shared().helpers.quick.run([&store = server_.shared().exchanges, number] { return store.find(number); });
  const auto found = co_await std::move(looking);
  if (!found) co_return refused(no_exchange(number));
  if (const auto refusal = why_not_repeatable(*found, OldBody::sent)) co_return refused(*refusal);
  if (const char* const reason = exchange::why_not_by_curl(found->request.bytes))
    co_return refused(Finding{Code::exchange_not_repeatable, {{"number", std::to_string(number)}, {"reason", reason}}});
  Reply reply;
  reply.type = "text/plain";
  reply.bytes = exchange::curl_command(*found) + "\n";
  co_return reply;
}

asio::awaitable<Reply> Api::exchange_bytes(std::uint64_t number, std::string_view part) {
  auto looking =
      server_.shared().helpers.quick.run([&store = server_.shared().exchanges, number] { return store.find(number); });
  auto found = co_await std::move(looking);
  if (!found) co_return refused(no_exchange(number));
  for (const exchange::FileSlice& slice : found->response.slices) {
    if (part == "request" || exchange::open_slice(slice).is_open()) continue;
    co_return refused(Finding{Code::exchange_file_changed,
                              {{"number", std::to_string(number)},
                               {"length", std::to_string(slice.length)},
                               {"file", slice.file},
                               {"option", instance_.option()}}});
  }
  Reply reply;
  reply.type = "application/octet-stream";
  std::uint64_t from = 0;
  if (part == "page") {
    const exchange::Message response = exchange::read_message(found->response.bytes);
    reply.type = response.field("Content-Type").value_or(reply.type);
    from = response.body_at;
    // What comes out of a file has no coding on it.
    if (found->response.slices.empty()) {
      auto reading = server_.shared().helpers.lengthy.run([&response, &found] {
        return exchange::read_body(response, found->response.bytes, exchange::kMostCompared).bytes;
      });
      reply.bytes = co_await std::move(reading);
      co_return reply;
    }
  }
  exchange::Wire wire = part == "request" ? std::move(found->request) : std::move(found->response);
  if (wire.slices.empty()) {
    reply.bytes = std::move(wire.bytes);
    co_return reply;
  }
  reply.stream = [this, wire = std::move(wire), from](Stream& stream) { return send_wire(stream, wire, from); };
  co_return reply;
}

asio::awaitable<void> Api::send_wire(Stream& stream, exchange::Wire wire, std::uint64_t from) {
  constexpr std::size_t kPiece = 256 * 1024;
  std::size_t taken = from;
  std::string piece;
  for (const exchange::FileSlice& slice : wire.slices) {
    bool goes_on = co_await stream.send(std::string_view(wire.bytes).substr(taken, slice.at - taken));
    taken = slice.at;
    const files::Descriptor file = exchange::open_slice(slice);
    for (std::uint64_t done = 0; goes_on && done < slice.length; done += piece.size()) {
      // A disk may be slow, and this thread accepts all connections.
      auto reading = server_.shared().helpers.lengthy.run([&] {
        piece.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, slice.length - done)));
        const ssize_t got = ::pread(file.get(), piece.data(), piece.size(), static_cast<off_t>(slice.offset + done));
        piece.resize(got > 0 ? static_cast<std::size_t>(got) : 0);
        return !piece.empty();
      });
      goes_on = co_await std::move(reading);
      if (goes_on) goes_on = co_await stream.send(piece);
    }
    if (!goes_on) co_return;
  }
  co_await stream.send(std::string_view(wire.bytes).substr(std::min<std::size_t>(taken, wire.bytes.size())));
}

asio::awaitable<Reply> Api::exchange_difference(std::uint64_t left, std::uint64_t right) {
  std::uint64_t missing = 0;
  auto comparing = server_.shared().helpers.lengthy.run([&]() -> std::string {
    ExchangeStore& store = server_.shared().exchanges;
    std::optional<exchange::Recorded> both[] = {store.find(left), store.find(right)};
    for (auto& one : both) {
      if (!one) {
        missing = &one == &both[0] ? left : right;
        return "";
      }
      exchange::fill_slices(one->response, exchange::kMostCompared);
    }
    return json_text(exchange::difference(exchange::side_of(*both[0]), exchange::side_of(*both[1])));
  });
  Reply reply;
  reply.text = co_await std::move(comparing);
  if (reply.text.empty()) co_return refused(no_exchange(missing));
  co_return reply;
}

namespace {

/// What `body` says of a change; a sentence if it cannot be understood.
std::variant<exchange::Change, std::string> read_change(const Json& body) {
  exchange::Change change;
  change.method = text_in(body, "method");
  change.target = text_in(body, "target");
  const auto is_word = [](const std::string& text) {
    return std::all_of(text.begin(), text.end(), [](char c) { return c > ' ' && c != '\x7f'; });
  };
  if (!is_word(change.method) || !is_word(change.target)) return "A method and a target are words without spaces";
  auto fields = fields_in(body);
  if (!fields) return "A field has a name and a value on one line";
  change.fields = std::move(*fields);
  if (const auto names = body.find("without"); names != body.end() && names->is_array())
    for (const Json& name : *names)
      if (name.is_string()) change.without.push_back(name.get<std::string>());
  if (body.contains("body_base64")) {
    change.body = exchange::from_base64(text_in(body, "body_base64"));
    if (!change.body) return "The body is not base64";
  }
  return change;
}

}  // namespace

asio::awaitable<Reply> Api::exchange_again(const Call& call) {
  std::string_view rest = behind_exchanges(call);
  const auto number = take_number(rest);
  if (!number || rest != "again") co_return bad_call(404, "There is no such call");
  auto wanted = read_change(call.object());
  if (const auto* const wrong = std::get_if<std::string>(&wanted)) co_return bad_call(422, *wrong);
  const auto& change = std::get<exchange::Change>(wanted);
  ExchangeStore& store = server_.shared().exchanges;
  const std::uint64_t wanted_number = *number;
  auto looking = server_.shared().helpers.quick.run([&store, wanted_number] { return store.find(wanted_number); });
  const auto found = co_await std::move(looking);
  if (!found) co_return refused(no_exchange(*number));
  if (const auto refusal = why_not_repeatable(*found, change.body ? OldBody::replaced : OldBody::sent))
    co_return refused(*refusal);
  if (found->server.empty())
    co_return refused(Finding{Code::exchange_not_repeatable,
                              {{"number", std::to_string(*number)}, {"reason", "it did not come over the network"}}});
  bool gone = false;
  std::variant<std::uint64_t, Finding> came;
  std::string bytes = exchange::changed_request(found->request.bytes, change);
  {
    const WhenLeft left(call, [&gone] { gone = true; });
    auto repeating = repeat(server_.context(), store, *found, std::move(bytes), gone);
    came = co_await std::move(repeating);
  }
  if (const auto* const finding = std::get_if<Finding>(&came)) {
    Finding told = *finding;
    told.facts.emplace_back("option", instance_.option());
    co_return refused(told);
  }
  const std::uint64_t again = std::get<std::uint64_t>(came);
  Reply reply = co_await exchange_difference(*number, again);
  if (reply.status == 200) reply.text = json_text({{"number", again}, {"difference", parse_json(reply.text)}});
  co_return reply;
}

}  // namespace porter::server
