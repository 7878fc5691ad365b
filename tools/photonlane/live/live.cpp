#include "live/live.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <fstream>
#include <thread>

#include "live/guard.hpp"
#include "live/server.hpp"
#include "shared.hpp"

namespace photonlane::tool {
namespace {

/// The token that a file holds; a new one, which only the user may read, where it is not there.
std::string token_of_file(const std::string& path) {
  std::string token;
  if (std::ifstream stream(path); stream) {
    std::getline(stream, token);
    if (!live::is_token(token)) {
      throw Error(ErrorKind::input, "expected a token, 32 hexadecimal digits", Place{path, 1, 1});
    }
    return token;
  }
  token = live::make_token();
  const int file = open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
  const std::string line = token + "\n";
  const bool written =
      file >= 0 && write(file, line.data(), line.size()) == static_cast<ssize_t>(line.size());
  const int problem = errno;
  if (file >= 0) close(file);
  if (!written) {
    throw Error(ErrorKind::file, fmt::format("cannot be written: {}", std::strerror(problem)),
                Place{path});
  }
  return token;
}

}  // namespace

int run(const LiveCommand& command) {
  if (command.port != 0 && (command.port < 1024 || command.port > 65535)) {
    throw Error(ErrorKind::usage,
                fmt::format("--port: found {}, expected 1024 to 65535, or 0 for any that is free",
                            command.port));
  }
  std::vector<std::shared_ptr<live::Desk>> desks;
  for (const std::string& path : command.scenes) {
    desks.push_back(std::make_shared<live::Desk>(
        io::SceneRequest{path, command.common.size, command.common.sets, command.common.doors},
        command.write));
  }
  const Stoppable stoppable;
  const live::Server server(
      desks, {command.address, command.port, command.common.threads,
              command.token_file.empty() ? live::make_token() : token_of_file(command.token_file)});
  if (!live::is_loopback(command.address)) {
    complain(fmt::format(
        "live: warning: {} is reached by other machines; whoever reads the address below, or the "
        "network's traffic, sees and steers this page{}",
        command.address, command.write ? " and writes the scene's file" : ""));
  }
  print("{}\n", server.address());
  std::fflush(stdout);
  while (!Stoppable::asked()) std::this_thread::sleep_for(std::chrono::milliseconds(50));
  return success;
}

}  // namespace photonlane::tool
