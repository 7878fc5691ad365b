#pragma once

#include <chrono>
#include <functional>
#include <string>

namespace photonlane::tool {

/// A progress bar on standard error: only on a terminal, only when the work lasts over a second,
/// gone when it is done.
class ProgressBar {
 public:
  ProgressBar(std::string title, bool quiet);
  ~ProgressBar();
  ProgressBar(const ProgressBar&) = delete;
  ProgressBar& operator=(const ProgressBar&) = delete;

  /// To pass on as a progress callback.
  std::function<bool(double)> callback();

 private:
  void show(double share);

  std::string title_;
  bool wanted_;
  bool shown_ = false;
  std::chrono::steady_clock::time_point start_ = std::chrono::steady_clock::now();
  std::chrono::steady_clock::time_point last_ = start_;
};

}  // namespace photonlane::tool
