#include <algorithm>
#include <cmath>
#include <tuple>
#include <vector>

#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "photonlane/base/vector.hpp"
#include "photonlane/light/texture.hpp"

namespace photonlane {
namespace {

/// A color with how much of it is there.
struct Paint {
  Color color{0, 0, 0};
  float alpha = 1;
};

/// Everything a pattern needs at a place: u and v in [0, 1), v from the top.
class Sheet {
 public:
  explicit Sheet(const TextureRecipe& recipe) : recipe_(recipe) {
    if (recipe.pattern == Pattern::plant) grow_plant();
  }

  float random(std::int64_t x, std::int64_t y, std::uint32_t dimension) const {
    const RandomKey key{
        .seed = static_cast<std::uint64_t>(recipe_.seed),
        .pixel = static_cast<std::uint64_t>(y) * 65536 + static_cast<std::uint64_t>(x)};
    return static_cast<float>(random_uniform(key, dimension));
  }

  /// Noise between the values of a lattice of columns x rows that repeats (Perlin, "An Image
  /// Synthesizer", 1985, with values instead of gradients).
  float patches(double u, double v, int columns, int rows, std::uint32_t dimension) const {
    const Lattice& lattice = lattice_of(columns, rows, dimension);
    const double x = (u - std::floor(u)) * columns;
    const double y = (v - std::floor(v)) * rows;
    const int left = static_cast<int>(x);
    const int top = static_cast<int>(y);
    const auto smooth = [](double f) { return static_cast<float>(f * f * (3 - 2 * f)); };
    const float a = smooth(x - left);
    const float b = smooth(y - top);
    const auto value = [&](int dx, int dy) {
      const int column = left + dx >= columns ? left + dx - columns : left + dx;
      const int row = top + dy >= rows ? top + dy - rows : top + dy;
      return lattice.values[static_cast<std::size_t>(row) * columns + column];
    };
    return (value(0, 0) * (1 - a) + value(1, 0) * a) * (1 - b) +
           (value(0, 1) * (1 - a) + value(1, 1) * a) * b;
  }

  /// Patches of halving size over one another, in [0, 1].
  float clouds(double u, double v, int columns, int rows, int layers) const {
    float sum = 0;
    float total = 0;
    float weight = 1;
    for (int layer = 0; layer < layers; ++layer) {
      sum += weight * patches(u, v, columns << layer, rows << layer,
                              100 + static_cast<std::uint32_t>(layer));
      total += weight;
      weight *= 0.55f;
    }
    return sum / total;
  }

  Paint at(double u, double v) const {
    switch (recipe_.pattern) {
      case Pattern::tiles:
        return course(u, v, 0, 3);
      case Pattern::brick:
        return course(u, v, 0.5, 6);
      case Pattern::planks:
        return plank(u, v);
      case Pattern::leaf:
        return {mixed(0.92f) * 0.55f, 1};
      case Pattern::noise:
        return {mixed(clouds(u, v, recipe_.columns, recipe_.rows, 5)), 1};
      case Pattern::glazing:
        return pane(u, v);
      case Pattern::plant:
        return plant(u, v);
      case Pattern::moth:
        return moth(u, v);
      case Pattern::glow:
        return glow(u, v);
    }
    return {};
  }

  /// Leaves at random places, one a cell of columns x rows, later ones over earlier ones.
  void lay_leaves(std::vector<Color>& texels) const {
    struct Leaf {
      float order;
      int column, row;
    };
    std::vector<Leaf> leaves;
    for (int row = 0; row < recipe_.rows; ++row) {
      for (int column = 0; column < recipe_.columns; ++column) {
        leaves.push_back({random(column, row, 10), column, row});
      }
    }
    std::sort(leaves.begin(), leaves.end(), [](const Leaf& a, const Leaf& b) {
      return std::tie(a.order, a.column, a.row) < std::tie(b.order, b.column, b.row);
    });
    const double across = static_cast<double>(recipe_.width) / recipe_.columns;
    const double down = static_cast<double>(recipe_.height) / recipe_.rows;
    for (const Leaf& one : leaves) {
      const auto [sine, cosine] = sine_cosine(2 * pi * random(one.column, one.row, 13));
      const double size = 1.6 + 0.9 * random(one.column, one.row, 14);
      const double middle_x = (one.column + random(one.column, one.row, 11)) * across;
      const double middle_y = (one.row + random(one.column, one.row, 12)) * down;
      const int reach_x = std::min(static_cast<int>(0.6 * size * across) + 1, recipe_.width / 2);
      const int reach_y = std::min(static_cast<int>(0.6 * size * down) + 1, recipe_.height / 2);
      const float tone = shade(one.column, one.row) * (0.55f + 0.45f * one.order);
      for (int dy = -reach_y; dy < reach_y; ++dy) {
        for (int dx = -reach_x; dx < reach_x; ++dx) {
          const double px = std::floor(middle_x) + dx;
          const double py = std::floor(middle_y) + dy;
          const double x = (px + 0.5 - middle_x) / across / size;
          const double y = (py + 0.5 - middle_y) / down / size;
          const double along = x * cosine + y * sine + 0.5;
          const double aside = y * cosine - x * sine;
          float rib = 0;
          const float there = leaf_at(along, aside, rib);
          if (there <= 0) continue;
          const float side = aside < 0 ? 0.10f : -0.10f;
          const Color base =
              recipe_.color * (tone * (1 + side + 0.30f * static_cast<float>(along - 0.5)));
          const Color leaf = base + (recipe_.second - base) * (0.45f * rib);
          const int column = (static_cast<int>(px) + recipe_.width) % recipe_.width;
          const int row = (static_cast<int>(py) + recipe_.height) % recipe_.height;
          Color& texel = texels[static_cast<std::size_t>(row) * recipe_.width + column];
          texel += (leaf - texel) * there;
        }
      }
    }
  }

