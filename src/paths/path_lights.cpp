#include "paths/path_lights.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "photonlane/base/trigonometry.hpp"
#include "shade/shadow.hpp"

namespace photonlane {
namespace {

constexpr float infinite = std::numeric_limits<float>::infinity();
constexpr auto pi_float = static_cast<float>(pi);
/// Of more lights than this one is picked without looking from where.
constexpr std::size_t most_compared = 64;

float brightness(const Color& color) { return (color[0] + color[1] + color[2]) / 3; }

/// A direction within a cone about an axis, evenly: `spread` is 1 - the cosine of its half.
Vec3f in_cone(const Vec3f& axis, float spread, float u, float v) {
  const float less = spread * u;  // 1 - cosine
  const float sine = std::sqrt(std::max(0.0f, less * (2 - less)));
  const SineCosine turn = sine_cosine(2 * pi * static_cast<double>(v));
  const Across across(Normal{axis.x(), axis.y(), axis.z()});
  const float a = sine * static_cast<float>(turn.cosine);
  const float b = sine * static_cast<float>(turn.sine);
  const float c = 1 - less;
  return Vec3f(c * axis.x() + a * across.one.x + b * across.two.x,
               c * axis.y() + a * across.one.y + b * across.two.y,
               c * axis.z() + a * across.one.z + b * across.two.z)
      .normalized();
}

/// 1 - the cosine of the angle under which a ball's rim is seen; its sine is `sine`.
double ball_spread(double sine) {
  const double square = sine * sine;
  return square / (1 + std::sqrt(std::max(0.0, 1 - square)));
}

}  // namespace

double meet_lamp(const Lamp& lamp, const Vec3d& from, const Vec3d& way, double start, double end) {
  const Vec3d to = lamp.place - from;
  const double along = to.dot(way);
  const double square = lamp.radius * lamp.radius - (to - along * way).squaredNorm();
  if (square <= 0) return std::numeric_limits<double>::infinity();
  // From outside alone.
  const double at = along - std::sqrt(square);
  return at > start && at < end ? at : std::numeric_limits<double>::infinity();
}

Color lamp_radiance(const Lamp& lamp, const Vec3d& way) {
  const double radiance = lamp_power(lamp) / (4 * pi * pi * lamp.radius * lamp.radius);
  const float cone = lamp_cone(lamp, static_cast<float>(-way.x()), static_cast<float>(-way.y()),
                               static_cast<float>(-way.z()));
  return lamp.color * (static_cast<float>(radiance) * cone);
}

double sun_spread(double size) {
  const double sine = sine_cosine(0.25 * size).sine;
  return 2 * sine * sine;
}

Color sun_radiance(const Color& color, double strength, double size) {
  const double sine = sine_cosine(0.5 * size).sine;
  // Irradiance pi * strength; of a disc that is radiance times pi times the sine's square.
  return color * static_cast<float>(size > 0 ? strength / (sine * sine) : pi * strength);
}

SkyLight::SkyLight(const World& world, const CompiledRoom& room)
    : textures_(world.textures()), sky_(room.sky ? &*room.sky : nullptr), fog_(room.fog.color) {
  rows_ = 64;
  columns_ = sky_ != nullptr && sky_->panorama >= 0 ? 128 : 1;
  std::vector<float> light;
  double sum = 0;
  for (int row = 0; row < rows_; ++row) {
    for (int column = 0; column < columns_; ++column) {
      // Of several places, so that no bright one is missed altogether.
      constexpr int side = 4;
      float all = 0;
      for (int k = 0; k < side * side; ++k) {
        const float z =
            -1 + 2 * (static_cast<float>(row) + (static_cast<float>(k % side) + 0.5f) / side) /
                     static_cast<float>(rows_);
        const double heading =
            2 * pi * (column + (static_cast<double>(k / side) + 0.5) / side) / columns_;
        const SineCosine turn = sine_cosine(heading);
        const float across = std::sqrt(std::max(0.0f, 1 - z * z));
        all += brightness(radiance(
            {across * static_cast<float>(turn.cosine), across * static_cast<float>(turn.sine), z}));
      }
      light.push_back(all / (side * side));
      sum += static_cast<double>(light.back());
    }
  }
  mean_ = static_cast<float>(sum / static_cast<double>(light.size()));
  // A tenth goes everywhere alike.
  double until = 0;
  for (const float one : light) {
    const double even = 1.0 / static_cast<double>(light.size());
    until += sum > 0 ? 0.9 * static_cast<double>(one) / sum + 0.1 * even : even;
    until_.push_back(static_cast<float>(until));
  }
  until_.back() = 1;
}

Color SkyLight::panorama(float u, float v) const {
  const auto texture = static_cast<std::size_t>(sky_->panorama) * TextureSet::levels;
  const std::int32_t width = textures_.width()[texture];
  const std::int32_t height = textures_.height()[texture];
  const std::uint32_t* texels = textures_.texels() + textures_.first()[texture];
  const float x = u * static_cast<float>(width) - 0.5f;
  const float y = (1 - v) * static_cast<float>(height) - 0.5f;
  const auto column = static_cast<std::int32_t>(std::floor(x));
  const auto row = static_cast<std::int32_t>(std::floor(y));
  const float a = x - static_cast<float>(column);
  const float b = y - static_cast<float>(row);
  const auto texel = [&](std::int32_t across, std::int32_t down) {
    across = (across % width + width) % width;
    down = std::clamp(down, 0, height - 1);
    const std::uint32_t packed = texels[down * width + across];
    const auto light = [&](int shift) {
      const float root = static_cast<float>(packed >> shift & 255) / 255;
      return root * root;
    };
    return Color(light(0), light(8), light(16));
  };
  const Color above = texel(column, row) * (1 - a) + texel(column + 1, row) * a;
  const Color below = texel(column, row + 1) * (1 - a) + texel(column + 1, row + 1) * a;
  return above * (1 - b) + below * b;
}

Color SkyLight::radiance(const Vec3f& way) const {
  if (sky_ == nullptr) return fog_;
  const auto strength = static_cast<float>(sky_->strength);
  if (sky_->panorama < 0) return strength * sky_color(*sky_, fog_, way.z());
  const PanoramaPlace place = panorama_place(way.x(), way.y(), way.z());
  return strength * panorama(place.u, place.v);
}

std::size_t SkyLight::cell_of(const Vec3f& way) const {
  const auto rows = static_cast<float>(rows_);
  const int row = std::clamp(static_cast<int>(0.5f * (way.z() + 1) * rows), 0, rows_ - 1);
  int column = 0;
  if (columns_ > 1) {
    float turn = std::atan2(way.y(), way.x()) / (2 * pi_float);
    if (turn < 0) turn += 1;
    column = std::clamp(static_cast<int>(turn * static_cast<float>(columns_)), 0, columns_ - 1);
  }
  return static_cast<std::size_t>(row) * columns_ + column;
}

float SkyLight::density(const Vec3f& way) const {
  const std::size_t cell = cell_of(way);
  const float share = until_[cell] - (cell > 0 ? until_[cell - 1] : 0);
  return share * static_cast<float>(until_.size()) / (4 * pi_float);
}

Vec3f SkyLight::sample(float u, float v, float& density) const {
  const auto found = std::upper_bound(until_.begin(), until_.end() - 1, u);
  const auto cell = static_cast<std::size_t>(found - until_.begin());
  const float before = cell > 0 ? until_[cell - 1] : 0;
  const float share = until_[cell] - before;
  const float within = share > 0 ? std::clamp((u - before) / share, 0.0f, 1.0f) : 0.5f;
  const auto row = static_cast<float>(cell / static_cast<std::size_t>(columns_));
  const auto column = static_cast<double>(cell % static_cast<std::size_t>(columns_));
  const float z = std::clamp(-1 + 2 * (row + within) / static_cast<float>(rows_), -1.0f, 1.0f);
  const SineCosine turn = sine_cosine(2 * pi * (column + static_cast<double>(v)) / columns_);
  const float across = std::sqrt(std::max(0.0f, 1 - z * z));
  density = share * static_cast<float>(until_.size()) / (4 * pi_float);
  return {across * static_cast<float>(turn.cosine), across * static_cast<float>(turn.sine), z};
}

RoomLights::RoomLights(const SceneView& view, const RoomView& here) : sky_(view.world, here.room) {
  const auto add_sun = [&](const Color& color, double strength, double size, const Vec3d& toward,
                           std::uint32_t room, std::span<const FaceOf> way) {
    PathLight light;
    light.kind = PathLight::Kind::sun;
    light.radiance = sun_radiance(color, strength, size);
    light.place = toward;
    light.spread = sun_spread(size);
    light.strength = pi_float * static_cast<float>(strength) * brightness(color);
    light.room = room;
    light.way = way;
    if (light.strength > 0) lights_.push_back(light);
  };
  const auto add_lamp = [&](const Lamp& lamp, std::uint32_t room, std::uint32_t index,
                            std::span<const FaceOf> way) {
    PathLight light;
    light.kind = PathLight::Kind::lamp;
    light.lamp = lamp;
    light.place = lamp.place;
    light.radius = lamp.radius;
    light.cone = lamp.cone;
    light.strength = static_cast<float>(lamp_power(lamp) / (4 * pi)) * brightness(lamp.color);
    light.room = room;
    light.index = index;
    light.way = way;
    if (light.strength > 0) lights_.push_back(light);
  };
  const Lighting& lighting = here.room.light;
  if (lighting.sun) {
    const Sun& sun = *lighting.sun;
    add_sun(sun.color, sun.strength, sun.size, sun_direction(sun), here.index, {});
  }
  for (std::size_t k = 0; k < lighting.lamps.size(); ++k) {
    add_lamp(lighting.lamps[k], here.index, static_cast<std::uint32_t>(k), {});
  }
  for (const LightImage& image : here.images) {
    if (image.of_sun) {
      add_sun(image.lamp.color, image.sun_strength, image.sun_size, image.toward, image.room,
              image.way);
    } else {
      add_lamp(image.lamp, image.room, image.index, image.way);
    }
  }
  add_emitters(view, here);
  if (sky_.mean() > 0) {
    PathLight light;
    light.kind = PathLight::Kind::sky;
    // Half of it is above a surface.
    light.strength = 0.5f * pi_float * sky_.mean();
    light.room = here.index;
    sky_light_ = lights_.size();
    lights_.push_back(light);
  }
  many_ = lights_.size() > most_compared;
  if (!many_) return;
  double sum = 0;
  for (const PathLight& light : lights_) sum += static_cast<double>(light.strength);
  double until = 0;
  for (const PathLight& light : lights_) {
    until += static_cast<double>(light.strength) / sum;
    until_.push_back(static_cast<float>(until));
  }
  until_.back() = 1;
}

void RoomLights::add_emitters(const SceneView& view, const RoomView& here) {
  const std::vector<Material>& materials = view.world.materials();
  // What differs from place to place is found by bouncing alone.
  std::vector<bool> emitting;
  for (const Material& material : materials) {
    emitting.push_back(material.emits() && material.texture < 0 && material.opacity >= 1 &&
                       material.density == 0 && material.pattern == SurfacePattern::none);
  }
  if (std::find(emitting.begin(), emitting.end(), true) == emitting.end()) return;
  for (const std::shared_ptr<const Solid>& solid : here.room.solids) {
    for (const Emitter& one : solid->emitters(emitting)) {
      const Material& material = materials[one.material];
      PathLight light;
      light.radiance = material.base * static_cast<float>(material.glow) + material.emission;
      light.room = here.index;
      light.item = one.item;
      if (one.ball) {
        light.kind = PathLight::Kind::ball;
        light.place = one.place;
        light.radius = one.radius;
        light.strength =
            brightness(light.radiance) * pi_float * static_cast<float>(one.radius * one.radius);
      } else {
        light.kind = PathLight::Kind::box;
        light.low = one.low;
        light.high = one.high;
        light.place = 0.5 * (one.low + one.high);
        const Vec3d side = one.high - one.low;
        light.radius = 0.5 * side.norm();
        // A quarter of its surface is seen, over all directions.
        const double area = 2 * (side.x() * side.y() + side.y() * side.z() + side.z() * side.x());
        light.strength = brightness(light.radiance) * static_cast<float>(0.25 * area);
      }
      if (!(light.strength > 0)) continue;
      items_.emplace_back(one.item, lights_.size());
      lights_.push_back(light);
    }
  }
  std::sort(items_.begin(), items_.end());
}

float RoomLights::strength_at(const PathLight& light, const Vec3d& from) const {
  if (light.kind == PathLight::Kind::sun || light.kind == PathLight::Kind::sky) {
    return light.strength;
  }
  const Vec3d to = light.place - from;
  const double square = std::max(to.squaredNorm(), light.radius * light.radius);
  const float strength = light.strength / static_cast<float>(std::max(square, 1e-12));
  if (light.cone >= 2 * pi) return strength;
  const Vec3d back = -to.normalized();
  const float cone = lamp_cone(light.lamp, static_cast<float>(back.x()),
                               static_cast<float>(back.y()), static_cast<float>(back.z()));
  // Beside its cone a wide lamp may still be seen to shine.
  return strength * std::max(cone, 0.02f);
}

RoomLights::Pick RoomLights::pick(const Vec3d& from, float at) const {
  Pick pick;
  if (lights_.empty()) return pick;
  if (many_) {
    const auto found = std::upper_bound(until_.begin(), until_.end() - 1, at);
    pick.which = static_cast<std::size_t>(found - until_.begin());
    pick.sum = 1;
    pick.chance = chance(pick.which, from, 1);
    return pick;
  }
  float strengths[most_compared];
  for (std::size_t k = 0; k < lights_.size(); ++k) {
    strengths[k] = strength_at(lights_[k], from);
    pick.sum += strengths[k];
  }
  if (!(pick.sum > 0)) return pick;
  float left = at * pick.sum;
  for (std::size_t k = 0; k < lights_.size(); ++k) {
    if (strengths[k] > 0) {
      pick.which = k;
      if (left < strengths[k]) break;
    }
    left -= strengths[k];
  }
  pick.chance = strengths[pick.which] / pick.sum;
  return pick;
}

float RoomLights::chance(std::size_t which, const Vec3d& from, float sum) const {
  if (many_) return until_[which] - (which > 0 ? until_[which - 1] : 0);
  return sum > 0 ? strength_at(lights_[which], from) / sum : 0;
}

namespace {

/// A leg as it passes a place: how near, where, and the angles its ends are seen at from there.
struct Passing {
  float middle;  ///< meters along the leg where it is nearest
  float away;    ///< how far the leg passes, at least the light's size
  float low, high;

