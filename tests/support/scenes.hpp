#pragma once

#include <bit>
#include <string>
#include <vector>

#include "photonlane/photonlane.hpp"

namespace photonlane::test {

/// A scene of one map drawn with '#' and 'A' as walls of two materials.
inline Scene drawn(std::string_view drawing) {
  Scene scene;
  const Cell plain = scene.wall({.base = {0.5f, 0.4f, 0.3f}}, "plain");
  const Cell other = scene.wall({.base = {0.1f, 0.6f, 0.2f}}, "other");
  const LegendLetter legend[] = {{U'#', plain}, {U'A', other}};
  scene.room().add(draw_cells(drawing, legend));
  return scene;
}

/// An empty square room of that many cells a side, with a ring of walls around it.
inline std::string square_room(int inside) {
  const std::string wall(static_cast<std::size_t>(inside) + 2, '#');
  std::string drawing = wall + "\n";
  for (int i = 0; i < inside; ++i) {
    drawing += "#" + std::string(static_cast<std::size_t>(inside), '.') + "#\n";
  }
  return drawing + wall;
}

/// A map filled at random, `share` of its cells walls of one material, with or without an edge.
inline CellMap random_map(int width, int height, double share, std::uint64_t seed, bool edge) {
  CellMap map;
  map.width = width;
  map.height = height;
  map.cells.assign(static_cast<std::size_t>(width) * height, empty_cell);
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) {
      const bool at_edge = x == 0 || y == 0 || x == width - 1 || y == height - 1;
      const RandomKey key{.seed = seed, .pixel = static_cast<std::uint64_t>(y) * width + x};
      if ((edge && at_edge) || random_uniform(key, 0) < share) map.at(x, y) = wall_of(0);
    }
  }
  return map;
}

/// A batch of one lane in the plan.
template <class Number>
LaneBatch<Number> one_lane(double x, double y, double direction_x, double direction_y,
                           double far_limit = 1000) {
  LaneBatch<Number> lanes;
  lanes.size = 1;
  lanes.far_limit = static_cast<Number>(far_limit);
  lanes.x[0] = static_cast<Number>(x);
  lanes.y[0] = static_cast<Number>(y);
  lanes.direction_x[0] = static_cast<Number>(direction_x);
  lanes.direction_y[0] = static_cast<Number>(direction_y);
  return lanes;
}

inline Budget with_method(CellMethod method) {
  Budget budget;
  budget.cells.method = method;
  return budget;
}

/// All bytes of a layer's visible pixels, as a number that changes when any of them does.
inline std::uint64_t hash_of(const Frame& frame, Layer layer) {
  std::uint64_t hash = 0;
  const LayerInfo& info = layer_info(layer);
  for (int channel = 0; channel < info.channels; ++channel) {
    for (int y = 0; y < frame.size().height; ++y) {
      const auto add = [&](std::uint32_t bits) { hash = mix(hash ^ bits); };
      if (info.codes) {
        for (const std::uint32_t code : frame.codes(layer).row(y)) add(code);
      } else {
        for (const float value : frame.values(layer, channel).row(y)) {
          add(std::bit_cast<std::uint32_t>(value));
        }
      }
    }
  }
  return hash;
}

/// All layers there are.
inline constexpr LayerSet everything = [] {
  LayerSet layers = LayerSet::measurable();
  layers.add(Layer::display);
  return layers;
}();

inline RenderOptions with_layers(LayerSet layers, int threads = 0) {
  RenderOptions options;
  options.layers = layers;
  options.threads = threads;
  return options;
}

}  // namespace photonlane::test
