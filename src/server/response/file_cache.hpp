// The cache of small files: what was sent for a path a moment ago, proven fresh by one stat() before it is sent again;
// and of scripts, of which it is only remembered what a path leads to.
//
// One belongs to each worker, so it needs no lock. A file that was changed less than two seconds before it was read is
// not trusted: its time stamp could hide a second change. And how it was judged is trusted for a second only, since
// links and folders around it may change what its path means without changing the file. Entries are for paths that lead
// straight to a file, or to a folder's first index file, so that no other file can come to stand before them.
//
// It is bounded by all that it holds, and keyed by what a path means: however it is spelt, it is one entry.
#pragma once

#include <sys/stat.h>

#include <chrono>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "core/files/descriptor.hpp"
#include "core/http/conditions.hpp"
#include "core/sites/resolve.hpp"
#include "run/script_order.hpp"

namespace porter::server {

/// What a path leads to that is answered by a script.
struct CachedScript {
  sites::ScriptFound found;  ///< Its rule is that of the settings that the cache is for.
  run::Runner runner;
  std::vector<std::string> trail;
  /// What it was asked last. Heads that are longer than kMostHead are not kept.
  struct Asked {
    std::string head;
    std::string client_address;
    std::string server_address;
    std::uint16_t server_port = 0;
    run::KnownRequest request;
  };
  mutable std::shared_ptr<const Asked> asked;
  static constexpr std::size_t kMostHead = 2048;
};

/// One file, ready to be sent, or a script, ready to be run.
struct CachedFile {
  std::string path;
  struct stat info {};
  http::Validators validators;
  std::string fields;       ///< The head's field lines for a 200 response, all but Date.
  std::string kept_fields;  ///< Those of a 304 response.
  std::string content;      ///< Of a small file.
  files::Descriptor file;   ///< Of a larger one; then `content` is empty.
  bool is_compressible = false;
  std::string gzip_fields;   ///< As `fields`, for the compressed content; Content-Length comes with the content.
  std::string gzip_content;  ///< Empty: not compressed yet.
  std::shared_ptr<const CachedScript> script;  ///< Not null: it is one, and run by a pooled process.

  /// Sets the compressed content, and tells its length. Once.
  void set_compressed(std::string compressed);
};

class FileCache {
 public:
  using Clock = std::chrono::steady_clock;

  /// For the sites 0 to `sites` - 1, which share the bounds.
  explicit FileCache(std::size_t sites) : sites_(sites) {}

  /// What an entry is kept for: a path of a site.
  struct Key {
    std::size_t site;
    std::string_view path;
  };

  /// The file last sent for `key`, if it was judged less than a moment before `now` and a stat() shows that it has not
  /// changed since; null if not.
  std::shared_ptr<CachedFile> find(Key key, Clock::time_point now);
  /// Keeps `file` for `key`, unless it is too young to be trusted. `judged` is when it was looked up.
  void keep(Key key, CachedFile file, Clock::time_point judged);
  /// Notes that the path has been judged again at `judged`, and leads to a file in the state `info`: what is kept of it
  /// holds for another while, if it is the same.
  void renew(Key key, const struct stat& info, Clock::time_point judged);
  /// Adds the compressed content to a `file` that find() has given.
  void add_compressed(CachedFile& file, std::string content);

  /// Up to this size a file counts as small.
  static constexpr std::size_t kMostFileBytes = 64 * 1024;
  /// Up to this size the compressed content of a larger file is kept.
  static constexpr std::size_t kMostCompressedBytes = 512 * 1024;
  /// Bytes of all that is held, entries and their paths included.
  static constexpr std::size_t kMostBytes = 4 * 1024 * 1024;

  std::size_t bytes() const { return bytes_; }

 private:
  struct Hash {
    using is_transparent = void;
    std::size_t operator()(std::string_view text) const { return std::hash<std::string_view>()(text); }
  };
  struct Place {
    std::shared_ptr<CachedFile> file;
    Clock::time_point judged;
  };
  using Files = std::unordered_map<std::string, Place, Hash, std::equal_to<>>;

  void forget(const std::string& path, const CachedFile& file);
  void clear();

  std::vector<Files> sites_;
  std::size_t bytes_ = 0;
  std::size_t open_files_ = 0;  ///< Descriptors.
};

/// The path that the raw target of a request (its query left out) means, if that shows at a glance: `raw` itself, or
/// its escapes decoded into `space`. nullopt where only the full reading can tell (dot segments, doubled or encoded
/// slashes, long paths, malformed ones).
std::optional<std::string_view> plain_path(std::string_view raw, std::string& space);

/// The path that what `target` leads to is kept for; nullopt: it is not. `cannot_be_shadowed` as in sites::FileFound.
std::optional<std::string> path_to_keep(const http::Target& target, bool cannot_be_shadowed);

/// A strong validator for the file's state (RFC 9110, section 8.8.3): every change that its time stamps, size or
/// inode show makes another.
std::string entity_tag(const struct stat& info);

}  // namespace porter::server
