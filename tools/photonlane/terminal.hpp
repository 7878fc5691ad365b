#pragma once

#include <fmt/format.h>

#include <chrono>
#include <functional>
#include <string>
#include <string_view>

namespace photonlane::tool {

/// Writes text to standard output. What cannot be written is told by close_output().
void put(std::string_view text);
template <class... Values>
void print(fmt::format_string<Values...> format, Values&&... values) {
  put(fmt::format(format, std::forward<Values>(values)...));
}

/// A time as people say it: seconds, minutes or hours.
std::string time_text(double seconds);

/// Writes a line for people to standard error, on one line whatever is in it. That it cannot be
/// written, to a stream that is closed or full, is no error of its own.
void complain(std::string_view line) noexcept;

/// Gives closed standard streams something to lead to, so that no file that is opened takes their
/// numbers: done first of all.
void open_standard_streams() noexcept;

/// True where all that was printed has been written; to be asked at the end.
bool close_output() noexcept;

/// What SIGINT and SIGTERM do: unfinished files are removed and the process ends by the signal.
/// Where a Stoppable lives the first one is only noted, so that what was done can be kept.
void watch_signals() noexcept;

class Stoppable {
 public:
  Stoppable() noexcept;
  ~Stoppable();
  Stoppable(const Stoppable&) = delete;
  Stoppable& operator=(const Stoppable&) = delete;

  /// True once a signal has come.
  static bool asked() noexcept;
};

/// Ends the process by the signal that came while a Stoppable lived, if one did.
void end_by_signal() noexcept;

/// "42 s left", in minutes and hours where it is those.
std::string time_left(double seconds);

/// How far work is, on standard error, when it lasts over a second: on a terminal a bar that is
/// gone when it is done, elsewhere a line a minute.
class ProgressBar {
 public:
  ProgressBar(std::string title, bool quiet);
  ~ProgressBar();
  ProgressBar(const ProgressBar&) = delete;
  ProgressBar& operator=(const ProgressBar&) = delete;

  /// Words behind the bar, from now on.
  void note(std::string words) { words_ = std::move(words); }
  /// Takes the bar away.
  void clear();
  /// To pass on as a progress callback; false once a signal has come to a Stoppable.
  std::function<bool(double)> callback();

 private:
  void show(double share);

  std::string title_, words_;
  bool wanted_;
  bool terminal_;
  double first_ = -1;  ///< the share it began with
  bool shown_ = false;
  std::chrono::steady_clock::time_point start_ = std::chrono::steady_clock::now();
  std::chrono::steady_clock::time_point last_ = start_;
};

}  // namespace photonlane::tool
