#pragma once

#include <cstddef>
#include <memory>
#include <vector>

namespace photonlane::textbook {

/// The binary tree that is written first: nodes with pointers, parted by the surface area heuristic
/// along all three axes, spheres in leaves of up to four.
class SphereTree {
 public:
  struct Ball {
    float x, y, z, radius;
  };
  struct Ray {
    float x, y, z, way_x, way_y, way_z, limit;
  };
  explicit SphereTree(const std::vector<Ball>& balls);
  ~SphereTree();

  /// Which ball is met first, -1: none; and where.
  int nearest(const Ray& ray, float& t) const;
  bool hides(const Ray& ray) const;
  std::size_t bytes() const;

 private:
  struct Node;
  struct Box {
    float low[3], high[3];
  };
  std::unique_ptr<Node> part(int* first, int* last);
  void meet(const Node* node, const Ray& ray, const float* inverse, int& ball, float& t,
            bool any) const;

  std::vector<Ball> balls_;
  std::vector<int> order_;
  std::unique_ptr<Node> root_;
  std::size_t nodes_ = 0;
};

}  // namespace photonlane::textbook