  Passing(const PathLight& light, const Vec3d& from, const Vec3d& way, float meters) {
    const Vec3d to = light.place - from;
    const double along = to.dot(way);
    const double square = (to - along * way).squaredNorm();
    middle = static_cast<float>(along);
    away = static_cast<float>(std::max(std::sqrt(square), std::max(light.radius, 1e-6)));
    low = std::atan2(-middle, away);
    high = std::atan2(meters - middle, away);
  }
};

}  // namespace

RoomLights::FogPick RoomLights::pick_in_fog(const Vec3d& from, const Vec3d& way, float meters,
                                            float extinction, float at) const {
  FogPick pick;
  if (lights_.empty()) return pick;
  const float lost = -std::expm1(-extinction * meters);
  // What the leg's fog brings is compared with what lights bring to a surface; where it is little,
  // it is looked for more seldom.
  if (many_) {
    const float chance = lost;
    if (at >= chance || !(chance > 0)) return pick;
    const Pick one = this->pick(from, at / chance);
    return {one.which, one.chance * chance};
  }
  float strengths[most_compared];
  float sum = 0;
  float around = 0;
  for (std::size_t k = 0; k < lights_.size(); ++k) {
    const PathLight& light = lights_[k];
    const bool far = light.kind == PathLight::Kind::sun || light.kind == PathLight::Kind::sky;
    if (far) {
      strengths[k] = light.strength * lost * (light.kind == PathLight::Kind::sky ? 4.0f : 1.0f);
      around += light.strength;
    } else {
      const Passing passing(light, from, way, meters);
      strengths[k] = light.strength * extinction * (passing.high - passing.low) / passing.away;
      around += strength_at(light, from);
    }
    sum += strengths[k];
  }
  if (!(sum > 0)) return pick;
  const float chance = sum / (sum + 0.25f * around);
  if (at >= chance) return pick;
  float left = at / chance * sum;
  for (std::size_t k = 0; k < lights_.size(); ++k) {
    if (strengths[k] > 0) {
      pick.which = k;
      if (left < strengths[k]) break;
    }
    left -= strengths[k];
  }
  pick.chance = chance * strengths[pick.which] / sum;
  return pick;
}

float RoomLights::place_in_fog(std::size_t which, const Vec3d& from, const Vec3d& way, float meters,
                               float extinction, float drawn, float& at) const {
  const PathLight& light = lights_[which];
  if (light.kind == PathLight::Kind::sun || light.kind == PathLight::Kind::sky || many_) {
    const float lost = -std::expm1(-extinction * meters);
    at = std::min(-std::log1p(-drawn * lost) / extinction, meters);
    return extinction * std::exp(-extinction * at) / lost;
  }
  const Passing passing(light, from, way, meters);
  const float range = passing.high - passing.low;
  if (!(range > 0)) return 0;
  const float off = passing.away * std::tan(passing.low + drawn * range);
  at = std::clamp(passing.middle + off, 0.0f, meters);
  return passing.away / (range * (passing.away * passing.away + off * off));
}

LightSample RoomLights::sample(std::size_t which, const Vec3d& from, float u, float v) const {
  const PathLight& light = lights_[which];
  LightSample result;
  result.distance = infinite;
  switch (light.kind) {
    case PathLight::Kind::sun: {
      const Vec3f axis = light.place.cast<float>();
      result.radiance = light.radiance;
      result.point = light.spread == 0;
      result.way = result.point ? axis : in_cone(axis, static_cast<float>(light.spread), u, v);
      result.density = result.point ? 1 : static_cast<float>(1 / (2 * pi * light.spread));
      return result;
    }
    case PathLight::Kind::sky:
      result.way = sky_.sample(u, v, result.density);
      result.radiance = sky_.radiance(result.way);
      return result;
    case PathLight::Kind::lamp:
    case PathLight::Kind::ball: {
      const Vec3d to = light.place - from;
      const double distance = to.norm();
      if (distance <= light.radius) return result;
      const double spread = ball_spread(light.radius / distance);
      const Vec3f axis = (to / distance).cast<float>();
      result.way = in_cone(axis, static_cast<float>(spread), u, v);
      result.density = static_cast<float>(1 / (2 * pi * spread));
      const Vec3d way = result.way.cast<double>();
      const double along = to.dot(way);
      const double square = light.radius * light.radius - (to - along * way).squaredNorm();
      result.distance = static_cast<float>(along - std::sqrt(std::max(0.0, square)));
      result.radiance =
          light.kind == PathLight::Kind::lamp ? lamp_radiance(light.lamp, way) : light.radiance;
      return result;
    }
    case PathLight::Kind::box: {
      // Of the up to three sides that face the place, one by its area.
      const Vec3d side = light.high - light.low;
      double area[3];
      double plane[3];
      double sum = 0;
      for (int axis = 0; axis < 3; ++axis) {
        const bool below = from[axis] < light.low[axis];
        const bool above = from[axis] > light.high[axis];
        area[axis] = below || above ? side[(axis + 1) % 3] * side[(axis + 2) % 3] : 0;
        plane[axis] = below ? light.low[axis] : light.high[axis];
        sum += area[axis];
      }
      if (!(sum > 0)) return result;
      double at = static_cast<double>(u) * sum;
      int axis = 0;
      while (axis < 2 && (at >= area[axis] || area[axis] == 0)) at -= area[axis++];
      const double share = std::clamp(at / std::max(area[axis], 1e-300), 0.0, 1.0);
      Vec3d place;
      place[axis] = plane[axis];
      place[(axis + 1) % 3] = light.low[(axis + 1) % 3] + share * side[(axis + 1) % 3];
      place[(axis + 2) % 3] =
          light.low[(axis + 2) % 3] + static_cast<double>(v) * side[(axis + 2) % 3];
      const Vec3d to = place - from;
      const double distance = to.norm();
      if (!(distance > 0)) return result;
      result.way = (to / distance).cast<float>();
      result.distance = static_cast<float>(distance);
      const double cosine = std::abs(to[axis]) / distance;
      if (cosine < 1e-6) return result;
      result.density = static_cast<float>(distance * distance / (cosine * sum));
      result.radiance = light.radiance;
      return result;
    }
  }
  return result;
}

float RoomLights::density(std::size_t which, const Vec3d& from, const Vec3f& way, float distance,
                          float cosine) const {
  const PathLight& light = lights_[which];
  switch (light.kind) {
    case PathLight::Kind::sun:
      return light.spread > 0 ? static_cast<float>(1 / (2 * pi * light.spread)) : 0;
    case PathLight::Kind::sky:
      return sky_.density(way);
    case PathLight::Kind::lamp:
    case PathLight::Kind::ball: {
      const double away = (light.place - from).norm();
      if (away <= light.radius) return 0;
      return static_cast<float>(1 / (2 * pi * ball_spread(light.radius / away)));
    }
    case PathLight::Kind::box: {
      const Vec3d side = light.high - light.low;
      double sum = 0;
      for (int axis = 0; axis < 3; ++axis) {
        if (from[axis] >= light.low[axis] && from[axis] <= light.high[axis]) continue;
        sum += side[(axis + 1) % 3] * side[(axis + 2) % 3];
      }
      if (!(sum > 0) || !(cosine > 1e-6f)) return 0;
      return distance * distance / (cosine * static_cast<float>(sum));
    }
  }
  return 0;
}

namespace {

bool same(std::span<const FaceOf> a, std::span<const FaceOf> b) {
  return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](const FaceOf& x, const FaceOf& y) {
    return x.room == y.room && x.face == y.face;
  });
}

}  // namespace

