#include "io/files.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cctype>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "photonlane/base/error.hpp"

namespace photonlane::io {

std::string read_file(const std::string& path) {
  errno = 0;
  std::ifstream stream(path, std::ios::binary);
  std::ostringstream bytes;
  if (std::filesystem::is_directory(path)) {
    throw Error(ErrorKind::file, "is a folder, expected a file", Place{path});
  }
  if (!stream || !(bytes << stream.rdbuf())) {
    // An empty file sets the failure flag too, but without an error of the system.
    if (!stream.is_open() || errno != 0) {
      throw Error(ErrorKind::file, fmt::format("cannot be read: {}", std::strerror(errno)),
                  Place{path});
    }
  }
  return std::move(bytes).str();
}

void write_whole(const std::string& path, const std::function<void(const std::string&)>& write) {
  const std::string temporary = fmt::format("{}.{}.part", path, getpid());
  try {
    write(temporary);
    if (std::rename(temporary.c_str(), path.c_str()) != 0) {
      throw Error(ErrorKind::file, fmt::format("cannot be written: {}", std::strerror(errno)),
                  Place{path});
    }
  } catch (...) {
    std::remove(temporary.c_str());
    throw;
  }
}

void write_file(const std::string& path, std::string_view bytes) {
  write_whole(path, [&](const std::string& temporary) {
    errno = 0;
    std::ofstream stream(temporary, std::ios::binary);
    stream.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
    stream.close();
    if (!stream) {
      throw Error(ErrorKind::file, fmt::format("cannot be written: {}", std::strerror(errno)),
                  Place{path});
    }
  });
}

void make_folder(const std::string& path) {
  std::error_code problem;
  std::filesystem::create_directories(path, problem);
  if (problem) {
    throw Error(ErrorKind::file, fmt::format("folder cannot be made: {}", problem.message()),
                Place{path});
  }
  if (access(path.c_str(), W_OK) != 0) {
    throw Error(ErrorKind::file, fmt::format("folder cannot be written: {}", std::strerror(errno)),
                Place{path});
  }
}

std::string folder_of(const std::string& path) {
  const auto slash = path.find_last_of('/');
  return slash == std::string::npos ? "" : path.substr(0, slash + 1);
}

bool ends_with(std::string_view path, std::string_view ending) {
  if (path.size() < ending.size()) return false;
  return std::equal(ending.begin(), ending.end(), path.end() - ending.size(), [](char a, char b) {
    return std::tolower(static_cast<unsigned char>(a)) ==
           std::tolower(static_cast<unsigned char>(b));
  });
}

}  // namespace photonlane::io
