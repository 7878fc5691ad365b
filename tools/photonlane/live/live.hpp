#pragma once

#include "commands.hpp"

namespace photonlane::tool {

struct LiveCommand {
  std::vector<std::string> scenes;
  SceneOptions common;  ///< of its scene nothing
  int port = 0;
  std::string address = "127.0.0.1";
  std::string token_file;  ///< empty: a new token
  bool write = false;
};

/// Serves a page until a signal comes.
int run(const LiveCommand& command);

}  // namespace photonlane::tool
