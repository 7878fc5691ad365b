#pragma once

#include <memory>
#include <vector>

#include "base/lent.hpp"

namespace photonlane {

template <class Memory>
std::vector<std::unique_ptr<Memory>>& unused() {
  static thread_local std::vector<std::unique_ptr<Memory>> pool;
  return pool;
}

template <class Memory>
Lent<Memory>::Lent() {
  auto& pool = unused<Memory>();
  // Not cleared: who has it sets what it reads.
  if (pool.empty()) pool.emplace_back(new Memory);
  memory_ = pool.back().release();
  pool.pop_back();
}

template <class Memory>
Lent<Memory>::~Lent() {
  unused<Memory>().emplace_back(memory_);
}

}  // namespace photonlane
