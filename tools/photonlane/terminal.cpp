#include "terminal.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <cmath>
#include <cstdio>

namespace photonlane::tool {

ProgressBar::ProgressBar(std::string title, bool quiet)
    : title_(std::move(title)), wanted_(!quiet && isatty(STDERR_FILENO) != 0) {}

ProgressBar::~ProgressBar() {
  if (shown_) fmt::print(stderr, "\r\033[K");
}

std::function<bool(double)> ProgressBar::callback() {
  if (!wanted_) return {};
  return [this](double share) {
    show(share);
    return true;
  };
}

void ProgressBar::show(double share) {
  using namespace std::chrono_literals;
  const auto now = std::chrono::steady_clock::now();
  if (now - start_ < 1s || now - last_ < 100ms) return;
  last_ = now;
  shown_ = true;
  constexpr int cells = 30;
  const int done = static_cast<int>(std::lround(cells * share));
  const double left = std::chrono::duration<double>(now - start_).count() * (1 - share) / share;
  fmt::print(stderr, "\r\033[K{} {:=>{}}{:>{}} {:3.0f} %, {:.0f} s left", title_, "", done, "",
             cells - done, 100 * share, left);
  std::fflush(stderr);
}

}  // namespace photonlane::tool
