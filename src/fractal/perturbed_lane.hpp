#pragma once

#include <cstddef>
#include <cstdint>

#include "fractal/far_number.hpp"
#include "photonlane/fractal/escape_plane.hpp"

namespace photonlane {

/// A point's orbit, told as its distance from the one it is told from.
struct PerturbedLane {
  Complex off, point;  ///< of its z, and of the point itself: in the plane's units
  std::size_t place = 0,
              last = 0;     ///< of the orbit it is told from: where it is, and where it ends
  std::uint64_t count = 0;  ///< steps of the orbit
  std::uint64_t steps = 0;  ///< those taken one by one, and skips
  LongProduct pull;         ///< the square of how much it stretches what is around
  double look_below = 0;    ///< it is to be looked at where its distance, squared, is less
};

/// What is the same for all lanes.
struct PerturbedFlight {
  PlaneFamily family = PlaneFamily::power;
  int power = 2;
  const Complex* orbit = nullptr;           ///< the ones that lanes are told from
  std::size_t restart = 0, second_end = 0;  ///< where lanes go on that came near to 0

  double square_radius = 4;
  std::uint64_t limit = 0;
  bool draws = false;  ///< lanes that are drawn in end
};

/// Gives lanes, and takes them when something other than a step is next.
class PerturbedLanes {
 public:
  virtual ~PerturbedLanes() = default;
  /// The next lane, ready for a step; false where there is none.
  virtual bool next(std::size_t slot, PerturbedLane& lane) = 0;
  /// Looks at a lane after a step; false where it has ended.
  virtual bool attend(std::size_t slot, PerturbedLane& lane) = 0;
};

constexpr std::size_t most_perturbed_slots = 64;

/// Takes steps of lanes in vectors until there are none left. The same at every vector width.
void fly_perturbed(const PerturbedFlight& flight, PerturbedLanes& lanes);

}  // namespace photonlane
