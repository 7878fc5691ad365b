#include "live/guard.hpp"

#include <arpa/inet.h>
#include <sys/random.h>

#include <algorithm>
#include <array>

#include "photonlane/base/error.hpp"

namespace photonlane::live {

std::string make_token() {
  std::array<unsigned char, 16> bytes{};
  if (getrandom(bytes.data(), bytes.size(), 0) != static_cast<ssize_t>(bytes.size())) {
    throw Error(ErrorKind::file, "the system gives no random numbers");
  }
  std::string token;
  for (const unsigned char byte : bytes) {
    token += "0123456789abcdef"[byte >> 4];
    token += "0123456789abcdef"[byte & 15];
  }
  return token;
}

bool is_token(std::string_view text) {
  return text.size() == 32 && text.find_first_not_of("0123456789abcdef") == std::string_view::npos;
}

bool equal_in_constant_time(std::string_view one, std::string_view other) {
  if (one.size() != other.size()) return false;  // the length is no secret
  volatile unsigned char differs = 0;
  for (std::size_t i = 0; i < one.size(); ++i) {
    differs = static_cast<unsigned char>(
        differs | (static_cast<unsigned char>(one[i]) ^ static_cast<unsigned char>(other[i])));
  }
  return differs == 0;
}

bool is_loopback(std::string_view name) {
  return name == "localhost" || name == "127.0.0.1" || name == "::1";
}

bool is_own_host(std::string_view host, std::string_view bound_address) {
  std::string name(host);
  if (name.starts_with('[')) {
    const auto end = name.find(']');
    if (end == std::string::npos) return false;
    const std::string after = name.substr(end + 1);
    if (!after.empty() && after.front() != ':') return false;
    name = name.substr(1, end - 1);
  } else if (const auto colon = name.find(':'); colon != std::string::npos) {
    name.resize(colon);
  }
  std::transform(name.begin(), name.end(), name.begin(), [](char letter) {
    return letter >= 'A' && letter <= 'Z' ? static_cast<char>(letter - 'A' + 'a') : letter;
  });
  if (is_loopback(name)) return true;
  if (is_loopback(bound_address)) return false;
  if (name == bound_address) return true;
  // Who opened the server to a network reaches it by a number; names are others' to give.
  std::array<unsigned char, sizeof(in6_addr)> number{};
  return inet_pton(AF_INET, name.c_str(), number.data()) == 1 ||
         inet_pton(AF_INET6, name.c_str(), number.data()) == 1;
}

bool is_own_origin(std::string_view origin, std::string_view host) {
  return origin == "http://" + std::string(host);
}

bool RateLimit::admit() {
  const std::lock_guard lock(mutex_);
  const auto now = std::chrono::steady_clock::now();
  left_ = std::min(burst_, left_ + rate_ * std::chrono::duration<double>(now - last_).count());
  last_ = now;
  if (left_ < 1) return false;
  left_ -= 1;
  return true;
}

}  // namespace photonlane::live
