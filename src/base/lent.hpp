#pragma once

namespace photonlane {

/// Memory that each thread keeps for the next who needs it; one that is not in use, since who has
/// it may call others who need their own. Its functions are compiled once for each kind, by who
/// includes `base/lent_pool.hpp`: what kernels for some machines make of a container must not be
/// shared with others.
template <class Memory>
class Lent {
 public:
  Lent();
  Lent(const Lent&) = delete;
  Lent& operator=(const Lent&) = delete;
  ~Lent();
  Memory& operator*() const { return *memory_; }
  Memory* operator->() const { return memory_; }

 private:
  Memory* memory_;
};

}  // namespace photonlane
