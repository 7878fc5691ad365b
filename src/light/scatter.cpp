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

/// What one reflection by facets lets out, for cosines and widths: of facets that reflect all, and
/// of those that reflect (1 - c)^5.
class ReflectionTable {
 public:
  struct Shares {
    float all, grazing;
  };

  static const ReflectionTable& get() {
    static const ReflectionTable table;
    return table;
  }

  Shares at(float cosine, float width) const {
    const float row = std::clamp(std::sqrt(width), 0.0f, 1.0f) * (widths - 1);
    const float column = std::sqrt(std::clamp(cosine, 0.0f, 1.0f)) * (cosines - 1);
    const int r = std::min(static_cast<int>(row), widths - 2);
    const int c = std::min(static_cast<int>(column), cosines - 2);
    const float a = row - static_cast<float>(r);
    const float b = column - static_cast<float>(c);
    const auto mix = [&](float Shares::*of) {
      const auto at_row = [&](int k) {
        const Shares* entry = &entries_[static_cast<std::size_t>(k) * cosines + c];
        return entry[0].*of + b * (entry[1].*of - entry[0].*of);
      };
      return at_row(r) + a * (at_row(r + 1) - at_row(r));
    };
    return {mix(&Shares::all), mix(&Shares::grazing)};
  }

  /// Of all directions alike, by the cosine.
  Shares mean(float width) const {
    const float row = std::clamp(std::sqrt(width), 0.0f, 1.0f) * (widths - 1);
    const int r = std::min(static_cast<int>(row), widths - 2);
    const float a = row - static_cast<float>(r);
    const Shares& low = means_[static_cast<std::size_t>(r)];
    const Shares& high = means_[static_cast<std::size_t>(r) + 1];
    return {low.all + a * (high.all - low.all), low.grazing + a * (high.grazing - low.grazing)};
  }

 private:
  static constexpr int widths = 33;
  static constexpr int cosines = 33;

  ReflectionTable() {
    for (int r = 0; r < widths; ++r) {
      const float root = static_cast<float>(r) / (widths - 1);
      const float width = std::max(root * root, 1e-4f);
      for (int c = 0; c < cosines; ++c) {
        const float share = static_cast<float>(c) / (cosines - 1);
        entries_[static_cast<std::size_t>(r) * cosines + c] =
            integrate(std::max(share * share, 1e-4f), width);
      }
    }
    for (int r = 0; r < widths; ++r) {
      const float root = static_cast<float>(r) / (widths - 1);
      // 2 c dc over what at() tells, by midpoints.
      constexpr int parts = 512;
      double all = 0;
      double grazing = 0;
      for (int k = 0; k < parts; ++k) {
        const float cosine = (static_cast<float>(k) + 0.5f) / parts;
        const Shares shares = at(cosine, root * root);
        all += 2.0 * static_cast<double>(cosine * shares.all) / parts;
        grazing += 2.0 * static_cast<double>(cosine * shares.grazing) / parts;
      }
      means_[static_cast<std::size_t>(r)] = {static_cast<float>(all), static_cast<float>(grazing)};
    }
  }

  static Shares integrate(float cosine, float width) {
    const Way out{std::sqrt(std::max(0.0f, 1 - cosine * cosine)), 0, cosine};
    constexpr int side = 24;
    double all = 0;
    double grazing = 0;
    for (int i = 0; i < side; ++i) {
      for (int j = 0; j < side; ++j) {
        const float u = (static_cast<float>(i) + 0.5f) / side;
        const float v = (static_cast<float>(j) + 0.5f) / side;
        const Way half = seen_facet(out, width, u, v);
        const float along = dot(out, half);
        const float z = 2 * along * half.z - out.z;
        if (z <= 0) continue;
        const float weight = seen_from_both(out.z, z, width) / seen(out.z, width);
        all += static_cast<double>(weight);
        grazing += static_cast<double>(weight * fifth(along));
      }
    }
    constexpr double share = 1.0 / (side * side);
    return {static_cast<float>(all * share), static_cast<float>(grazing * share)};
  }

  std::array<Shares, static_cast<std::size_t>(widths) * cosines> entries_;
  std::array<Shares, widths> means_;
};

/// What one meeting with facets of a body lets out on either side, for cosines and widths, and what
/// is made of the rest: it comes out evenly, as much to either side as makes it the same both ways
/// and loses nothing.
class BodyTable {
 public:
  explicit BodyTable(float index) {
    for (int r = 0; r < widths; ++r) {
      const float root = static_cast<float>(r) / (widths - 1);
      for (int c = 0; c < cosines; ++c) {
        const float share = static_cast<float>(c) / (cosines - 1);
        entries_[static_cast<std::size_t>(r) * cosines + c] =
            integrate(std::max(share * share, 1e-4f), std::max(root * root, 1e-4f), index);
      }
    }
    for (int r = 0; r < widths; ++r) {
      const float root = static_cast<float>(r) / (widths - 1);
      constexpr int parts = 256;
      double all = 0;
      for (int k = 0; k < parts; ++k) {
        const float cosine = (static_cast<float>(k) + 0.5f) / parts;
        all += 2.0 * static_cast<double>(cosine * at(cosine, root * root)) / parts;
      }
      means_[static_cast<std::size_t>(r)] = static_cast<float>(all);
    }
  }

