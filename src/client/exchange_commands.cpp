// See exchange_commands.hpp.
#include "client/exchange_commands.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cstdio>
#include <iostream>
#include <map>
#include <memory>
#include <optional>
#include <set>

#include "client/control_client.hpp"
#include "client/exchange_view.hpp"
#include "client/output.hpp"
#include "client/site_commands.hpp"
#include "core/exchange/base64.hpp"
#include "core/exchange/change.hpp"
#include "core/exchange/difference.hpp"
#include "core/exchange/har.hpp"
#include "core/exchange/message.hpp"
#include "core/exchange/recorded.hpp"
#include "core/files/beneath.hpp"
#include "core/files/content.hpp"
#include "core/files/paths.hpp"
#include "core/http/target.hpp"
#include "core/text/text.hpp"
#include "machine/terminal.hpp"

namespace porter::client {
namespace {

using Json = nlohmann::json;

/// What a request that is sent again may take, and what comparing large pages takes.
constexpr std::chrono::minutes kMostRepeating{11};
constexpr std::chrono::minutes kMostComparing{2};

/// The server that is meant and runs; nullopt: that has been told.
std::optional<machine::Instance> running(const ServerChoice& meant) {
  auto found = found_or_told(find_server(meant));
  if (!found) return std::nullopt;
  if (machine::lock_holder(*found)) return found;
  fail(not_running(*found));
  return std::nullopt;
}

/// Tells why there is no response, or what it says; kFailed.
int fail_by(const machine::Instance& instance, const Reply& reply) {
  return reply.status == 0 ? fail(unreachable(instance, reply.body.get<std::string>())) : fail_with(reply.body);
}

/// Asks for JSON; a null value: there is none, and why has been told.
Json ask_for(const machine::Instance& instance, const std::string& method, const std::string& target,
             const Json& body = nullptr, std::chrono::seconds patience = kMostWait) {
  const Reply reply = ask(instance, method, target, body, patience);
  if (reply.status == 200) return reply.body;
  fail_by(instance, reply);
  return nullptr;
}

std::string path_of(std::uint64_t number, const std::string& part = "") {
  return "/v1/exchanges/" + std::to_string(number) + (part.empty() ? "" : "/" + part);
}

std::string query_of(const ExchangesOptions& options) {
  std::string out = "?limit=" + std::to_string(options.most);
  const std::pair<const char*, const std::string*> all[] = {
      {"site", &options.site}, {"status", &options.status}, {"method", &options.method}, {"text", &options.text}};
  for (const auto& [name, value] : all)
    if (!value->empty()) out += std::string("&") + name + "=" + http::percent_encode(*value);
  return out;
}

/// The document roots of the sites by their names, each with a slash behind it.
using Roots = std::map<std::string, std::string>;

Roots roots_of(const machine::Instance& instance) {
  Roots out;
  const Reply reply = is_json_wanted() ? Reply{} : ask(instance, "GET", "/v1/sites");
  if (reply.status != 200) return out;
  for (const Json& site : reply.body["sites"]) out[site.value("name", "")] = shown(site["folder"]) + "/";
  // A site alone is not named in the rows.
  if (out.size() == 1) out.emplace("", out.begin()->second);
  return out;
}

bool show(const Json& row, const Roots& roots) {
  if (is_json_wanted()) {
    print_json_line(row);
  } else {
    fmt::print("{}\n", line_of(row, machine::terminal_width(), roots));
  }
  std::fflush(stdout);
  return std::ferror(stdout) == 0;
}

/// Counts the entries of an archive while it passes by, by the one key that each of them has. Within a text of JSON its
/// quotes would be escaped.
class EntryCounter {
 public:
  void take(std::string_view piece) {
    rest_ += piece;
    std::size_t at = 0;
    for (std::size_t found = 0; (found = rest_.find(kKey, at)) != rest_.npos; at = found + kKey.size()) ++count_;
    rest_.erase(0, std::max(at, rest_.size() - std::min(rest_.size(), kKey.size() - 1)));
  }
  std::size_t count() const { return count_; }

