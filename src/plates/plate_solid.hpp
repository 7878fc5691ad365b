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
  Vec3d eye;
  Viewing view;

  PlateLens(const Camera& camera, Size size) : eye(camera.eye), view(viewing(camera, size)) {}

  /// Of a way, from the eye, through a lens without distortion.
  PlatePlace place(const Vec3d& way) const {
    const double z = way.dot(view.forward);
    return {view.center_x * z + view.focal * way.dot(view.right),
            view.center_y * z - view.focal_y * way.dot(view.up), z};
  }
  /// The way to a pixel position that is 1 long along the view axis.
  Vec3d way(double x, double y) const {
    const Vec2d at = view.straightened(view.u(x), view.v(y));
    return view.forward + at.x() * view.right + at.y() * view.up;
  }
  /// The direction in which a x + b y + c z grows most, of unit length.
  Vec3d slope(double a, double b, double c) const {
    return (a * (view.center_x * view.forward + view.focal * view.right) +
            b * (view.center_y * view.forward - view.focal_y * view.up) + c * view.forward)
        .normalized();
  }
};

/// Whether the two in the middle of four pixels side by side show one surface, by the inverse of
/// their distances (0: nothing, or none there): they differ by little, or as much as those beside
/// them do.
bool one_surface(float before, float one, float two, float after, float gap);

/// The distance along the view axis that a plate's depth tells of a pixel.
double distance_of(const Plate& plate, const PlateLens& lens, int x, int y);
/// The inverse of those of a row, 0 for what is infinitely far.
void inverse_distances(const Plate& plate, const PlateLens& lens, int y, float* to);

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
    float alpha = 1;  ///< how much of the lane's pixel it covers
    /// As shared_exponent_code() makes it; none: the pixel's.
    std::optional<std::uint32_t> color{};
  };
  /// A pixel that shows something near for a share and something far for the rest.
  struct Edge {
    static constexpr std::uint32_t nothing = 0xffffffffu;
    std::uint32_t front, behind;  ///< pixels whose facets they are on
    float alpha;                  ///< the share of what is near
    std::uint32_t front_color, behind_color;
    float front_distance = 0;  ///< along the view axis, of a front without a facet; else 0
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
  /// An alpha above is all of a pixel, one below is nothing.
  static constexpr float covers_all = 0.998f;
  static constexpr float covers_none = 1.0f / 255;
  /// Whether the plate covers all of a pixel, as far as its alpha says.
  bool covers(int x, int y) const {
    return plate_.alpha.values == nullptr || plate_.alpha.at(x, y) > covers_all;
  }
  Color color(int x, int y) const {
    return {plate_.red.at(x, y), plate_.green.at(x, y), plate_.blue.at(x, y)};
  }
  /// The plate's own normal of unit length; 0 or no number where it has none.
  Vec3d normal_of(int x, int y) const {
    if (plate_.normal[0].values == nullptr) return Vec3d::Zero();
    return Vec3d(plate_.normal[0].at(x, y), plate_.normal[1].at(x, y), plate_.normal[2].at(x, y))
        .normalized();
  }
  /// Of what stands there, as hits tell it.
  std::uint32_t code_of(int x, int y) const;

  /// Returns the inverse of each pixel's distance, as its facet has it.
  std::vector<float> make_facets();
  void make_edges(const std::vector<float>& inverse);
  /// By the picture's own alpha.
  std::optional<Edge> edge_by_alpha(int x, int y) const;
  /// Where depth has a gap: by how much of the colors of both sides the pixel's is made.
  std::optional<Edge> edge_by_depth(int x, int y) const;
  Met at_edge(const Edge& edge, double px, double py, const PlatePlace& way, double start,
              double limit) const;
  void make_levels();
  Met from_eye(const PlatePlace& way, double start, double limit) const;
  Met cross(const Line& line, int x, int y, double from, double to, Met& entered) const;
  Met walk(const Line& line, double start, double limit, std::uint32_t& steps) const;
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
