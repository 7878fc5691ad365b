#pragma once

#include <vector>

#include "lane/surfaces.hpp"
#include "light/paint.hpp"
#include "photonlane/light/material.hpp"

namespace photonlane {

/// How surfaces of a batch throw light back.
struct Gloss {
  bool any = false;  ///< some does
  bool glossy[Surfaces::capacity];
  bool bends[Surfaces::capacity];
  float index[Surfaces::capacity];  ///< beyond the surface over before it
  float roughness[Surfaces::capacity];
  float cosine[Surfaces::capacity];  ///< between normal and lane
  /// Thrown back seen straight on.
  float straight_red[Surfaces::capacity];
  float straight_green[Surfaces::capacity];
  float straight_blue[Surfaces::capacity];
  /// Thrown back as it is seen.
  float red[Surfaces::capacity];
  float green[Surfaces::capacity];
  float blue[Surfaces::capacity];
};

/// Where surfaces throw light back, how; and takes what they do from their colors. `cosine` is that
/// between each surface's normal and the lane that sees it; `inside` tells which lanes run inside a
/// body that bends light (null: none).
void find_gloss(const Surfaces& surfaces, const std::vector<Material>& materials,
                const float* cosine, const bool* inside, Gloss& gloss, Colors& colors);

}  // namespace photonlane
