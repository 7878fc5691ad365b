#pragma once

/// Several processes that make something together, on one machine or on many.
///
///   const std::unique_ptr<Company> company = join_company();
///   make_tiles(file, world, run, *company);

#include <cstddef>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace photonlane {

/// What processes have to do with one another. All of them call the same, in the same order. One
/// that ends by an error ends them all.
class Company {
 public:
  using Bytes = std::vector<std::byte>;

  virtual ~Company() = default;
  virtual int rank() const = 0;  ///< 0 to size() - 1
  virtual int size() const = 0;
  bool leads() const { return rank() == 0; }

  /// What rank 0 has, for all.
  virtual void broadcast(Bytes& bytes) = 0;
  /// What each has, for all; by rank.
  virtual std::vector<Bytes> gather(const Bytes& own) = 0;
  /// What each has for each: gives rank r what others have at r. By rank.
  virtual std::vector<Bytes> swap(const std::vector<Bytes>& own) = 0;

  /// Rank 0's list of pieces of work is handed out, one at a time and in its order, to whoever is
  /// free. `make` makes one on the rank that got it; rank 0 gets what came of it by `take`, one at
  /// a time, in whatever order they are done. Both are asked from one thread a rank; on rank 0
  /// `make` from another one than `take`. Between pieces `go_on` is asked on each rank: where it
  /// says false, Error (cancelled) is thrown there.
  virtual void share_out(std::span<const std::size_t> pieces,
                         const std::function<Bytes(std::size_t piece)>& make,
                         const std::function<void(std::size_t piece, Bytes made)>& take,
                         const std::function<bool()>& go_on) = 0;

  /// Ends all of them by an error: the others need not wait for this one.
  [[noreturn]] virtual void give_up(int code) = 0;

  /// What it took to do that.
  struct Traffic {
    std::size_t messages = 0;
    std::size_t bytes = 0;
  };
  virtual Traffic traffic() const { return {}; }
};

/// One process alone.
std::unique_ptr<Company> no_company();

/// The processes that mpirun or srun started together with this one; alone where nobody did. Once a
/// process. Throws Error (usage) where they were started together and this was built without Open
/// MPI, and says what to install.
std::unique_ptr<Company> join_company();

/// Whether this was built with Open MPI.
bool has_many();

}  // namespace photonlane