std::size_t RoomLights::find_lamp(std::uint32_t room, std::uint32_t index,
                                  std::span<const FaceOf> way) const {
  for (std::size_t k = 0; k < lights_.size(); ++k) {
    const PathLight& light = lights_[k];
    if (light.kind == PathLight::Kind::lamp && light.room == room && light.index == index &&
        same(light.way, way)) {
      return k;
    }
  }
  return none;
}

std::size_t RoomLights::find_sun(std::uint32_t room, std::span<const FaceOf> way) const {
  for (std::size_t k = 0; k < lights_.size(); ++k) {
    const PathLight& light = lights_[k];
    if (light.kind == PathLight::Kind::sun && light.room == room && same(light.way, way)) return k;
  }
  return none;
}

std::size_t RoomLights::find_item(std::uint32_t item, const Vec3d& at) const {
  auto found = std::lower_bound(items_.begin(), items_.end(),
                                std::pair<std::uint32_t, std::size_t>(item, 0));
  for (; found != items_.end() && found->first == item; ++found) {
    const PathLight& light = lights_[found->second];
    const double near = 1e-3 + 1e-3 * light.radius;
    if (light.kind == PathLight::Kind::ball) {
      if (std::abs((at - light.place).norm() - light.radius) < near) return found->second;
    } else if (((at - light.low).array() > -near).all() &&
               ((at - light.high).array() < near).all()) {
      return found->second;
    }
  }
  return none;
}

}  // namespace photonlane
