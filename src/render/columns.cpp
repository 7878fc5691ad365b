#include "render/columns.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <type_traits>

#include "render/batches.hpp"

namespace photonlane {
namespace {

/// Directions of a run of columns. Planar ones are computed here, in a loop the compiler turns
/// into vectors; `length` gets plan distance / reach.
template <class Number>
void aim(const Viewing& view, double offset, int first, LaneBatch<Number>& lanes, Number* length,
         Columns& columns) {
  const int count = static_cast<int>(lanes.size);
  if (!view.planar) {
    for (int i = 0; i < count; ++i) {
      const Viewing::Direction direction = view.direction(view.u(first + i + offset));
      lanes.direction_x[i] = static_cast<Number>(direction.x);
      lanes.direction_y[i] = static_cast<Number>(direction.y);
      length[i] = 1;
      columns.length_square[first + i] = 1;
      columns.axis[first + i] = static_cast<float>(direction.axis);
    }
    return;
  }
  const double inverse_focal = 1 / view.focal;
  const double left = (first + offset - view.center_x) * inverse_focal;
  for (int i = 0; i < count; ++i) {
    const double u = left + i * inverse_focal;
    const double square = 1 + u * u;
    const double inverse = 1 / std::sqrt(square);
    lanes.direction_x[i] = static_cast<Number>((view.forward.x() + u * view.right.x()) * inverse);
    lanes.direction_y[i] = static_cast<Number>((view.forward.y() + u * view.right.y()) * inverse);
    length[i] = static_cast<Number>(square * inverse);
    columns.length_square[first + i] = static_cast<float>(square);
    columns.axis[first + i] = 1;
  }
}

template <class Number>
void cast(const World& world, const Camera& camera, const Viewing& view, const Budget& budget,
          double offset, int first, int last, const Palette& palette, Columns& columns,
          Tally& tally) {
  LaneBatch<Number> lanes;
  start_at_eye(lanes, static_cast<std::size_t>(last - first), camera, budget);
  Number length[LaneBatch<Number>::capacity];
  aim(view, offset, first, lanes, length, columns);

  const HitBatch<Number> hits = world.room().solids.front()->nearest_hit(lanes, budget);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    columns.reach[first + i] = static_cast<float>(hits.t[i] / length[i]);
  }
  std::copy_n(hits.face, lanes.size, columns.face + first);
  std::copy_n(hits.ending, lanes.size, columns.ending + first);
  std::copy_n(hits.item, lanes.size, columns.item + first);
  std::copy_n(hits.steps, lanes.size, columns.steps + first);
  for (std::size_t i = 0; i < lanes.size; ++i) {
    const Palette::Entry& entry = palette.at(hits.ending[i], hits.face[i], hits.material[i]);
    columns.red[first + i] = entry.red;
    columns.green[first + i] = entry.green;
    columns.blue[first + i] = entry.blue;
    columns.fades[first + i] = entry.fades;
  }
  count(hits, lanes.size, tally);
}

}  // namespace

Columns::Columns(int width) {
  constexpr std::size_t arrays = 11;
  const std::size_t padded = (static_cast<std::size_t>(width) + 15) / 16 * 16;
  memory.resize(arrays * padded * sizeof(float));
  std::memset(memory.data<void>(), 0, memory.size());
  std::size_t next = 0;
  const auto take = [&](auto*& array) {
    array = memory.data<std::remove_reference_t<decltype(*array)>>() + next++ * padded;
  };
  take(reach);
  take(length_square);
  take(axis);
  take(red);
  take(green);
  take(blue);
  take(fades);
  take(face);
  take(ending);
  take(item);
  take(steps);
}

Palette::Palette(const World& world) {
  const auto add = [&](const Color& color, float fades) {
    entries_.push_back({color[0], color[1], color[2], fades});
  };
  const CompiledRoom& room = world.room();
  add(room.fog.color, 1);
  add(spent_color, 0);
  for (const Material& material : world.materials()) {
    add(material.base, 1);
    add(material.base * room.north_shade, 1);
  }
}

void cast_columns(const World& world, const Camera& camera, const Viewing& view,
                  const Budget& budget, double offset, int first, int last, const Palette& palette,
                  Columns& columns, Tally& tally) {
  if (budget.number == NumberType::float64) {
    cast<double>(world, camera, view, budget, offset, first, last, palette, columns, tally);
  } else {
    cast<float>(world, camera, view, budget, offset, first, last, palette, columns, tally);
  }
}

}  // namespace photonlane