  float at(float cosine, float width) const {
    const float row = std::clamp(std::sqrt(width), 0.0f, 1.0f) * (widths - 1);
    const float column = std::sqrt(std::clamp(cosine, 0.0f, 1.0f)) * (cosines - 1);
    const int r = std::min(static_cast<int>(row), widths - 2);
    const int c = std::min(static_cast<int>(column), cosines - 2);
    const float a = row - static_cast<float>(r);
    const float b = column - static_cast<float>(c);
    const auto at_row = [&](int k) {
      const float* entry = &entries_[static_cast<std::size_t>(k) * cosines + c];
      return entry[0] + b * (entry[1] - entry[0]);
    };
    return at_row(r) + a * (at_row(r + 1) - at_row(r));
  }
  float mean(float width) const {
    const float row = std::clamp(std::sqrt(width), 0.0f, 1.0f) * (widths - 1);
    const int r = std::min(static_cast<int>(row), widths - 2);
    const float a = row - static_cast<float>(r);
    return means_[static_cast<std::size_t>(r)] +
           a * (means_[static_cast<std::size_t>(r) + 1] - means_[static_cast<std::size_t>(r)]);
  }

 private:
  static constexpr int widths = 17;
  static constexpr int cosines = 17;

  static float integrate(float cosine, float width, float index) {
    const Way out{std::sqrt(std::max(0.0f, 1 - cosine * cosine)), 0, cosine};
    constexpr int side = 24;
    double sum = 0;
    for (int i = 0; i < side; ++i) {
      for (int j = 0; j < side; ++j) {
        const float u = (static_cast<float>(i) + 0.5f) / side;
        const float v = (static_cast<float>(j) + 0.5f) / side;
        const Way half = seen_facet(out, width, u, v);
        const float along = dot(out, half);
        const float thrown = reflectance(along, index);
        const float z = 2 * along * half.z - out.z;
        if (z > 0) {
          sum += static_cast<double>(thrown * seen_from_both(out.z, z, width) / seen(out.z, width));
        }
        const Bent bent = bend(-out.x, -out.y, -out.z, half.x, half.y, half.z, index);
        if (bent.through && bent.z < 0) {
          sum += static_cast<double>((1 - thrown) * seen(bent.z, width));
        }
      }
    }
    return std::min(static_cast<float>(sum / (side * side)), 1.0f);
  }

  std::array<float, static_cast<std::size_t>(widths) * cosines> entries_;
  std::array<float, widths> means_;
};

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
  if (!table) table = std::make_unique<const BodyTable>(index);
  last[next] = {index, table.get()};
  next = (next + 1) % last.size();
  return *table;
}

float width_of(float roughness) { return roughness * roughness; }

float brightness(const Color& color) { return (color[0] + color[1] + color[2]) / 3; }

}  // namespace

float single_reflection(float cosine, float roughness) {
  const float width = width_of(roughness);
  return width < least_width ? 1 : ReflectionTable::get().at(cosine, width).all;
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
  ReflectionTable::Shares mean{1, 1.0f / 21};
  if (!mirror_) mean = ReflectionTable::get().mean(width_);
  mean_single_ = mean.all;
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
  again_ = mirror_ ? Color(0, 0, 0)
                   : Color(fresnel * fresnel * mean.all / (1 - fresnel * (1 - mean.all)));
  mean_layer_ = surface.film *
                (straight_on_ * (mean.all - mean.grazing) + mean.grazing + (1 - mean.all) * again_);
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
  const ReflectionTable::Shares one = ReflectionTable::get().at(cosine, width_);
  return surface_.film *
         (straight_on_ * (one.all - one.grazing) + one.grazing + (1 - one.all) * again_);
}

Scattering::Shares Scattering::shares(const Way&, const Color& layer_out) const {
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
  const ReflectionTable& table = ReflectionTable::get();
  const float again = (1 - table.at(out.z, width_).all) * (1 - table.at(in.z, width_).all) * in.z /
                      (pi_float * std::max(1 - mean_single_, 1e-4f));
  return sum + surface_.film * (fresnel * once + again_ * again);
}

float Scattering::density(const Way& out, const Way& in) const {
  if (out.z <= 0) return 0;
  const bool behind = in.z < 0;
  const float cosine = std::abs(in.z) / pi_float;
  if (surface_.body) return body_density(out, in);
  const Shares share = shares(out, layer(out.z));
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
  const Shares share = shares(out, layer_out);
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
