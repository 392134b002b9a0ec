// From a call to the function that answers it. See api.hpp.
#include "server/api/api.hpp"

#include <algorithm>
#include <cctype>
#include <iterator>

#include "core/files/paths.hpp"
#include "core/sites/choose.hpp"
#include "core/text/text.hpp"
#include "machine/rehearsal.hpp"
#include "server/api/file_watch.hpp"

namespace porter::server {

struct Api::Route {
  std::string_view method;
  std::string_view path;  ///< One that ends in a slash stands for all paths that begin with it.
  Response response;
};

const Api::Route Api::kRoutes[] = {
    {"GET", "/v1/status", &Api::status},
    {"GET", "/v1/metrics", &Api::metrics},
    {"POST", "/v1/stop", &Api::stop},
    {"POST", "/v1/reload", &Api::reload},
    {"POST", "/v1/pause", &Api::pause},
    {"POST", "/v1/resume", &Api::resume},
    {"POST", "/v1/restart", &Api::restart},
    {"GET", "/v1/autostart", &Api::autostart},
    {"PUT", "/v1/autostart", &Api::autostart},
    {"GET", "/v1/log", &Api::log},
    {"GET", "/v1/sites", &Api::sites},
    {"POST", "/v1/sites", &Api::add_site},
    {"POST", "/v1/sites/", &Api::open_folder},
    {"DELETE", "/v1/sites/", &Api::remove_site},
    {"GET", "/v1/mounts", &Api::mounts},
    {"POST", "/v1/mounts", &Api::add_mount},
    {"DELETE", "/v1/mounts", &Api::remove_mount},
    {"GET", "/v1/settings", &Api::settings_text},
    {"PUT", "/v1/settings", &Api::write_settings},
    {"POST", "/v1/settings/check", &Api::check_settings},
    {"GET", "/v1/languages", &Api::languages},
    {"GET", "/v1/languages/", &Api::language},
    {"GET", "/v1/folders", &Api::folders},
    {"GET", "/v1/tree", &Api::tree},
    {"GET", "/v1/source", &Api::source},
    {"POST", "/v1/rehearsals", &Api::rehearse},
    {"GET", "/v1/watch", &Api::watch},
    {"POST", "/v1/explain", &Api::explain},
    {"PATCH", "/v1/sites/", &Api::change_site},
    {"GET", "/v1/events", &Api::events},
    {"GET", "/v1/exchanges", &Api::exchanges},
    {"GET", "/v1/exchanges.har", &Api::exchanges_har},
    {"GET", "/v1/exchanges/", &Api::exchange},
    {"POST", "/v1/exchanges/", &Api::exchange_again},
};

asio::awaitable<Reply> Api::answer(const Call& call) {
  const auto has_path = [&](const Route& route) {
    return route.path.ends_with('/') ? call.path.starts_with(route.path) : call.path == route.path;
  };
  const auto* const end = std::end(kRoutes);
  const auto* const route = std::find_if(std::begin(kRoutes), end, [&](const Route& candidate) {
    return has_path(candidate) && candidate.method == call.method;
  });
  if (route == end) {
    const bool is_known = std::any_of(std::begin(kRoutes), end, has_path);
    co_return is_known ? bad_call(405, "This call knows no such method") : bad_call(404, "There is no such call");
  }
  Reply reply = co_await (this->*route->response)(call);
  co_return reply;
}

void Api::close() {
  is_closed_ = true;
  for (const auto& event : following_) event->set();
  for (FileWatch* const watch : watches_) watch->close();
  for (machine::Rehearsal* const rehearsal : rehearsals_) rehearsal->stop();
  probes_.terminate_all();
}

asio::awaitable<Reply> Api::on_helper_thread(std::function<Json(const Snapshot&)> make) {
  auto making = server_.shared().helpers.quick.run(
      [snapshot = server_.shared_snapshot(), make = std::move(make)] { return json_text(make(*snapshot), 2); });
  Reply reply;
  reply.text = co_await std::move(making);
  co_return reply;
}

Finding Api::no_response(const std::string& what) {
  return {Code::no_response_in_time, {{"what", what}, {"seconds", std::to_string(kMostPatience.count())}}};
}

Finding Api::no_settings() const {
  const std::string name = sites::name_as_host(files::base_name(instance_.root));
  return {Code::no_settings,
          {{"folder", instance_.root}, {"folder_quoted", text::shell_word(instance_.root)}, {"name", name}}};
}

}  // namespace porter::server
