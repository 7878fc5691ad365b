#pragma once

#include <memory>
#include <string>
#include <vector>

#include "live/desk.hpp"

namespace photonlane::live {

struct ServerOptions {
  std::string address = "127.0.0.1";
  int port = 0;  ///< 0: any that is free
  int threads = 0;
  std::string token;
};

/// The page, and what it asks for: docs/live.md is the protocol.
class Server {
 public:
  /// Throws Error (usage) where the address or the port cannot be had.
  Server(std::vector<std::shared_ptr<Desk>> desks, const ServerOptions& options);
  ~Server();
  Server(const Server&) = delete;
  Server& operator=(const Server&) = delete;

  /// "http://127.0.0.1:8123/#TOKEN"
  std::string address() const;

 private:
  struct Inside;
  std::unique_ptr<Inside> inside_;
};

}  // namespace photonlane::live
