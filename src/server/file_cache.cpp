// Keeping and finding small files. See file_cache.hpp.
#include "server/file_cache.hpp"

#include <fmt/format.h>

#include <ctime>

#include "core/files/state.hpp"

namespace porter::server {
namespace {

constexpr std::size_t kMostBytes = 4 * 1024 * 1024;
constexpr std::size_t kMostOpenFiles = 64;

}  // namespace

std::string entity_tag(const struct stat& info) {
  return fmt::format("\"{:x}-{:x}-{:x}{:08x}-{:x}{:08x}\"", info.st_ino, info.st_size, info.st_mtim.tv_sec,
                     info.st_mtim.tv_nsec, info.st_ctim.tv_sec, info.st_ctim.tv_nsec);
}

void FileCache::forget(const CachedFile& file) {
  bytes_ -= file.content.size();
  if (file.file.is_open()) --open_files_;
}

std::shared_ptr<CachedFile> FileCache::find(std::string_view target) {
  const auto found = files_.find(target);
  if (found == files_.end()) return nullptr;
  struct stat info {};
  if (::stat(found->second->path.c_str(), &info) == 0 && files::same_state(info, found->second->info))
    return found->second;
  forget(*found->second);
  files_.erase(found);
  return nullptr;
}

void FileCache::keep(std::string_view target, CachedFile file) {
  if (!files::is_settled(file.info, std::time(nullptr))) return;
  // Throwing everything away is rare with bounds like these, and leaves no order of use to keep.
  if (bytes_ + file.content.size() > kMostBytes || (file.file.is_open() && open_files_ == kMostOpenFiles)) {
    files_.clear();
    bytes_ = 0;
    open_files_ = 0;
  }
  bytes_ += file.content.size();
  if (file.file.is_open()) ++open_files_;
  auto& place = files_[std::string(target)];
  if (place) forget(*place);
  place = std::make_shared<CachedFile>(std::move(file));
}

}  // namespace porter::server
