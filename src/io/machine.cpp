#include "photonlane/io/machine.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <chrono>
#include <ctime>
#include <fstream>
#include <thread>

namespace photonlane::io {

std::string machine_name() {
  std::string name = "unknown processor";
  std::ifstream in("/proc/cpuinfo");
  for (std::string line; std::getline(in, line);) {
    if (!line.starts_with("model name")) continue;
    const auto colon = line.find(": ");
    if (colon != std::string::npos) name = line.substr(colon + 2);
    break;
  }
  return fmt::format("{}, {} threads", name, std::thread::hardware_concurrency());
}

std::string date_text() {
  return fmt::format("{:%Y-%m-%dT%H:%M:%SZ}", fmt::gmtime(std::time(nullptr)));
}

}  // namespace photonlane::io
