#pragma once

#include <chrono>
#include <mutex>
#include <string>
#include <string_view>

namespace photonlane::live {

/// A secret of 128 random bits, as 32 hexadecimal digits. Throws Error (file) where the system
/// gives no random numbers.
std::string make_token();
bool is_token(std::string_view text);

/// Whether two texts are equal, in a time that does not tell where they differ.
bool equal_in_constant_time(std::string_view one, std::string_view other);

/// Whether an address is that of this machine alone.
bool is_loopback(std::string_view name);

/// Whether a Host header names this machine by a number or a loopback name, and no name that
/// somebody else's name server may lead here. Ports do not matter: a tunnel has another one.
bool is_own_host(std::string_view host, std::string_view bound_address);

/// Whether an Origin header is that of a page which came from the host that is asked.
bool is_own_origin(std::string_view origin, std::string_view host);

/// So many events a second at most, after a first burst.
class RateLimit {
 public:
  RateLimit(double per_second, double burst) : rate_(per_second), burst_(burst), left_(burst) {}
  /// False where one more is too many.
  bool admit();

 private:
  std::mutex mutex_;
  double rate_, burst_, left_;
  std::chrono::steady_clock::time_point last_ = std::chrono::steady_clock::now();
};

}  // namespace photonlane::live
