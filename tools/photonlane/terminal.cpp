#include "terminal.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <csignal>
#include <cstdio>

#include "photonlane/base/words.hpp"
#include "photonlane/io/output.hpp"

namespace photonlane::tool {
namespace {

bool output_failed = false;
std::atomic<int> stoppables{0};
std::atomic<int> signal_that_came{0};

void end_by(int signal) noexcept {
  io::remove_unfinished_outputs();
  std::signal(signal, SIG_DFL);
  std::raise(signal);
}

void on_signal(int signal) {
  // The second one ends the process in any case.
  if (stoppables.load() > 0 && signal_that_came.exchange(signal) == 0) return;
  end_by(signal);
}

void put_to(std::FILE* stream, std::string_view text) noexcept {
  std::fwrite(text.data(), 1, text.size(), stream);
}

}  // namespace

void put(std::string_view text) {
  put_to(stdout, text);
  if (std::ferror(stdout) != 0) output_failed = true;
}

std::string time_text(double seconds) {
  if (seconds < 99.5) return fmt::format("{:.0f} s", seconds);
  if (seconds < 5970) return fmt::format("{:.0f} min", seconds / 60);
  return fmt::format("{:.1f} h", seconds / 3600);
}

void complain(std::string_view line) noexcept {
  try {
    put_to(stderr, one_line(line) + "\n");
  } catch (...) {
    // Out of memory for a message: it cannot be shown.
  }
}

void open_standard_streams() noexcept {
  // The lowest free number is taken, so they are filled in order. Writing to one that is opened
  // for reading fails, as it did before.
  for (int number = 0; number < 3; ++number) {
    if (fcntl(number, F_GETFD) == -1) {
      [[maybe_unused]] const int opened = open("/dev/null", number == 0 ? O_WRONLY : O_RDONLY);
    }
  }
}

bool close_output() noexcept {
  if (std::fflush(stdout) != 0) output_failed = true;
  return !output_failed;
}

void watch_signals() noexcept {
  struct sigaction action {};
  action.sa_handler = on_signal;
  sigemptyset(&action.sa_mask);
  action.sa_flags = SA_RESTART;
  sigaction(SIGINT, &action, nullptr);
  sigaction(SIGTERM, &action, nullptr);
  // A file that may not grow further is told like a full disk.
  std::signal(SIGXFSZ, SIG_IGN);
}

Stoppable::Stoppable() noexcept { ++stoppables; }
Stoppable::~Stoppable() { --stoppables; }
bool Stoppable::asked() noexcept { return signal_that_came.load() != 0; }

void end_by_signal() noexcept {
  if (const int signal = signal_that_came.load()) end_by(signal);
}

std::string time_left(double seconds) { return time_text(seconds) + " left"; }

ProgressBar::ProgressBar(std::string title, bool quiet)
    : title_(std::move(title)), wanted_(!quiet), terminal_(isatty(STDERR_FILENO) != 0) {}

ProgressBar::~ProgressBar() { clear(); }

void ProgressBar::clear() {
  if (shown_ && terminal_) put_to(stderr, "\r\033[K");
  shown_ = false;
}

std::function<bool(double)> ProgressBar::callback() {
  return [this](double share) {
    if (wanted_) show(share);
    return !Stoppable::asked();
  };
}

void ProgressBar::show(double share) {
  using namespace std::chrono_literals;
  const auto now = std::chrono::steady_clock::now();
  // What a run that goes on has done already took no time: it says nothing of the rest.
  if (first_ < 0 || now - start_ < 50ms) first_ = share;
  const auto pause = terminal_ ? std::chrono::steady_clock::duration(100ms) : 60s;
  if (now - start_ < 1s || now - last_ < pause || !(share > first_)) return;
  last_ = now;
  shown_ = true;
  const double spent = std::chrono::duration<double>(now - start_).count();
  const std::string left = time_left(spent * (1 - share) / (share - first_));
  if (!terminal_) {
    // A log gets a line a minute.
    put_to(stderr, fmt::format("{} {:.0f} %, {}{}{}\n", title_, 100 * share, left,
                               words_.empty() ? "" : ", ", words_));
    return;
  }
  constexpr int cells = 30;
  const int done = std::clamp(static_cast<int>(std::lround(cells * share)), 0, cells);
  put_to(stderr, fmt::format("\r\033[K{} {:=>{}}{:>{}} {:3.0f} %, {}{}{}", title_, "", done, "",
                             cells - done, 100 * share, left, words_.empty() ? "" : ", ", words_));
  std::fflush(stderr);
}

}  // namespace photonlane::tool
