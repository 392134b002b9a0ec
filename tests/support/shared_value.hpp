// A value that a test shares with a program under test, in a file that both have mapped.
#pragma once

#include <fcntl.h>
#include <sys/mman.h>
#include <unistd.h>

#include <string>

#include "support/support.hpp"

namespace porter::test {

template <typename Value>
class SharedValue {
 public:
  /// All of its bytes are 0 at first.
  SharedValue(const TempFolder& folder, const std::string& name)
      : path_(folder.write(name, std::string(sizeof(Value), '\0'))) {
    const int file = ::open(path_.c_str(), O_RDWR | O_CLOEXEC);
    value_ = static_cast<Value*>(::mmap(nullptr, sizeof(Value), PROT_READ | PROT_WRITE, MAP_SHARED, file, 0));
    ::close(file);
  }
  ~SharedValue() { ::munmap(value_, sizeof(Value)); }
  SharedValue(const SharedValue&) = delete;
  SharedValue& operator=(const SharedValue&) = delete;

  const std::string& path() const { return path_; }
  Value& operator*() { return *value_; }
  Value* operator->() { return value_; }

 private:
  std::string path_;
  Value* value_;
};

/// What loads `shim` into a program under test, which finds the shared value at `path` by the variable `name`.
inline std::vector<std::string> loading(const std::string& shim, const std::string& name, const std::string& path) {
  return {"LD_PRELOAD=" + built(shim), name + "=" + path, "ASAN_OPTIONS=verify_asan_link_order=0:detect_leaks=0"};
}

}  // namespace porter::test
