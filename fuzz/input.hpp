#pragma once

#include <unistd.h>

#include <cstddef>
#include <cstdint>
#include <cstdio>
#include <string>
#include <string_view>

#include "photonlane/base/error.hpp"

namespace photonlane::fuzz {

/// The bytes a fuzzer made up, as text.
inline std::string_view text_of(const std::uint8_t* bytes, std::size_t size) {
  return {reinterpret_cast<const char*>(bytes), size};
}

/// The same as a file in memory, for what reads files. Always of one name.
inline const std::string& file_of(const std::uint8_t* bytes, std::size_t size, const char* ending) {
  static const std::string path = "/dev/shm/photonlane-fuzz-" + std::to_string(getpid()) + ending;
  std::FILE* file = std::fopen(path.c_str(), "wb");
  if (file != nullptr) {
    std::fwrite(bytes, 1, size, file);
    std::fclose(file);
  }
  return path;
}

/// Runs something that may refuse its input, and may do nothing else: any other exception ends the
/// program, as whatever the sanitizers find does.
template <class Work>
int try_out(const Work& work) {
  try {
    work();
  } catch (const Error& error) {
    // A message is one line.
    if (std::string_view(error.what()).find('\n') != std::string_view::npos) __builtin_trap();
  }
  return 0;
}

}  // namespace photonlane::fuzz