 private:
  /// The random values of one layer of noise, worked out once.
  struct Lattice {
    int columns, rows;
    std::uint32_t dimension;
    std::vector<float> values;
  };
  const Lattice& lattice_of(int columns, int rows, std::uint32_t dimension) const {
    for (const Lattice& one : lattices_) {
      if (one.columns == columns && one.rows == rows && one.dimension == dimension) return one;
    }
    Lattice made{columns, rows, dimension, {}};
    for (int y = 0; y < rows; ++y) {
      for (int x = 0; x < columns; ++x) made.values.push_back(random(x, y, dimension));
    }
    lattices_.push_back(std::move(made));
    return lattices_.back();
  }

  static float step(double edge, double width, double value) {
    const double share = std::clamp((value - edge) / width + 0.5, 0.0, 1.0);
    return static_cast<float>(share * share * (3 - 2 * share));
  }
  Color mixed(float share) const {
    return recipe_.color + (recipe_.second - recipe_.color) * share;
  }
  /// A factor around 1 for the piece at a column and row.
  float shade(std::int64_t column, std::int64_t row) const {
    return 1 + static_cast<float>(recipe_.variation) * (random(column, row, 1) - 0.5f);
  }
  /// How far inside a piece a place is, in shorter sides of a piece; x and y in pieces.
  double inside(double x, double y) const {
    const double wide = static_cast<double>(recipe_.width) / recipe_.columns;
    const double high = static_cast<double>(recipe_.height) / recipe_.rows;
    const double shorter = std::min(wide, high);
    return std::min(std::min(x, 1 - x) * wide, std::min(y, 1 - y) * high) / shorter;
  }

  Paint course(double u, double v, double shift, int grain) const {
    const double y = v * recipe_.rows;
    const double row = std::floor(y);
    double x = u * recipe_.columns + (std::fmod(row, 2) != 0 ? shift : 0);
    x -= recipe_.columns * std::floor(x / recipe_.columns);
    const double column = std::floor(x);
    const double depth = inside(x - column, y - row);
    const auto c = static_cast<std::int64_t>(column);
    const auto r = static_cast<std::int64_t>(row);
    const float stone = step(0.5 * recipe_.joint, 0.6 * recipe_.joint + 1e-9, depth);
    // A lighter edge above, a darker one below, as if light came from the top.
    const double bevel = 1.6 * recipe_.joint + 1e-9;
    const float edge = 1 - step(recipe_.joint + 0.5 * bevel, bevel, depth);
    const float lit = (y - row < 0.5 ? 0.10f : -0.14f) * edge;
    const float speckle =
        0.16f * (clouds(u, v, grain * recipe_.columns, grain * recipe_.rows, 3) - 0.5f);
    const Color base = recipe_.color * (shade(c, r) * (1 + speckle + lit));
    const Color joint = recipe_.second * (1 + 2 * speckle);
    return {joint + (base - joint) * stone, 1};
  }

