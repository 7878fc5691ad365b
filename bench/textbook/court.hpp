#pragma once

#include <cstdint>
#include <memory>
#include <vector>

#include "textbook/frame.hpp"

namespace textbook {

struct Vec {
  float x = 0, y = 0, z = 0;
};

/// Where a frame of a distance function is seen from, one ray a pixel, and how it is lit.
struct CourtView {
  Vec eye, forward, right, up;  ///< right and up: to the edges of the picture
  Vec sun;                      ///< toward it
  Rgb base, ambient, sunlight, open;
  float tolerance = 2e-4f, growth = 2e-4f, far_limit = 100, relaxation = 1;
};

/// A court of 30 shapes with blends, a floor of repeated tiles and twisted columns, as a function
/// written by hand.
float court_distance(Vec p);

/// The same as a tree of nodes that is walked for every place.
struct Node {
  virtual ~Node() = default;
  virtual float distance(Vec p) const = 0;
};
std::unique_ptr<Node> court_tree();

/// Marches a ray and a ray to the sun for every pixel; normals by differences. How often the
/// distance was asked for.
std::uint64_t draw_court(const CourtView& view, int width, int height, std::vector<Rgb>& pixels);
std::uint64_t draw_court_tree(const CourtView& view, const Node& tree, int width, int height,
                              std::vector<Rgb>& pixels);

}  // namespace textbook
