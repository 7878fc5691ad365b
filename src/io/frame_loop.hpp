#pragma once

#include <fmt/format.h>

#include <functional>
#include <string>

#include "io/run_journal.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane::io {

/// Makes the frames of a run one after the other. `frame(i, go_on)` makes one, or takes it over
/// from an earlier run, and asks `go_on(share)` while it does. `progress` gets the share of the
/// whole run, and stops it by false: `stopped(done)` then writes what there is and says where it
/// is, and Error (cancelled) tells how far the run came and how to go on.
template <class Frame, class Stopped>
void play_frames(std::size_t count, const std::function<bool(double)>& progress,
                 const RunJournal& journal, const Frame& frame, const Stopped& stopped) {
  const auto go_on = [&](double frames) {
    return !progress || progress(frames / static_cast<double>(count));
  };
  std::size_t done = 0;
  try {
    while (done < count) {
      frame(done, [&](double share) { return go_on(static_cast<double>(done) + share); });
      ++done;
      if (!go_on(static_cast<double>(done))) throw Error(ErrorKind::cancelled, "stopped");
    }
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::cancelled) throw;
    const std::string where = stopped(done);
    throw Error(ErrorKind::cancelled, fmt::format("stopped after {} of {} frames; {}{}", done,
                                                  count, where, journal.hint()));
  }
}

}  // namespace photonlane::io