  Paint plank(double u, double v) const {
    const double y = v * recipe_.rows;
    const double row = std::floor(y);
    const auto r = static_cast<std::int64_t>(row);
    // Boards end at different places in every row.
    double x = u * recipe_.columns + recipe_.columns * random(0, r, 2);
    x -= recipe_.columns * std::floor(x / recipe_.columns);
    const double column = std::floor(x);
    const double depth = inside(x - column, y - row);
    const float wood = step(0.5 * recipe_.joint, recipe_.joint + 1e-9, depth);
    const float bend = 0.35f * (patches(u, v, 3 * recipe_.columns, recipe_.rows, 5) - 0.5f);
    const float grain =
        patches(u, v + bend / recipe_.rows, 3 * recipe_.columns, 14 * recipe_.rows, 3) - 0.5f;
    const float fine = patches(u, v, 16 * recipe_.columns, 40 * recipe_.rows, 4) - 0.5f;
    const Color base = recipe_.color * (shade(static_cast<std::int64_t>(column), r) *
                                        (1 + 0.34f * grain + 0.12f * fine));
    return {recipe_.second + (base - recipe_.second) * wood, 1};
  }

  /// A leaf from (0, 0) along +x, of length 1: how much of it is at a place, and its shade.
  static float leaf_at(double x, double y, float& rib) {
    if (x <= 0 || x >= 1) return 0;
    const double half = 0.62 * std::sqrt(x) * (1 - x);  // broad near the stalk, pointed at the end
    const double across = std::abs(y);
    rib = 1 - step(0.012, 0.02, across);
    const double vein = std::fmod(8 * (x - 0.55 * across) + 8, 1.0);
    rib = std::max(rib, 0.35f * (1 - step(0.10, 0.12, std::min(vein, 1 - vein))));
    return step(0, 0.03, half - across);
  }

  Paint pane(double u, double v) const {
    const double x = u * recipe_.columns;
    const double y = v * recipe_.rows;
    const double depth = inside(x - std::floor(x), y - std::floor(y));
    const float glass = step(0.5 * recipe_.joint, 0.25 * recipe_.joint + 1e-9, depth);
    const auto column = static_cast<std::int64_t>(x);
    const auto row = static_cast<std::int64_t>(y);
    const float round =
        1 - static_cast<float>(std::clamp(2 * depth / (recipe_.joint + 1e-9), 0.0, 1.0));
    const Color bar = recipe_.second * (0.75f + 0.5f * round);
    const Color tint = recipe_.color * shade(column, row);
    const float dust = 0.5f + clouds(u, v, 2 * recipe_.columns, 2 * recipe_.rows, 3);
    const float solid = 1 - static_cast<float>(recipe_.clear) * std::min(1.0f, 1.45f - 0.5f * dust);
    return {bar + (tint - bar) * glass, 1 - glass * (1 - solid)};
  }

  /// Stalks rise from the foot and bend outward; leaves sit on both sides, smaller to the tip.
  struct Stalk {
    double lean, height;
    float light;
    Vec2d at(double s) const {
      return {0.24 * lean * std::pow(s, 1.7), height * (s - 0.12 * lean * lean * s * s)};
    }
  };
  struct PlantLeaf {
    std::size_t stalk;
    Vec2d foot;
    double sine, cosine, size;
    float tone;
  };

  void grow_plant() {
    const int stalks = std::clamp(recipe_.columns, 1, 16);
    const int pairs = std::clamp(recipe_.rows, 1, 16);
    for (int stalk = 0; stalk < stalks; ++stalk) {
      // The outer ones behind, the middle ones in front.
      const int order = stalk % 2 == 0 ? stalk / 2 : stalks - 1 - stalk / 2;
      const double lean =
          stalks == 1 ? 0 : (2.0 * order / (stalks - 1) - 1) + 0.25 * (random(order, 0, 20) - 0.5);
      const double height = 0.80 - 0.28 * std::abs(lean) - 0.10 * random(order, 0, 21);
      stalks_.push_back({lean, height, 0.72f + 0.4f * random(order, 0, 22)});
      for (int pair = 1; pair <= pairs; ++pair) {
        const double at = 0.14 + 0.86 * pair / pairs;
        for (const int side : {-1, 1}) {
          const double angle = (0.5 - side * (0.30 - 0.12 * at)) * pi - 0.5 * lean +
                               0.3 * (random(order, pair, 23) - 0.5);
          const auto [sine, cosine] = sine_cosine(angle);
          const float tone = 1 + 0.25f * (random(order, 2 * pair + side, 24) - 0.5f);
          plant_leaves_.push_back({stalks_.size() - 1, stalks_.back().at(at), sine, cosine,
                                   0.27 * (1.15 - 0.62 * at), stalks_.back().light * tone});
        }
      }
    }
  }