 private:
  static constexpr std::string_view kKey = "\"_exchange\":";
  std::string rest_;
  std::size_t count_ = 0;
};

int write_har(const machine::Instance& instance, const ExchangesOptions& options) {
  const std::string target = "/v1/exchanges.har" + query_of(options) + (options.with_secrets ? "&secrets=true" : "");
  const bool to_file = options.har != "-";
  // Beside it first: whatever happens, no half of one is left.
  const std::string beside = options.har + ".new";
  const auto not_written = [&](int error) {
    if (to_file) std::remove(beside.c_str());
    return fail(fmt::format("The file {} cannot be written: {}. Name another one.", text::escape_line(options.har),
                            files::describe({error})));
  };
  const std::unique_ptr<std::FILE, int (*)(std::FILE*)> file(to_file ? std::fopen(beside.c_str(), "wbe") : nullptr,
                                                             std::fclose);
  if (to_file && !file) return not_written(errno);
  std::FILE* const out = to_file ? file.get() : stdout;
  EntryCounter entries;
  const Reply reply = ask_for_bytes(instance, target, [&](std::string_view piece) {
    entries.take(piece);
    return std::fwrite(piece.data(), 1, piece.size(), out) == piece.size();
  });
  if (std::fflush(out) != 0 || std::ferror(out) != 0) return not_written(errno);
  if (reply.status != 200) {
    if (to_file) std::remove(beside.c_str());
    return fail_by(instance, reply);
  }
  if (!to_file) return kFine;
  if (std::rename(beside.c_str(), options.har.c_str()) != 0) return not_written(errno);
  if (is_json_wanted()) {
    print_json({{"file", text::to_utf8(options.har)}, {"exchanges", entries.count()}});
    return kFine;
  }
  fmt::print("{} exchanges are in {}.{}\n", entries.count(), text::escape_line(options.har),
             options.with_secrets ? "" : " Passwords, cookies and tokens are left out; --with-secrets has them in.");
  return kFine;
}

/// Shows what is new, again and again, until nobody reads it or the server ends.
int follow(const machine::Instance& instance, const ExchangesOptions& options, const Roots& roots, std::uint64_t last) {
  ExchangesOptions wanted = options;
  wanted.most = 1000;
  std::set<std::uint64_t> told;
  const auto show_those = [&](std::uint64_t after, std::uint64_t before) {
    const Json page = ask_for(instance, "GET",
                              "/v1/exchanges" + query_of(wanted) + fmt::format("&after={}&before={}", after, before));
    if (page.is_null()) return false;
    for (const Json& row : page["exchanges"]) {
      // Of one that is in progress the end is waited for, so that each has one line.
      if (row.value("in_progress", false) || !told.insert(row.value("number", std::uint64_t{0})).second) continue;
      if (!show(row, roots)) return false;
    }
    return true;
  };
  const bool asked = ask_for_events(instance, [&](const std::string& type, const Json& data) {
    if (type.empty()) return show_those(last, UINT64_MAX);
    if (type == "lost") std::fprintf(stderr, "(%d events were lost)\n", data.value("count", 0));
    if (type != "exchange-ended") return true;
    const auto number = data.value("number", std::uint64_t{0});
    return show_those(number - 1, number + 1);
  });
  return asked ? kFine : fail(unreachable(instance, "its control socket cannot be reached"));
}

/// The bytes of a part of an exchange; nullopt: they cannot be had, and why has been told.
std::optional<std::string> bytes_of(const machine::Instance& instance, std::uint64_t number, const std::string& part) {
  std::string out;
  const Reply reply = ask_for_bytes(instance, path_of(number, part), [&out](std::string_view piece) {
    out += piece;
    return true;
  });
  if (reply.status == 200) return out;
  if (reply.status == 0) {
    fail(unreachable(instance, reply.body.get<std::string>()));
  } else {
    fail_with(reply.body);
  }
  return std::nullopt;
}

/// Writes a part as it is, piece by piece.
int print_part(const machine::Instance& instance, std::uint64_t number, const std::string& part) {
  const Reply reply = ask_for_bytes(instance, path_of(number, part), [](std::string_view piece) {
    return std::fwrite(piece.data(), 1, piece.size(), stdout) == piece.size();
  });
  if (reply.status != 200) return fail_by(instance, reply);
  std::fflush(stdout);
  const Json exchange = ask_for(instance, "GET", path_of(number));
  if (exchange.is_null()) return kFine;
  const Json& wire = exchange[part == "request" ? "request" : "response"];
  const auto length = wire.value("bytes", std::uint64_t{0});
  const auto kept = wire.value("kept_bytes", std::uint64_t{0});
  if (kept < length)
    std::fprintf(stderr, "Only the first %s of %s are kept. To keep more, in the settings: exchanges.body = \"%s\"\n",
                 text::format_size(kept).c_str(), text::format_size(length).c_str(), "16 MiB");
  return kFine;
}

/// A question on a terminal; true: yes.
bool is_agreed(const std::string& question) {
  fmt::print("{} [y/N] ", question);
  std::fflush(stdout);
  std::string response;
  std::getline(std::cin, response);
  return response == "y" || response == "Y" || response == "yes";
}

}  // namespace

int run_exchanges(const ServerChoice& meant, const ExchangesOptions& options) {
  const auto instance = running(meant);
  if (!instance) return kFailed;
  if (!knows_site(*instance, options.site)) return kBadUse;
  if (!options.har.empty()) return write_har(*instance, options);
  const Json page = ask_for(*instance, "GET", "/v1/exchanges" + query_of(options));
  if (page.is_null()) return kFailed;
  if (is_json_wanted() && !options.follow) {
    print_json(page);
    return kFine;
  }
  const Roots roots = roots_of(*instance);
  for (const Json& row : page["exchanges"])
    if (!show(row, roots)) return kFine;
  if (options.follow) return follow(*instance, options, roots, page.value("last", std::uint64_t{0}));
  if (page["exchanges"].empty())
    std::fprintf(stderr, "%s\n", page.value("last", 0) == 0 ? "There was no exchange yet." : "No matching exchanges.");
  if (const auto lost = page.value("lost", 0); lost > 0)
    std::fprintf(stderr, "(%d could not be kept, for lack of memory)\n", lost);
  return kFine;
}

int run_exchange(const ServerChoice& meant, const ExchangeOptions& options) {
  using Part = ExchangeOptions::Part;
  const auto instance = running(meant);
  if (!instance) return kFailed;
  if (options.part == Part::request) return print_part(*instance, options.number, "request");
  if (options.part == Part::response) return print_part(*instance, options.number, "response");
  if (options.part == Part::page) return print_part(*instance, options.number, "page");
  if (options.part == Part::curl) return print_part(*instance, options.number, "curl");
  const Json exchange = ask_for(*instance, "GET", path_of(options.number));
  if (exchange.is_null()) return kFailed;
  if (is_json_wanted()) {
    print_json(exchange);
    return kFine;
  }
  const auto request = bytes_of(*instance, options.number, "request");
  if (!request) return kFailed;
  // What is out of a file is told of and not read: it may be large.
  std::optional<std::string> response = "";
  if (exchange["response"].contains("from_files")) {
    for (const Json& field : exchange["response"]["fields"])
      *response += field.value("name", "") + ": " + field.value("value", "") + "\r\n";
    response = exchange["response"].value("start_line", "") + "\r\n" + *response + "\r\n";
  } else {
    response = bytes_of(*instance, options.number, "response");
  }
  if (!response) return kFailed;
  fmt::print("{}", view_of(exchange, *request, *response));
  return kFine;
}

int run_again(const ServerChoice& meant, const AgainOptions& options) {
  const auto instance = running(meant);
  if (!instance) return kFailed;
  Json change = Json::object();
  if (!options.method.empty()) change["method"] = options.method;
  if (!options.target.empty()) change["target"] = options.target;
  if (!options.without.empty()) change["without"] = options.without;
  for (const std::string& field : options.fields) {
    const std::size_t colon = field.find(':');
    if (colon == field.npos) return fail("A field is written as \"Name: value\": " + text::escape_line(field), kBadUse);
    std::string value = field.substr(colon + 1);
    value.erase(0, value.find_first_not_of(' '));
    change["fields"].push_back({{"name", field.substr(0, colon)}, {"value", value}});
  }
  if (!options.body.empty()) {
    const auto body = body_from(options.body);
    if (const auto* const problem = std::get_if<Unreadable>(&body)) return fail(problem->sentence, kBadUse);
    change["body_base64"] = exchange::to_base64(std::get<std::string>(body));
  }
  const Json before = ask_for(*instance, "GET", path_of(options.number));
  if (before.is_null()) return kFailed;
  const std::string method = options.method.empty() ? before.value("method", "") : options.method;
  if (!exchange::is_safe(method) && !options.yes) {
    const std::string what =
        fmt::format("{} {} may change something when it is sent again.", text::escape_line(method),
                    text::escape_line(options.target.empty() ? before.value("target", "") : options.target));
    if (::isatty(STDIN_FILENO) == 0 || options.body == "-") return fail(what + " To send it: --yes", kBadUse);
    if (!is_agreed(what + " Send it?")) return fail("Nothing was sent.");
  }
  const Json reply = ask_for(*instance, "POST", path_of(options.number, "again"), change, kMostRepeating);
  if (reply.is_null()) return kFailed;
  if (is_json_wanted()) {
    print_json(reply);
    return kFine;
  }
  fmt::print("Sent again as exchange {}.\n{}", reply.value("number", std::uint64_t{0}),
             view_of_difference(reply["difference"]));
  return kFine;
}

namespace {

/// A side of a comparison that is no exchange: an entry of a HAR, or a file. A sentence: it cannot be read.
std::variant<exchange::Side, std::string> side_from(const std::string& written) {
  const std::size_t mark = written.rfind('#');
  const std::string number = mark == written.npos ? "" : written.substr(mark + 1);
  const bool is_entry = !number.empty() && number.find_first_not_of("0123456789") == number.npos;
  const std::string file = is_entry ? written.substr(0, mark) : written;
  auto read = content_of_named(file);
  if (auto* const problem = std::get_if<Unreadable>(&read)) return std::move(problem->sentence);
  std::string& text = std::get<std::string>(read);
  if (is_entry || file.ends_with(".har")) {
    const unsigned long entry = is_entry ? std::strtoul(number.c_str(), nullptr, 10) : 1;
    auto side = exchange::side_in_har(text, entry, written);
    if (auto* const wrong = std::get_if<std::string>(&side))
      return fmt::format("{} cannot be compared: {}.", text::escape_line(written), *wrong);
    return side;
  }
  exchange::Side side;
  side.name = written;
  side.is_file = true;
  side.page = std::move(text);
  return side;
}

bool is_number(const std::string& written) {
  return !written.empty() && written.size() < 19 && written.find_first_not_of("0123456789") == written.npos;
}

/// An exchange as a side; nullopt: it cannot be had, and why has been told.
std::optional<exchange::Side> side_of_number(const machine::Instance& instance, const std::string& written) {
  const std::uint64_t number = std::strtoull(written.c_str(), nullptr, 10);
  const Json told = ask_for(instance, "GET", path_of(number));
  if (told.is_null()) return std::nullopt;
  auto page = bytes_of(instance, number, "page");
  if (!page) return std::nullopt;
  exchange::Side side;
  side.name = written;
  side.status = told.value("status", 0);
  side.milliseconds = told.value("milliseconds", 0.0);
  side.page = std::move(*page);
  for (const Json& field : told["response"]["fields"]) {
    side.fields.emplace_back(field.value("name", ""), field.value("value", ""));
    if (text::to_lower(field.value("name", "")) == "content-type") side.type = field.value("value", "");
  }
  return side;
}

}  // namespace

int run_compare(const ServerChoice& meant, const CompareOptions& options) {
  Json difference;
  if (is_number(options.left) && is_number(options.right)) {
    const auto instance = running(meant);
    if (!instance) return kFailed;
    difference = ask_for(*instance, "GET", "/v1/exchanges/" + options.left + "/difference/" + options.right, nullptr,
                         kMostComparing);
    if (difference.is_null()) return kFailed;
  } else {
    std::vector<exchange::Side> sides;
    for (const std::string& written : {options.left, options.right}) {
      if (is_number(written)) {
        const auto instance = running(meant);
        if (!instance) return kFailed;
        auto side = side_of_number(*instance, written);
        if (!side) return kFailed;
        sides.push_back(std::move(*side));
        continue;
      }
      auto side = side_from(written);
      if (const auto* const wrong = std::get_if<std::string>(&side)) return fail(*wrong, kBadUse);
      sides.push_back(std::get<exchange::Side>(std::move(side)));
    }
    // Of an entry of a HAR nothing is known about runs, so they are no difference.
    difference = exchange::difference(sides[0], sides[1]);
  }
  if (is_json_wanted()) {
    print_json(difference);
  } else {
    fmt::print("{}", view_of_difference(difference));
  }
  return difference.value("alike", false) ? kFine : kFailed;
}

}  // namespace porter::client
