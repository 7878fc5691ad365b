#include "frame/write_pixels.hpp"

#include <algorithm>
#include <limits>
#include <type_traits>

namespace photonlane {

namespace {
constexpr float infinite = std::numeric_limits<float>::infinity();
}  // namespace

void write_data(const RenderJob& job, int x, int y, int width, const Surfaces& surfaces) {
  Frame& frame = job.frame;
  const auto each = [&](Layer layer, const auto& value) {
    if (!frame.has(layer)) return;
    for (std::size_t first = 0; first < surfaces.size; first += width) {
      const int row = y - job.part.y + static_cast<int>(first / width);
      const auto put = [&](auto* pixels) {
        for (int i = 0; i < width; ++i) {
          pixels[x - job.part.x + i] =
              static_cast<std::remove_reference_t<decltype(*pixels)>>(value(first + i));
        }
      };
      if constexpr (std::is_same_v<decltype(value(std::size_t{0})), float>) {
        put(frame.values(layer).row(row).data());
      } else {
        put(frame.codes(layer).row(row).data());
      }
    }
  };
  const auto met = [&](std::size_t i) { return surfaces.ending[i] == Ending::hit; };
  const auto placed = [&](std::size_t i) { return met(i) && !surfaces.placeless(i); };
  const Vec3d& forward = job.view.forward;
  each(Layer::depth, [&](std::size_t i) {
    const double axis =
        forward.x() * surfaces.x[i] + forward.y() * surfaces.y[i] + forward.z() * surfaces.z[i];
    return placed(i) ? static_cast<float>(axis) : infinite;
  });
  each(Layer::ray_distance, [&](std::size_t i) { return placed(i) ? surfaces.t[i] : infinite; });
  each(Layer::face, [&](std::size_t i) { return met(i) ? surfaces.face[i] : Face::none; });
  each(Layer::cell, [&](std::size_t i) { return met(i) ? surfaces.item[i] : no_item; });
  each(Layer::steps, [&](std::size_t i) { return surfaces.steps[i]; });
  each(Layer::ending, [&](std::size_t i) { return surfaces.ending[i]; });
  each(Layer::material, [&](std::size_t i) { return met(i) ? surfaces.material[i] : no_material; });
  const auto rooms = job.world.rooms();
  const bool fields = std::any_of(rooms.begin(), rooms.end(),
                                  [](const CompiledRoom& room) { return !room.only_cells(); });
  each(Layer::room, [&](std::size_t i) { return surfaces.room[i]; });
  each(Layer::crossings, [&](std::size_t i) { return surfaces.crossings[i]; });
  each(Layer::evaluations, [&](std::size_t i) { return fields ? surfaces.evaluations[i] : 0u; });
  each(Layer::nearest, [&](std::size_t i) { return fields ? surfaces.nearest[i] : infinite; });
  each(Layer::overstretched,
       [&](std::size_t i) { return fields ? surfaces.overstretched[i] : 0u; });
  if (!frame.has(Layer::normal)) return;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    const Normal normal = met(i) ? normal_of(surfaces, i) : Normal{};
    const int column = x - job.part.x + static_cast<int>(i) % width;
    const int row = y - job.part.y + static_cast<int>(i) / width;
    frame.values(Layer::normal, 0)(column, row) = normal.x;
    frame.values(Layer::normal, 1)(column, row) = normal.y;
    frame.values(Layer::normal, 2)(column, row) = normal.z;
  }
}

void write_cost(const RenderJob& job, const PixelSums::Block& block, std::size_t i, double share,
                int x, int y) {
  const auto put = [&](Layer layer, std::uint64_t whole, float followed, double unit) {
    if (!job.frame.has(layer)) return;
    job.frame.values(layer)(x - job.part.x, y - job.part.y) = static_cast<float>(
        unit * (share * static_cast<double>(whole) + static_cast<double>(followed)));
  };
  put(Layer::cost, block.reading.ticks, block.followed_ticks[i], 1 / ticks_per_ns());
  put(Layer::work, block.reading.work, block.followed_work[i], 1);
}

void write_colors(const RenderJob& job, int x, int y, int count, const Colors& colors,
                  std::size_t first) {
  write_row(colors.red + first, colors.green + first, colors.blue + first,
            static_cast<std::size_t>(count), x, y, job.target(x, y));
}

}  // namespace photonlane
