// A rehearsal: a request is put together as a browser would send it, resolved and run by the very code of the server,
// and told in full.
#pragma once

#include <boost/asio/io_context.hpp>
#include <memory>
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "core/findings/finding.hpp"
#include "core/http/head.hpp"
#include "core/http/target.hpp"
#include "core/sites/resolve.hpp"
#include "machine/environment.hpp"
#include "run/fresh/run.hpp"
#include "run/process.hpp"
#include "run/start.hpp"

namespace porter::machine {

/// What a rehearsal came to.
struct Rehearsed {
  std::string command = "(nothing is run)";
  std::string script;  ///< The file that was run last; empty: none.
  std::vector<std::string> environment;
  std::vector<std::string> redirected_to;  ///< Paths of the site that scripts have asked for in their own place.
  int status = 500;
  std::string reason;
  std::vector<std::pair<std::string, std::string>> fields;
  std::string body;
  std::string printed;  ///< Of a page that is not shown, since the script failed after it.
  std::string error_text;
  std::optional<run::ProcessEnd> end;
  std::vector<Finding> findings;

  void fail_by(Finding finding) {
    status = status_of(finding.code);
    findings.push_back(std::move(finding));
  }
};

enum class ShowEnvironment { no, yes };
/// As JSON; text that is not UTF-8 is made so.
nlohmann::json json_of(const Rehearsed& result, ShowEnvironment environment);

/// What is asked for in a rehearsal.
struct RehearsalOrder {
  std::string path;  ///< As in a URL, percent-encoded.
  std::string query;
  std::string method;  ///< Empty: GET, or POST with a body.
  std::string host = "localhost:8080";
  std::string type;  ///< Of the body; empty: that of a form, where there is a body.
  std::vector<std::string> headers;
  std::optional<std::string> body;
};

/// The request in the form in which it would come over the wire, and what it asks for.
struct RehearsedRequest {
  std::string bytes;
  http::RequestHead head;  ///< Points into `bytes`.
  http::Target target;
  std::string body;
  bool has_body = false;
};

/// Puts the request together; a sentence if that cannot be done.
std::optional<std::string> compose(const RehearsalOrder& order, RehearsedRequest& request);

/// One request, from its route to the response, by way of as many scripts as it takes. run() once.
class Rehearsal {
 public:
  /// At `site`, one of the settings of `in`, for a request that names `host`. All must outlive it.
  Rehearsal(const sites::ResolveContext& in, const Site& site, std::string host, RehearsedRequest& request)
      : in_(in), site_(site), host_(std::move(host)), request_(request), runs_(context_.get_executor()) {}

  /// False: it leads to something that is not run, and there is nothing to be rehearsed.
  bool run(Rehearsed& out);
  /// Ends what runs. From any thread, while run() has not returned.
  void stop();

 private:
  sites::Outcome route() const;
  void follow(sites::Outcome outcome, Rehearsed& out);
  std::optional<sites::Outcome> redirect_to(const std::string& location, Rehearsed& out);
  void show(const sites::Outcome& outcome, Rehearsed& out) const;
  std::optional<std::string> run_script(const sites::ScriptFound& script, Rehearsed& out);
  /// Begins the run, at a program that others have started as `external` tells unless that is null.
  run::Started start(run::ScriptOrder order, const script::Interpreter* external);
  boost::asio::awaitable<void> take_response(std::shared_ptr<run::ScriptRun> run, Rehearsed& out,
                                             std::optional<std::string>& location);

  const sites::ResolveContext& in_;
  const Site& site_;
  const std::string host_;
  RehearsedRequest& request_;
  const run::Supplies supplies_ = supplies();
  boost::asio::io_context context_{1};
  run::RunSet runs_;
};

}  // namespace porter::machine
