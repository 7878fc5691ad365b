#include "lane/surfaces.hpp"

namespace photonlane {

Normal normal_of(const Surfaces& surfaces, std::size_t i) {
  switch (surfaces.face[i]) {
    case Face::east:
      return {1, 0, 0};
    case Face::west:
      return {-1, 0, 0};
    case Face::north:
      return {0, 1, 0};
    case Face::south:
      return {0, -1, 0};
    case Face::floor:
      return {0, 0, 1};
    case Face::ceiling:
      return {0, 0, -1};
    case Face::panel:
      return {surfaces.normal_x[i], surfaces.normal_y[i], 0};
    case Face::curved:
      return {surfaces.normal_x[i], surfaces.normal_y[i], surfaces.normal_z[i]};
    case Face::inside:
    case Face::none:
      break;
  }
  return {};
}

}  // namespace photonlane
