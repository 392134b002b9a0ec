// exchanges, exchange, again and compare: what went over the wire, looked at, sent again, compared.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "client/instance_commands.hpp"

namespace porter::client {

// `meant` finds the server, as for the other commands about one that runs. The results are exit statuses.

struct ExchangesOptions {
  bool follow = false;
  std::string site;
  std::string status;
  std::string method;
  std::string text;
  std::size_t most = 40;
  std::string har;  ///< The file that a HAR is written to; empty: a list is shown.
  bool with_secrets = false;
};
int run_exchanges(const ServerChoice& meant, const ExchangesOptions& options);

struct ExchangeOptions {
  std::uint64_t number = 0;
  enum class Part { view, request, response, page, curl } part = Part::view;
};
int run_exchange(const ServerChoice& meant, const ExchangeOptions& options);

struct AgainOptions {
  std::uint64_t number = 0;
  std::string method;
  std::string target;
  std::vector<std::string> fields;   ///< "Name: value".
  std::vector<std::string> without;  ///< Names.
  std::string body;                  ///< A file; "-": standard input; empty: the body stays.
  bool yes = false;
};
int run_again(const ServerChoice& meant, const AgainOptions& options);

struct CompareOptions {
  std::string left;
  std::string right;
};
int run_compare(const ServerChoice& meant, const CompareOptions& options);

}  // namespace porter::client
