#pragma once

#include <cstddef>
#include <functional>

namespace photonlane {

/// Calls work(i) for every i below count, on that many threads (0: all the machine has). Which
/// thread takes which i is open.
void parallel_for(int threads, std::size_t count, const std::function<void(std::size_t)>& work);

/// On how many threads that is.
int thread_count(int threads);

}  // namespace photonlane
