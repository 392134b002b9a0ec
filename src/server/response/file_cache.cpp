// Persistence and finding small files. See file_cache.hpp.
#include "server/response/file_cache.hpp"

#include <fmt/format.h>

#include <ctime>
#include <utility>

#include "core/files/state.hpp"
#include "core/http/target.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kMostOpenFiles = 64;
constexpr std::chrono::seconds kJudgementHolds{1};
constexpr std::size_t kLongestPath = 2048;

std::size_t bytes_of(const CachedScript& script) {
  // What it is asked and what it answers comes later: heads, variables and parameters.
  std::size_t bytes = 6 * CachedScript::kMostHead + sizeof script + script.found.path.capacity() +
                      script.found.interpreter.capacity() + script.found.name.capacity() +
                      script.runner.name.capacity();
  for (const std::string& step : script.trail) bytes += sizeof(std::string) + step.capacity();
  return bytes;
}

/// What an entry takes: its texts, itself, and the nodes of the map and of the shared pointer, as the allocator rounds
/// them.
std::size_t bytes_of(const std::string& path, const CachedFile& file) {
  constexpr std::size_t kNodes = 160;
  return kNodes + sizeof(CachedFile) + path.capacity() + file.path.capacity() + file.validators.etag.capacity() +
         file.fields.capacity() + file.kept_fields.capacity() + file.content.capacity() + file.gzip_fields.capacity() +
         file.gzip_content.capacity() + (file.script ? bytes_of(*file.script) : 0);
}

}  // namespace

std::string entity_tag(const struct stat& info) {
  return fmt::format("\"{:x}-{:x}-{:x}{:08x}-{:x}{:08x}\"", info.st_ino, info.st_size, info.st_mtim.tv_sec,
                     info.st_mtim.tv_nsec, info.st_ctim.tv_sec, info.st_ctim.tv_nsec);
}

std::optional<std::string_view> plain_path(std::string_view raw, std::string& space) {
  if (raw.size() > kLongestPath || raw.empty() || raw.front() != '/') return std::nullopt;
  if (raw.find('%') != raw.npos) {
    auto decoded = http::percent_decode(raw);
    // An encoded slash or NUL is an error, which the full reading tells.
    if (!decoded || raw.find("%2F") != raw.npos || raw.find("%2f") != raw.npos || raw.find("%00") != raw.npos)
      return std::nullopt;
    space = std::move(*decoded);
    raw = space;
  }
  for (std::size_t at = 0; (at = raw.find('/', at)) != raw.npos; ++at)
    if (at + 1 < raw.size() && (raw[at + 1] == '/' || raw[at + 1] == '.')) return std::nullopt;
  return raw;
}

std::optional<std::string> path_to_keep(const http::Target& target, bool cannot_be_shadowed) {
  if (!cannot_be_shadowed || target.form != http::TargetForm::origin) return std::nullopt;
  std::string space;
  const auto path = plain_path(target.raw_path, space);
  return path ? std::optional<std::string>(*path) : std::nullopt;
}

void CachedFile::set_compressed(std::string compressed) {
  gzip_content = std::move(compressed);
  gzip_fields += "Content-Length: " + std::to_string(gzip_content.size()) + "\r\n";
}

void FileCache::forget(const std::string& path, const CachedFile& file) {
  bytes_ -= bytes_of(path, file);
  if (file.file.is_open()) --open_files_;
}

void FileCache::clear() {
  for (Files& files : sites_) Files().swap(files);
  bytes_ = 0;
  open_files_ = 0;
}

std::shared_ptr<CachedFile> FileCache::find(Key key, Clock::time_point now) {
  Files& files = sites_[key.site];
  const auto found = files.find(key.path);
  if (found == files.end()) return nullptr;
  struct stat info {};
  const Place& place = found->second;
  // It stays until it is judged again, which may show that nothing has changed.
  if (now - place.judged >= kJudgementHolds) return nullptr;
  if (::stat(place.file->path.c_str(), &info) == 0 && files::same_state(info, place.file->info)) return place.file;
  forget(found->first, *place.file);
  files.erase(found);
  return nullptr;
}

void FileCache::keep(Key at, CachedFile file, Clock::time_point judged) {
  // Of a script nothing is kept that an edit would change.
  if (!file.script && !files::is_settled(file.info, std::time(nullptr))) return;
  std::string key(at.path);
  const std::size_t bytes = bytes_of(key, file);
  // Throwing everything away is rare with bounds like these, and leaves no order of use to keep.
  if (bytes_ + bytes > kMostBytes || (file.file.is_open() && open_files_ == kMostOpenFiles)) clear();
  Files& files = sites_[at.site];
  if (const auto old = files.find(at.path); old != files.end()) {
    forget(old->first, *old->second.file);
    files.erase(old);
  }
  if (file.file.is_open()) ++open_files_;
  const auto kept = files.emplace(std::move(key), Place{std::make_shared<CachedFile>(std::move(file)), judged}).first;
  bytes_ += bytes_of(kept->first, *kept->second.file);
}

void FileCache::renew(Key key, const struct stat& info, Clock::time_point judged) {
  const auto found = sites_[key.site].find(key.path);
  if (found != sites_[key.site].end() && files::same_state(info, found->second.file->info))
    found->second.judged = judged;
}

void FileCache::add_compressed(CachedFile& file, std::string content) {
  const std::size_t before = bytes_of({}, file);
  file.set_compressed(std::move(content));
  bytes_ += bytes_of({}, file) - before;
  if (bytes_ > kMostBytes) clear();
}

}  // namespace porter::server
