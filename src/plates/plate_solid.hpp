#pragma once

#include <optional>
#include <vector>

#include "photonlane/plates/plate.hpp"

namespace photonlane {

/// A place in a plate's picture: pixels from the left and from above, each times the distance along
/// the view axis, and that distance. Straight lines stay straight, and a plane is
/// 1 = a * x + b * y + c * z.
struct PlatePlace {
  double x, y, z;
};

/// How lanes lie in a plate's picture.
struct PlateLens {
  Vec3d eye, forward, right, up;
  double focal_x = 1, focal_y = 1;  ///< pixels
  double center_x = 0, center_y = 0;

  PlateLens() = default;
  PlateLens(const Camera& camera, Size size);
  /// Of a way, from the eye.
  PlatePlace place(const Vec3d& way) const {
    const double z = way.dot(forward);
    return {center_x * z + focal_x * way.dot(right), center_y * z - focal_y * way.dot(up), z};
  }
  /// The way to a pixel position that is 1 long along the view axis.
  Vec3d way(double x, double y) const {
    return forward + (x - center_x) / focal_x * right + (center_y - y) / focal_y * up;
  }
  /// The direction in which a x + b y + c z grows most, of unit length.
  Vec3d slope(double a, double b, double c) const {
    return (a * (center_x * forward + focal_x * right) + b * (center_y * forward - focal_y * up) +
            c * forward)
        .normalized();
  }
};

/// A plate ready to be met. What is seen at a pixel is a facet: the inverse of the distance along
/// the view axis is linear across it, as it is on any plane. Lanes from the plate's eye see one
/// facet each; others go through the picture pixel by pixel, over blocks of which all is behind
/// them or before them at once (the least and the greatest distance in blocks of 4 x 4, 16 x 16 and
/// so on; Tevs, Ihrke and Seidel, "Maximum Mipmaps for Fast, Accurate, and Scalable Dynamic Height
/// Field Rendering", 2008, do so for height fields).
class PlateSolid final : public Solid {
 public:
  PlateSolid(const Plate& plate, std::uint32_t material);

  HitBatch<float> nearest_hit(const LaneBatch<float>& lanes, const Budget& budget) const override;
  HitBatch<double> nearest_hit(const LaneBatch<double>& lanes, const Budget& budget) const override;
  bool already_lit() const override { return true; }
  bool covers_in_part() const override { return !edges_.empty(); }
  Bounds bounds() const override { return bounds_; }
  std::string summary() const override;
  std::size_t memory_bytes() const override;

  const PlateLens& lens() const { return lens_; }
  /// How far along the axis the facet of a pixel is at a place of the picture; infinite where
  /// nothing stands, and outside.
  double distance_at(int x, int y, double px, double py) const;
  /// Whether a place is within what stands there.
  bool within(const Vec3d& place) const;
  const Plate& plate() const { return plate_; }

 private:
  /// 1 / distance in the middle of a pixel, 0 where nothing stands, and how it changes a pixel.
  struct Facet {
    float inverse, across, down;
    double at(double dx, double dy) const {
      return double{inverse} + double{across} * dx + double{down} * dy;
    }
  };
  struct Reach {
    float least, most;  ///< distances along the axis; least above most where nothing stands
  };
  struct Level {
    int width, height;
    std::vector<Reach> blocks;
  };
  struct Line;
  struct Met {
    double t = -1;  ///< below 0: nothing
    std::size_t pixel = 0;
    bool from_side = false;
    float alpha = 1;          ///< how much of the lane's pixel it covers
    std::uint32_t color = 0;  ///< as shared_exponent_code() makes it; with `own_color`
    bool own_color = false;   ///< it is not the pixel's
  };
  /// A pixel that shows something near for a share and something far for the rest.
  struct Edge {
    static constexpr std::uint32_t nothing = 0xffffffffu;
    std::uint32_t front, behind;  ///< pixels whose facets they are on
    float alpha;                  ///< the share of what is near
    std::uint32_t front_color, behind_color;
  };

  bool inside(int x, int y) const {
    return x >= 0 && y >= 0 && x < size_.width && y < size_.height;
  }
  std::size_t pixel(int x, int y) const {
    return static_cast<std::size_t>(y) * static_cast<std::size_t>(size_.width) +
           static_cast<std::size_t>(x);
  }
  const Facet& facet(int x, int y) const { return facets_[pixel(x, y)]; }
  bool stands(int x, int y) const { return inside(x, y) && facet(x, y).inverse > 0; }
  Color color(int x, int y) const {
    return {plate_.red.at(x, y), plate_.green.at(x, y), plate_.blue.at(x, y)};
  }

  void make_facets();
  void make_edges();
  /// By the picture's own alpha.
  std::optional<Edge> edge_by_alpha(int x, int y) const;
  /// Where depth has a gap: by how much of the colors of both sides the pixel's is made.
  std::optional<Edge> edge_by_depth(int x, int y) const;
  Met at_edge(const Edge& edge, double px, double py, const PlatePlace& way, double start,
              double limit) const;
  void make_levels();
  Met from_eye(const PlatePlace& way, double start, double limit) const;
  Met cross(const Line& line, int x, int y, double from, double to, Met& entered) const;
  Met walk(const Line& line, double start, double limit, std::uint32_t most_steps,
           std::uint32_t& steps) const;
  template <class Number>
  HitBatch<Number> meet(const LaneBatch<Number>& lanes, const Budget& budget) const;

  Plate plate_;
  std::uint32_t material_;
  Size size_;
  PlateLens lens_;
  Bounds bounds_;
  std::vector<Facet> facets_;
  std::vector<Level> levels_;          ///< of blocks of 4 x 4 pixels and up
  std::vector<std::int32_t> edge_of_;  ///< of each pixel, -1 where it has none; empty: none has
  std::vector<Edge> edges_;
  std::size_t far_pixels_ = 0;
};

}  // namespace photonlane
