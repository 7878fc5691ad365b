#include "photonlane/light/scatter.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <memory>
#include <mutex>

#include "photonlane/base/trigonometry.hpp"
#include "photonlane/base/vector.hpp"
#include "photonlane/light/optics.hpp"

namespace photonlane {
namespace {

constexpr auto pi_float = static_cast<float>(pi);
/// Narrower than this it is a mirror.
constexpr float least_width = 1e-3f;

float dot(const Way& a, const Way& b) { return a.x * b.x + a.y * b.y + a.z * b.z; }

Way unit(const Way& a) {
  const float scale = 1 / std::sqrt(dot(a, a));
  return {a.x * scale, a.y * scale, a.z * scale};
}

/// GGX's distribution of facets, of a width.
float facets_of(const Way& half, float width) {
  const float square = width * width;
  // Both terms are small near the normal of a narrow one: nothing is taken from 1.
  const float spread = half.x * half.x + half.y * half.y + square * half.z * half.z;
  return square / (pi_float * spread * spread);
}

/// What of the facets is seen from a direction (Smith).
float seen(float cosine, float width) {
  const float square = width * width;
  const float c = std::abs(cosine);
  return 2 * c / (c + std::sqrt(square + (1 - square) * c * c));
}

/// What is seen from both, one above the other by as much as each hides (Heitz, "Understanding the
/// Masking-Shadowing Function in Microfacet-Based BRDFs", 2014).
float seen_from_both(float one, float two, float width) {
  const float square = width * width;
  const float a = std::abs(one);
  const float b = std::abs(two);
  return 2 * a * b /
         (a * std::sqrt(square + (1 - square) * b * b) +
          b * std::sqrt(square + (1 - square) * a * a));
}

/// The facet that throws light from one direction through to another, beyond which the index is
/// that of before times n (Walter and others 2007, eq. 16).
Way bending_facet(const Way& out, const Way& in, float n) {
  const Way half = unit({out.x + n * in.x, out.y + n * in.y, out.z + n * in.z});
  return half.z < 0 ? Way{-half.x, -half.y, -half.z} : half;
}

/// A facet that is seen from a direction (Heitz 2018).
Way seen_facet(const Way& out, float width, float u, float v) {
  const Way view = unit({width * out.x, width * out.y, out.z});
  const float across = view.x * view.x + view.y * view.y;
  const float scale = across > 0 ? 1 / std::sqrt(across) : 0;
  const Way one = across > 0 ? Way{-view.y * scale, view.x * scale, 0} : Way{1, 0, 0};
  const Way two{view.y * one.z - view.z * one.y, view.z * one.x - view.x * one.z,
                view.x * one.y - view.y * one.x};
  const float radius = std::sqrt(u);
  const SineCosine turn = sine_cosine(2 * pi * static_cast<double>(v));
  const float a = radius * static_cast<float>(turn.cosine);
  float b = radius * static_cast<float>(turn.sine);
  const float s = 0.5f * (1 + view.z);
  b = (1 - s) * std::sqrt(std::max(0.0f, 1 - a * a)) + s * b;
  const float c = std::sqrt(std::max(0.0f, 1 - a * a - b * b));
  return unit({width * (a * one.x + b * two.x + c * view.x),
               width * (a * one.y + b * two.y + c * view.y),
               std::max(1e-6f, a * one.z + b * two.z + c * view.z)});
}

float fifth(float cosine) {
  const float x = 1 - std::clamp(cosine, 0.0f, 1.0f);
  return x * x * x * x * x;
}

/// A direction over the half space, by the cosine.
Way over(float u, float v) {
  const float radius = std::sqrt(u);
  const SineCosine turn = sine_cosine(2 * pi * static_cast<double>(v));
  return {radius * static_cast<float>(turn.cosine), radius * static_cast<float>(turn.sine),
          std::sqrt(std::max(0.0f, 1 - u))};
}

/// What facets of a width let out of light from a direction, for cosines and widths, both by their
/// roots, and the mean over all directions alike.
template <class Value, int side>
class FacetTable {
 public:
  /// `integrate` gives the value for a cosine and a width.
  template <class Integrate>
  explicit FacetTable(const Integrate& integrate) {
    const auto square = [](int k) {
      const float root = static_cast<float>(k) / (side - 1);
      return root * root;
    };
    for (int row = 0; row < side; ++row) {
      for (int column = 0; column < side; ++column) {
        entries_[static_cast<std::size_t>(row * side + column)] =
            integrate(std::max(square(column), 1e-4f), std::max(square(row), 1e-4f));
      }
    }
    for (int row = 0; row < side; ++row) {
      // 2 c dc over what at() tells, by midpoints.
      constexpr int parts = 512;
      Value sum = entries_[0] * 0.0f;
      for (int k = 0; k < parts; ++k) {
        const float cosine = (static_cast<float>(k) + 0.5f) / parts;
        sum += at(cosine, square(row)) * (2 * cosine / parts);
      }
      means_[static_cast<std::size_t>(row)] = sum;
    }
  }

