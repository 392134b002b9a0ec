// Replays what fuzzing started from and what it has found.
#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "../../fuzz/fuzz.hpp"

TEST_CASE("every parser takes every input of its corpus, and all its beginnings") {
  for (const porter::fuzz::NamedTarget* target = porter::fuzz::kTargets; target->run != nullptr; ++target) {
    CAPTURE(target->name);
    std::size_t count = 0;
    for (const auto& entry :
         std::filesystem::directory_iterator(std::string(PORTER_CORPUS) + "/" + std::string(target->name))) {
      std::ostringstream bytes;
      bytes << std::ifstream(entry.path(), std::ios::binary).rdbuf();
      const std::string text = bytes.str();
      for (std::size_t length = 0; length <= text.size(); ++length)
        target->run(std::string_view(text).substr(0, length));
      ++count;
    }
    CHECK(count > 0);
  }
}