  Paint plant(double u, double v) const {
    Paint paint{recipe_.color, 0};
    const double x = u - 0.5;
    const double y = 1 - v;
    const auto put = [&](const Color& color, float there) {
      paint.color = paint.color + (color - paint.color) * there;
      paint.alpha = paint.alpha + (1 - paint.alpha) * there;
    };
    std::size_t next = 0;
    for (std::size_t i = 0; i < stalks_.size(); ++i) {
      const Stalk& stalk = stalks_[i];
      if (y <= stalk.height) {
        const double aside = std::abs(x - stalk.at(std::clamp(y / stalk.height, 0.0, 1.0)).x());
        put(recipe_.second * stalk.light, 1 - step(0.006, 0.006, aside));
      }
      for (; next < plant_leaves_.size() && plant_leaves_[next].stalk == i; ++next) {
        const PlantLeaf& leaf = plant_leaves_[next];
        const double dx = x - leaf.foot.x();
        const double dy = y - leaf.foot.y();
        if (dx * dx + dy * dy > leaf.size * leaf.size) continue;
        float rib = 0;
        const float there = leaf_at((dx * leaf.cosine + dy * leaf.sine) / leaf.size,
                                    1.25 * (dy * leaf.cosine - dx * leaf.sine) / leaf.size, rib);
        if (there <= 0) continue;
        const Color base = recipe_.color * (leaf.tone * static_cast<float>(0.70 + 0.45 * y));
        put(base + (recipe_.second - base) * (0.5f * rib), there);
      }
    }
    return paint;
  }

  Paint moth(double u, double v) const {
    const double x = std::abs(u - 0.5);
    const double y = v - 0.48;
    Paint paint{recipe_.color, 0};
    const auto put = [&](const Color& color, float there) {
      paint.color = paint.color + (color - paint.color) * there;
      paint.alpha = paint.alpha + (1 - paint.alpha) * there;
    };
    // Hind wing, fore wing, body: ellipses turned outward.
    const auto wing = [&](double cx, double cy, double turn, double a, double b, float tone) {
      const auto [sine, cosine] = sine_cosine(turn);
      const double p = ((x - cx) * cosine + (y - cy) * sine) / a;
      const double q = ((y - cy) * cosine - (x - cx) * sine) / b;
      const double r = std::sqrt(p * p + q * q);
      const float there = step(0, 0.05, 1 - r);
      const float band = 1 - step(0.09, 0.06, std::abs(r - 0.74));
      const double spot = std::hypot(p - 0.15, q) / 0.26;
      Color color = recipe_.color * (tone * static_cast<float>(1.1 - 0.35 * r));
      color += (recipe_.second - color) * (0.6f * band);
      color += (recipe_.second - color) * (1 - step(1, 0.2, spot));
      put(color, there);
    };
    wing(0.19, 0.18, 0.75, 0.20, 0.14, 0.85f);
    wing(0.23, -0.07, -0.38, 0.235, 0.14, 1.0f);
    const double body = std::hypot(x / 0.045, (y - 0.03) / 0.24);
    put(recipe_.second * 1.1f, step(0, 0.08, 1 - body));
    return paint;
  }

  Paint glow(double u, double v) const {
    const double r = 2 * std::hypot(u - 0.5, v - 0.5);
    const double fade = std::clamp(1 - r, 0.0, 1.0);
    const auto share = static_cast<float>(fade * fade * (3 - 2 * fade));
    return {recipe_.second + (recipe_.color - recipe_.second) * share, share};
  }

  const TextureRecipe& recipe_;
  std::vector<Stalk> stalks_;
  std::vector<PlantLeaf> plant_leaves_;
  mutable std::vector<Lattice> lattices_;
};

}  // namespace

Texture make_texture(const TextureRecipe& recipe) {
  validate_knobs(texture_recipe_knobs(), recipe);
  Texture texture{recipe.width, recipe.height, {}};
  std::vector<Color> colors;
  std::vector<float> alphas;
  const Sheet sheet(recipe);
  constexpr int across = 2;  // places a texel along each side
  for (int y = 0; y < recipe.height; ++y) {
    for (int x = 0; x < recipe.width; ++x) {
      Color sum(0, 0, 0);
      float alpha = 0;
      for (int i = 0; i < across * across; ++i) {
        const Paint paint = sheet.at((x + (i % across + 0.5) / across) / recipe.width,
                                     (y + (i / across + 0.5) / across) / recipe.height);
        sum += paint.color * paint.alpha;
        alpha += paint.alpha;
      }
      // Clear texels keep a color, so that nothing else shows at the rim.
      colors.push_back(alpha > 0 ? Color(sum / alpha) : recipe.color);
      alphas.push_back(alpha / (across * across));
    }
  }
  if (recipe.pattern == Pattern::leaf) sheet.lay_leaves(colors);
  std::vector<std::uint32_t>& texels = texture.texels.own();
  texels.reserve(colors.size());
  for (std::size_t i = 0; i < colors.size(); ++i) {
    texels.push_back(pack_texel(colors[i].max(0.0f).min(1.0f), alphas[i]));
  }
  return texture;
}

}  // namespace photonlane
