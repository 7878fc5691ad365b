#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <vector>

#include "field/tape.hpp"

namespace photonlane {

/// Memory of Regions, kept by each thread for the next ones, since regions are found for every
/// batch of lanes.
struct RegionStore {
  struct Part {
    std::size_t from, to;    ///< balls
    std::size_t begin, end;  ///< of `instructions`
  };
  std::vector<std::uint64_t> live, drop_first, drop_second;  ///< bits: balls
  std::vector<std::uint32_t> kept;
  std::vector<Part> parts;
  std::vector<Tape::Instruction> instructions;

  /// One that nobody else uses. Fields may ask fields.
  class Lent {
   public:
    Lent() {
      std::vector<std::unique_ptr<RegionStore>>& free = pool();
      if (free.empty()) free.push_back(std::make_unique<RegionStore>());
      store_ = std::move(free.back());
      free.pop_back();
    }
    Lent(const Lent&) = delete;
    Lent& operator=(const Lent&) = delete;
    ~Lent() { pool().push_back(std::move(store_)); }
    RegionStore& operator*() const { return *store_; }
    RegionStore* operator->() const { return store_.get(); }

   private:
    static std::vector<std::unique_ptr<RegionStore>>& pool() {
      static thread_local std::vector<std::unique_ptr<RegionStore>> stores;
      return stores;
    }
    std::unique_ptr<RegionStore> store_;
  };
};

}  // namespace photonlane
