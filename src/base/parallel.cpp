#include "base/parallel.hpp"

#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>

#include <algorithm>

namespace photonlane {

int thread_count(int threads) {
  const int there = tbb::this_task_arena::max_concurrency();
  return threads <= 0 ? there : std::min(threads, there);
}

void parallel_for(int threads, std::size_t count, const std::function<void(std::size_t)>& work) {
  if (threads == 1 || count <= 1) {
    for (std::size_t i = 0; i < count; ++i) work(i);
    return;
  }
  const auto share_out = [&] {
    tbb::parallel_for(
        tbb::blocked_range<std::size_t>(0, count, 1),
        [&](const tbb::blocked_range<std::size_t>& range) {
          for (std::size_t i = range.begin(); i != range.end(); ++i) work(i);
        },
        tbb::simple_partitioner());
  };
  // An arena of its own costs tens of microseconds; all threads are there without one.
  if (thread_count(threads) == tbb::this_task_arena::max_concurrency()) {
    share_out();
  } else {
    tbb::task_arena(threads).execute(share_out);
  }
}

}  // namespace photonlane
