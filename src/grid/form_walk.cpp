#include "grid/form_walk.hpp"

#include "photonlane/base/trigonometry.hpp"
#include "photonlane/base/vector.hpp"

namespace photonlane {

PanelBox panel_box(const CellForm& form, double cell_size) {
  const double width = form.thickness / cell_size;
  PanelBox box{0.5, 0.5, 1, 0, 0.5, 0.5 * width, 0};
  const bool along_y = form.along == PanelAxis::y;
  if (form.shape == CellShape::sliding) {
    // What has slid out of the cell stands in its neighbor's wall.
    box.half_length = 0.5 * (1 - form.opening);
    box.center_x = form.reversed ? box.half_length : 1 - box.half_length;
    box.u_low = form.reversed ? form.opening : 0;
  } else if (form.shape == CellShape::swinging) {
    // It turns about the middle of its square end, a quarter turn when open.
    const auto [sine, cosine] = sine_cosine(0.5 * pi * form.opening);
    const double reach = 0.5 - box.half_width;
    const double hinge = box.half_width;
    const double turn = form.reversed ? -1 : 1;
    box.center_x = (form.reversed ? 1 - hinge : hinge) + turn * reach * cosine;
    box.center_y = hinge + reach * sine;
    box.along_x = cosine;
    box.along_y = turn * sine;
  }
  if (along_y) {
    std::swap(box.center_x, box.center_y);
    std::swap(box.along_x, box.along_y);
  }
  return box;
}

bool stands_at(const CellForm& form, double cell_size, double x, double y) {
  if (form.shape == CellShape::block) return true;
  const PanelBox box = panel_box(form, cell_size);
  const double dx = x - box.center_x;
  const double dy = y - box.center_y;
  return std::abs(dx * box.along_x + dy * box.along_y) <= box.half_length &&
         std::abs(dy * box.along_x - dx * box.along_y) <= box.half_width;
}

}  // namespace photonlane