  Value at(float cosine, float width) const {
    const Between row(width);
    const Between column(cosine);
    const auto at_row = [&](int k) {
      const Value* entry = &entries_[static_cast<std::size_t>(k * side + column.first)];
      return Value(entry[0] + column.share * (entry[1] - entry[0]));
    };
    const Value low = at_row(row.first);
    return low + row.share * (at_row(row.first + 1) - low);
  }

  /// Of all directions alike, by the cosine.
  Value mean(float width) const {
    const Between row(width);
    const Value* entry = &means_[static_cast<std::size_t>(row.first)];
    return entry[0] + row.share * (entry[1] - entry[0]);
  }

 private:
  /// Between which entries a number in [0, 1] lies.
  struct Between {
    int first;
    float share;

    explicit Between(float number) {
      const float at = std::sqrt(std::clamp(number, 0.0f, 1.0f)) * (side - 1);
      first = std::min(static_cast<int>(at), side - 2);
      share = at - static_cast<float>(first);
    }
  };

  std::array<Value, static_cast<std::size_t>(side) * side> entries_;
  std::array<Value, side> means_;
};

/// The mean over facets that are seen from a direction, by places evenly over their numbers.
/// `value` is for a facet and its cosine to the direction.
template <class Value, class Of>
Value over_facets(const Way& out, float width, Value sum, const Of& value) {
  constexpr int side = 24;
  for (int i = 0; i < side; ++i) {
    for (int j = 0; j < side; ++j) {
      const Way half = seen_facet(out, width, (static_cast<float>(i) + 0.5f) / side,
                                  (static_cast<float>(j) + 0.5f) / side);
      sum += value(half, dot(out, half));
    }
  }
  return sum * (1.0f / (side * side));
}

Way at_cosine(float cosine) { return {std::sqrt(std::max(0.0f, 1 - cosine * cosine)), 0, cosine}; }

/// What one reflection lets out: of facets that reflect all, and of those that reflect (1 - c)^5.
using Reflection = Eigen::Array2f;

const FacetTable<Reflection, 33>& reflection_table() {
  static const FacetTable<Reflection, 33> table([](float cosine, float width) {
    const Way out = at_cosine(cosine);
    return over_facets(out, width, Reflection(0, 0), [&](const Way& half, float along) {
      const float z = 2 * along * half.z - out.z;
      if (z <= 0) return Reflection(0, 0);
      const float weight = seen_from_both(out.z, z, width) / seen(out.z, width);
      return Reflection(weight, weight * fifth(along));
    });
  });
  return table;
}

/// What one meeting with facets of a body lets out on either side. What is made of the rest comes
/// out evenly, as much to either side as makes it the same both ways and loses nothing.
using BodyTable = FacetTable<float, 17>;

std::unique_ptr<const BodyTable> make_body_table(float index) {
  return std::make_unique<const BodyTable>([index](float cosine, float width) {
    const Way out = at_cosine(cosine);
    const float all = over_facets(out, width, 0.0f, [&](const Way& half, float along) {
      const float thrown = reflectance(along, index);
      const float z = 2 * along * half.z - out.z;
      float sum = z > 0 ? thrown * seen_from_both(out.z, z, width) / seen(out.z, width) : 0;
      const Bent bent = bend(-out.x, -out.y, -out.z, half.x, half.y, half.z, index);
      if (bent.through && bent.z < 0) sum += (1 - thrown) * seen(bent.z, width);
      return sum;
    });
    return std::min(all, 1.0f);
  });
}

const BodyTable& body_table(float index) {
  struct Last {
    float index = 0;
    const BodyTable* table = nullptr;
  };
  thread_local std::array<Last, 4> last;
  thread_local std::size_t next = 0;
  for (const Last& one : last) {
    if (one.index == index) return *one.table;
  }
  static std::mutex mutex;
  static std::map<float, std::unique_ptr<const BodyTable>> all;
  const std::lock_guard lock(mutex);
  std::unique_ptr<const BodyTable>& table = all[index];
  if (!table) table = make_body_table(index);
  last[next] = {index, table.get()};
  next = (next + 1) % last.size();
  return *table;
}

float width_of(float roughness) { return roughness * roughness; }

float brightness(const Color& color) { return (color[0] + color[1] + color[2]) / 3; }

}  // namespace

float single_reflection(float cosine, float roughness) {
  const float width = width_of(roughness);
  return width < least_width ? 1 : reflection_table().at(cosine, width)[0];
}

Scattering::Scattering(const ScatterSurface& surface) : surface_(surface) {
  width_ = std::min(width_of(surface.roughness), 1.0f);
  mirror_ = width_ < least_width;
  thin_glass_ = !surface.body && surface.index > 1 && surface.opacity < 1;
  float straight = surface.specular;
  if (surface.index > 1 || surface.body) {
    const float root = (surface.index - 1) / (surface.index + 1);
    straight = std::max(straight, root * root);
  }
  layered_ = straight > 0 || surface.metal > 0;
  straight_on_ = straight + (surface.base - straight) * surface.metal;
  diffuse_share_ = surface.opacity * (1 - surface.metal);
  if (!layered_) {
    mean_layer_ = again_ = Color(0, 0, 0);
    return;
  }
  Reflection mean(1, 1.0f / 21);
  if (!mirror_) mean = reflection_table().mean(width_);
  mean_single_ = mean[0];
  if (thin_glass_ && mirror_) {
    constexpr int parts = 16;
    float sum = 0;
    for (int k = 0; k < parts; ++k) {
      const float cosine = (static_cast<float>(k) + 0.5f) / parts;
      sum += 2 * cosine / parts * brightness(layer(cosine));
    }
    again_ = Color(0, 0, 0);
    mean_layer_ = Color(sum, sum, sum);
    return;
  }
  // Mean of Schlick's reflectance by the cosine: f + (1 - f) / 21.
  const Color fresnel = straight_on_ + (1 - straight_on_) / 21;
  again_ =
      mirror_ ? Color(0, 0, 0) : Color(fresnel * fresnel * mean[0] / (1 - fresnel * (1 - mean[0])));
  mean_layer_ =
      surface.film * (straight_on_ * (mean[0] - mean[1]) + mean[1] + (1 - mean[0]) * again_);
}

/// What the layer reflects of light along a direction.
Color Scattering::layer(float cosine) const {
  if (!layered_) return {0, 0, 0};
  if (mirror_) {
    if (thin_glass_) {
      // Both sides of a pane, again and again.
      const float once = reflectance(cosine, surface_.index);
      return Color(1, 1, 1) * (2 * once / (1 + once) * surface_.film);
    }
    return surface_.film * (straight_on_ + (1 - straight_on_) * fifth(cosine));
  }
  const Reflection one = reflection_table().at(cosine, width_);
  return surface_.film * (straight_on_ * (one[0] - one[1]) + one[1] + (1 - one[0]) * again_);
}

Scattering::Shares Scattering::shares(const Color& layer_out) const {
  const float reflected = layered_ ? brightness(layer_out) : 0;
  const float beneath = std::max(0.0f, 1 - reflected);
  const float diffuse = beneath * diffuse_share_ * std::max(brightness(surface_.base), 0.05f);
  // Of a metal nothing goes on.
  const float straight =
      surface_.opacity < 1 ? beneath * (1 - surface_.opacity) * (1 - surface_.metal) : 0;
  const float sum = reflected + diffuse + straight;
  if (!(sum > 0)) return {0, 1, 0};
  return {reflected / sum, diffuse / sum, straight / sum};
}

Color Scattering::straight(const Way& out) const {
  if (surface_.body || surface_.opacity >= 1) return {0, 0, 0};
  return surface_.tint * (1 - layer(out.z)) * ((1 - surface_.opacity) * (1 - surface_.metal));
}

Color Scattering::value(const Way& out, const Way& in) const {
  if (out.z <= 0) return {0, 0, 0};
  const bool behind = in.z < 0;
  Color sum(0, 0, 0);
  if (surface_.body && behind) {
    if (mirror_) return sum;
    // In radiance per square of the index (Walter and others 2007, eq. 21).
    const float n = surface_.index;
    const Way half = bending_facet(out, in, n);
    const float along = dot(out, half);
    const float beyond = dot(in, half);
    if (along <= 0 || beyond >= 0) {
      return surface_.tint * (scattered(out, in) * (1 - surface_.opacity));
    }
    const float root = along + n * beyond;
    const float bent = facets_of(half, width_) * seen(out.z, width_) * seen(in.z, width_) * along *
                       -beyond * n * n / (out.z * root * root);
    const float once = bent * (1 - reflectance(along, n)) + scattered(out, in);
    return surface_.tint * (once * (1 - surface_.opacity));
  }
  const float cosine = std::abs(in.z);
  if (diffuse_share_ > 0 && (!behind || surface_.leaf)) {
    const Color left =
        layered_ ? Color((1 - layer(out.z)) * (1 - layer(cosine)) / (1 - mean_layer_).max(1e-4f))
                 : Color(1, 1, 1);
    sum +=
        surface_.base * left * (diffuse_share_ * (surface_.leaf ? 0.5f : 1.0f) * cosine / pi_float);
  }
  if (behind || !layered_ || mirror_) return sum;
  const Way half = unit({out.x + in.x, out.y + in.y, out.z + in.z});
  const float along = dot(out, half);
  const float once = facets_of(half, width_) * seen_from_both(out.z, in.z, width_) / (4 * out.z);
  if (surface_.body) {
    return sum + Color(1, 1, 1) * (once * reflectance(along, surface_.index) + scattered(out, in));
  }
  const Color fresnel = straight_on_ + (1 - straight_on_) * fifth(along);
  const FacetTable<Reflection, 33>& table = reflection_table();
  const float again = (1 - table.at(out.z, width_)[0]) * (1 - table.at(in.z, width_)[0]) * in.z /
                      (pi_float * std::max(1 - mean_single_, 1e-4f));
  return sum + surface_.film * (fresnel * once + again_ * again);
}

float Scattering::density(const Way& out, const Way& in) const {
  if (out.z <= 0) return 0;
  const bool behind = in.z < 0;
  const float cosine = std::abs(in.z) / pi_float;
  if (surface_.body) return body_density(out, in);
  const Shares share = shares(layer(out.z));
  float sum = 0;
  if (!behind || surface_.leaf) sum += share.diffuse * (surface_.leaf ? 0.5f : 1.0f) * cosine;
  if (behind || !layered_ || mirror_) return sum;
  const Way half = unit({out.x + in.x, out.y + in.y, out.z + in.z});
  return sum + share.facets * facets_of(half, width_) * seen(out.z, width_) / (4 * out.z);
}

float Scattering::diffuse_chance(const Way& out) const {
  if (surface_.opacity == 0) return 0;
  const float reflected =
      mirror_ ? reflectance(out.z, surface_.index) : std::min(brightness(layer(out.z)), 1.0f);
  return surface_.opacity * (1 - reflected);
}

/// Of what meets a facet and is not diffuse, the chance that it is thrown back.
float Scattering::thrown_chance(float along) const {
  const float thrown = reflectance(along, surface_.index);
  return thrown / std::max(thrown + (1 - thrown) * (1 - surface_.opacity), 1e-9f);
}

float Scattering::left_over(float cosine, bool behind) const {
  const float index = behind ? 1 / surface_.index : surface_.index;
  return std::max(0.0f, 1 - body_table(index).at(cosine, width_));
}

float Scattering::behind_share() const {
  const float here = 1 - body_table(surface_.index).mean(width_);
  const float square = surface_.index * surface_.index;
  const float there = square * (1 - body_table(1 / surface_.index).mean(width_));
  return 0.5f * there / std::max({here, there, 1e-6f});
}

float Scattering::scattered(const Way& out, const Way& in) const {
  const float share = behind_share();
  const bool behind = in.z < 0;
  const float mean = 1 - body_table(behind ? 1 / surface_.index : surface_.index).mean(width_);
  return left_over(out.z, false) * left_over(std::abs(in.z), behind) * std::abs(in.z) *
         (behind ? share : 1 - share) / (pi_float * std::max(mean, 1e-6f));
}

float Scattering::body_density(const Way& out, const Way& in) const {
  const float diffuse = diffuse_chance(out);
  const float cosine = std::abs(in.z) / pi_float;
  if (mirror_) return in.z > 0 ? diffuse * cosine : 0;
  const float n = surface_.index;
  const Way half =
      in.z < 0 ? bending_facet(out, in, n) : unit({out.x + in.x, out.y + in.y, out.z + in.z});
  const float along = dot(out, half);
  const float again = left_over(out.z, false);
  const float behind = behind_share();
  float sum = (in.z > 0 ? diffuse : 0) * cosine +
              (1 - diffuse) * again * (in.z < 0 ? behind : 1 - behind) * cosine;
  if (along <= 0) return sum;
  const float facets =
      (1 - diffuse) * (1 - again) * facets_of(half, width_) * seen(out.z, width_) * along / out.z;
  if (in.z > 0) return sum + facets * thrown_chance(along) / (4 * along);
  const float beyond = dot(in, half);
  if (beyond >= 0) return sum;
  const float root = along + n * beyond;
  return sum + facets * (1 - thrown_chance(along)) * n * n * -beyond / (root * root);
}

ScatterSample Scattering::sample_body(const Way& out, float choice, float u, float v) const {
  ScatterSample result;
  const float diffuse = diffuse_chance(out);
  const float again = mirror_ ? 0 : (1 - diffuse) * left_over(out.z, false);
  if (choice < diffuse) {
    result.way = over(u, v);
  } else if (choice < diffuse + again) {
    result.way = over(u, v);
    result.through = choice < diffuse + again * behind_share();
    if (result.through) result.way.z = -result.way.z;
  } else {
    choice = (choice - diffuse - again) / std::max(1 - diffuse - again, 1e-6f);
    const Way half = mirror_ ? Way{0, 0, 1} : seen_facet(out, width_, u, v);
    const float along = dot(out, half);
    if (choice < thrown_chance(along)) {
      result.way = {2 * along * half.x - out.x, 2 * along * half.y - out.y,
                    2 * along * half.z - out.z};
      if (result.way.z <= 0) return {};
    } else {
      const Bent bent = bend(-out.x, -out.y, -out.z, half.x, half.y, half.z, surface_.index);
      if (!bent.through || bent.z >= 0) return {};
      result.way = {bent.x, bent.y, bent.z};
      result.through = true;
    }
    if (mirror_) {
      const float thrown = reflectance(along, surface_.index);
      result.sharp = true;
      result.weight =
          (result.through ? surface_.tint : Color(1, 1, 1)) *
          ((thrown + (1 - thrown) * (1 - surface_.opacity)) / std::max(1 - diffuse, 1e-6f));
      return result;
    }
  }
  result.density = density(out, result.way);
  if (result.density > 0) result.weight = value(out, result.way) / result.density;
  return result;
}

ScatterSample Scattering::sample(const Way& out, float choice, float u, float v) const {
  if (out.z <= 0) return {};
  if (surface_.body) return sample_body(out, choice, u, v);
  const Color layer_out = layer(out.z);
  const Shares share = shares(layer_out);
  ScatterSample result;
  if (choice < share.straight) {
    result.way = {-out.x, -out.y, -out.z};
    result.straight = result.sharp = true;
    result.weight = straight(out) / share.straight;
    return result;
  }
  choice -= share.straight;
  if (choice < share.facets) {
    if (mirror_) {
      result.way = {-out.x, -out.y, out.z};
      result.sharp = true;
      result.weight = layer_out / share.facets;
      return result;
    }
    const Way half = seen_facet(out, width_, u, v);
    const float along = dot(out, half);
    result.way = {2 * along * half.x - out.x, 2 * along * half.y - out.y,
                  2 * along * half.z - out.z};
    if (result.way.z <= 0) return {};
  } else {
    result.way = over(u, v);
    if (surface_.leaf && (choice - share.facets) > 0.5f * share.diffuse) {
      result.way.z = -result.way.z;
    }
  }
  result.density = density(out, result.way);
  if (result.density > 0) result.weight = value(out, result.way) / result.density;
  return result;
}

}  // namespace photonlane
