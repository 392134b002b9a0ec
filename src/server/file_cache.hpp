// The cache of small files: what was sent for a target a moment ago, proven fresh by one stat() before it is sent
// again.
//
// One belongs to each worker, so it needs no lock. A file that was changed less than two seconds before it was read is
// not trusted: its time stamp could hide a second change. Entries are for targets that lead straight to a file, or to a
// folder's first index file, so that no other file can come to stand before them.
#pragma once

#include <sys/stat.h>

#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>

#include "core/files/descriptor.hpp"
#include "core/http/conditions.hpp"

namespace porter::server {

/// One file, ready to be sent.
struct CachedFile {
  std::string path;
  struct stat info {};
  http::Validators validators;
  std::string fields;       ///< The head's field lines for a 200 answer, all but Date.
  std::string kept_fields;  ///< Those of a 304 answer.
  std::string content;      ///< Of a small file.
  files::Descriptor file;   ///< Of a larger one; then `content` is empty.
  bool is_compressible = false;
  std::string gzip_fields;   ///< As `fields`, for the compressed content; Content-Length comes with the content.
  std::string gzip_content;  ///< Empty: not compressed yet.
};

class FileCache {
 public:
  /// The file last sent for `target`, if a stat() shows that it has not changed since; null if not.
  std::shared_ptr<CachedFile> find(std::string_view target);
  /// Keeps `file` for `target`, unless it is too young to be trusted.
  void keep(std::string_view target, CachedFile file);

  /// Up to this size a file counts as small.
  static constexpr std::size_t kMostFileBytes = 64 * 1024;

 private:
  struct Hash {
    using is_transparent = void;
    std::size_t operator()(std::string_view text) const { return std::hash<std::string_view>()(text); }
  };

  std::unordered_map<std::string, std::shared_ptr<CachedFile>, Hash, std::equal_to<>> files_;
  std::size_t bytes_ = 0;       ///< Of content.
  std::size_t open_files_ = 0;  ///< Descriptors.
  void forget(const CachedFile& file);
};

/// A strong validator for the file's state (RFC 9110, section 8.8.3): every change that its time stamps, size or
/// inode show makes another.
std::string entity_tag(const struct stat& info);

}  // namespace porter::server
