#pragma once

#include "grid/form_trace.hpp"

namespace photonlane {

/// What a cell solid works out of its map.
struct CellSolid::Distances {
  DistanceMap map;
  std::vector<PanelBox> boxes;  ///< one a form

  FormMap forms(const CellMap& cells, const CellSurfaces& surfaces) const {
    return {cells, map, boxes, surfaces};
  }
};

}  // namespace photonlane
