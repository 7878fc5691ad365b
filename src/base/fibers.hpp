#pragma once

#include <cstddef>
#include <functional>

namespace photonlane {

/// Runs some pieces of work in turns on one thread, each on a stack of its own: whenever all of
/// them wait for something, what they wait for is done for all at once.
class Fibers {
 public:
  /// Calls work(i) for every i below `count`, of which each has a stack. When all that have not
  /// ended wait, calls `answer`, and they go on in their order; what that throws is thrown to all
  /// who wait. What one throws is thrown here once all have ended. Not to be called from within
  /// work.
  static void run(std::size_t count, const std::function<void(std::size_t)>& work,
                  const std::function<void()>& answer);
  /// Within work: waits for the next answer.
  static void wait();
  /// Whether this is within work.
  static bool inside();
};

}  // namespace photonlane
