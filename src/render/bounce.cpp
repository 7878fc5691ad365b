#include "render/bounce.hpp"

#include <algorithm>
#include <cmath>

#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "photonlane/light/optics.hpp"
#include "render/lane_sight.hpp"
#include "render/shadow.hpp"

namespace photonlane {
namespace {

/// Lanes that go on from surfaces, side by side, with what they carry.
struct GoingOn {
  LaneBatch<float> lanes;
  LaneMedium medium;
  float weight[Surfaces::capacity];  ///< in the pixel
  float share[Surfaces::capacity];   ///< of what they see in what is seen of their surface
  std::size_t of[Surfaces::capacity];

  explicit GoingOn(const RenderJob& job) {
    lanes.far_limit = static_cast<float>(job.budget.far_limit);
  }

  /// From `away` meters off surface i along its normal.
  std::size_t add(const RenderJob& job, const Surfaces& surfaces, std::size_t i,
                  const Normal& normal, float away, const Normal& way) {
    const Vec3d& eye = job.camera.eye;
    const std::size_t k = lanes.size++;
    of[k] = i;
    weight[k] = 1;
    medium.inside[k] = false;
    lanes.x[k] = static_cast<float>(eye.x() + surfaces.x[i]) + away * normal.x;
    lanes.y[k] = static_cast<float>(eye.y() + surfaces.y[i]) + away * normal.y;
    lanes.z[k] = static_cast<float>(eye.z() + surfaces.z[i]) + away * normal.z;
    lanes.direction_x[k] = way.x;
    lanes.direction_y[k] = way.y;
    lanes.direction_z[k] = way.z;
    return k;
  }
};

/// A direction thrown back by a surface whose normal is turned a little: over a pixel's samples
/// evenly over a disk, turned by chance.
Normal thrown_back(const RenderJob& job, const PixelPlace& place, std::size_t i, int bounce,
                   const Normal& normal, float roughness, const Normal& ray) {
  const auto dot = [](const Normal& a, const Normal& b) {
    return a.x * b.x + a.y * b.y + a.z * b.z;
  };
  Normal turned = normal;
  float square = 1;
  if (roughness > 0) {
    const RandomKey key{.pixel = place.pixel(i), .bounce = static_cast<std::uint32_t>(bounce)};
    const double samples = std::max<double>(1, static_cast<double>(job.offsets.size()));
    const double share = (place.sample + static_cast<double>(random_uniform(key, 0))) / samples;
    const float radius = 0.25f * roughness * static_cast<float>(std::sqrt(share));
    const auto [sine, cosine] =
        sine_cosine(2 * pi * (0.38196601125 * place.sample + random_uniform(key, 1)));
    const float a = radius * static_cast<float>(cosine);
    const float b = radius * static_cast<float>(sine);
    const Across across(normal);
    turned = {normal.x + a * across.one.x + b * across.two.x,
              normal.y + a * across.one.y + b * across.two.y,
              normal.z + a * across.one.z + b * across.two.z};
    square = 1 + radius * radius;
  }
  const float scale = 2 * dot(ray, turned) / square;
  Normal way{ray.x - scale * turned.x, ray.y - scale * turned.y, ray.z - scale * turned.z};
  // Not into the surface.
  const float under = 1e-3f - dot(way, normal);
  if (under > 0)
    way = {way.x + under * normal.x, way.y + under * normal.y, way.z + under * normal.z};
  const float length = 1 / std::sqrt(dot(way, way));
  return {way.x * length, way.y * length, way.z * length};
}

/// What lanes that go on see.
void look_on(const RenderJob& job, const PixelPlace& place, GoingOn& on, const LightBudget& light,
             int bounces_left, int bounce, Colors& colors, Tally& tally) {
  tally.bounces += on.lanes.size;
  LaneSight<float> sight(job, on.lanes, tally);
  const Leg leg{.light = &light,
                .bounces_left = bounces_left,
                .bounce = bounce,
                .weight = on.weight,
                .medium = &on.medium};
  look(job, sight, place, 1, true, colors, nullptr, tally, &leg);
}

/// What is seen of the sky where nobody looks any further.
Color far_color(const RenderJob& job, float z) {
  const std::optional<Sky>& sky = job.world.room().sky;
  return sky ? sky_color(*sky, z) : job.world.room().fog.color;
}

}  // namespace

void reflect_wet(const RenderJob& job, Sight& sight, const PixelPlace& place,
                 const Surfaces& surfaces, Colors& colors, Tally& tally) {
  const bool traced = job.budget.light.wet_floor == WetFloor::traced;
  bool wanted[Surfaces::capacity];
  float wet[Surfaces::capacity];
  bool any = false;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    const Material& material = job.world.materials()[surfaces.material[i]];
    wanted[i] = surfaces.face[i] == Face::floor && surfaces.ending[i] == Ending::hit &&
                material.wetness > 0 && (traced || surfaces.item[i] == no_item);
    const auto wetness = static_cast<float>(material.wetness);
    const float cosine = -surfaces.z[i] / std::max(surfaces.t[i], 1e-6f);
    wet[i] = wanted[i] ? wetness * water_reflectance(cosine) : 0;
    any = any || wanted[i];
  }
  if (!any) return;
  const auto mix = [&](std::size_t i, const Colors& image, std::size_t k) {
    colors.red[i] += (image.red[k] - colors.red[i]) * wet[i];
    colors.green[i] += (image.green[k] - colors.green[i]) * wet[i];
    colors.blue[i] += (image.blue[k] - colors.blue[i]) * wet[i];
  };
  Colors image;
  const std::unique_ptr<Sight> mirror = traced ? nullptr : sight.mirrored(surfaces, wanted);
  if (mirror != nullptr) {
    const Leg leg{.light = &rayless};
    look(job, *mirror, place, 1, true, image, nullptr, tally, &leg);
    for (std::size_t i = 0; i < surfaces.size; ++i) mix(i, image, i);
    return;
  }
  LaneRays rays;
  sight.rays(surfaces, rays);
  GoingOn on(job);
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (!wanted[i]) continue;
    const double full = job.world.materials()[surfaces.material[i]].roughness;
    const Normal up{0, 0, 1};
    on.add(job, surfaces, i, up, 1e-3f,
           thrown_back(job, place, i, 1, up, traced ? static_cast<float>(full) : 0,
                       {rays.x[i], rays.y[i], rays.z[i]}));
  }
  // A mirror has no rays for light of its own.
  look_on(job, place, on, traced ? job.budget.light : rayless, 0, 1, image, tally);
  for (std::size_t k = 0; k < on.lanes.size; ++k) mix(on.of[k], image, k);
}

void bounce(const RenderJob& job, const PixelPlace& place, const LookedAt& seen, const Leg& leg,
            Colors& colors, Tally& tally) {
  // Less than that of a pixel's light is not looked for.
  constexpr float least = 1.0f / 256;
  const Surfaces& surfaces = seen.surfaces;
  const Gloss& gloss = *seen.gloss;
  GoingOn back(job);
  GoingOn through(job);
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (!gloss.glossy[i]) continue;
    const Material& material = job.world.materials()[surfaces.material[i]];
    const Normal normal = normal_of(surfaces, i);
    const Normal ray{seen.rays.x[i], seen.rays.y[i], seen.rays.z[i]};
    const float weight = leg.weight != nullptr ? leg.weight[i] : 1;
    const bool inside = leg.medium != nullptr && leg.medium->inside[i];
    const float thrown = std::max({gloss.red[i], gloss.green[i], gloss.blue[i]});
    const float off = lift(job, surfaces.t[i]);
    if (thrown * weight > least) {
      const Normal way =
          thrown_back(job, place, i, leg.bounce + 2, normal, gloss.roughness[i], ray);
      if (leg.bounces_left == 0) {
        ++tally.cut_bounces;
        const Color far = far_color(job, way.z);
        colors.red[i] += gloss.red[i] * far[0];
        colors.green[i] += gloss.green[i] * far[1];
        colors.blue[i] += gloss.blue[i] * far[2];
      } else {
        const std::size_t k = back.add(job, surfaces, i, normal, off, way);
        back.weight[k] = thrown * weight;
        if (inside) back.medium.copy(*leg.medium, i, k);
      }
    }
    const float behind = 1 - colors.alpha[i];
    if (!gloss.bends[i]) {
      // What is looked through is what is not thrown back.
      colors.alpha[i] = 1 - behind * (1 - thrown);
      continue;
    }
    colors.alpha[i] = 1;
    const float left = behind * (1 - gloss.red[i]);
    if (left * weight <= least) continue;
    const Bent bent = bend(ray.x, ray.y, ray.z, normal.x, normal.y, normal.z, gloss.index[i]);
    if (!bent.through) continue;
    if (leg.bounces_left == 0) {
      ++tally.cut_bounces;
      colors.red[i] += left * spent_color[0];
      colors.green[i] += left * spent_color[1];
      colors.blue[i] += left * spent_color[2];
      continue;
    }
    const std::size_t k = through.add(job, surfaces, i, normal, -off, {bent.x, bent.y, bent.z});
    through.share[k] = left;
    through.weight[k] = left * weight;
    if (!inside) through.medium.enter(material, k);
  }
  if (back.lanes.size > 0) {
    Colors image;
    look_on(job, place, back, *leg.light, leg.bounces_left - 1, leg.bounce + 1, image, tally);
    for (std::size_t k = 0; k < back.lanes.size; ++k) {
      const std::size_t i = back.of[k];
      colors.red[i] += gloss.red[i] * image.red[k];
      colors.green[i] += gloss.green[i] * image.green[k];
      colors.blue[i] += gloss.blue[i] * image.blue[k];
    }
  }
  if (through.lanes.size > 0) {
    Colors image;
    look_on(job, place, through, *leg.light, leg.bounces_left - 1, leg.bounce + 1, image, tally);
    for (std::size_t k = 0; k < through.lanes.size; ++k) {
      const std::size_t i = through.of[k];
      const Material& material = job.world.materials()[surfaces.material[i]];
      // Colored where it is gone into, not once more where it is left.
      const Color tint = through.medium.inside[k] ? material.tint : Color(1, 1, 1);
      colors.red[i] += through.share[k] * tint[0] * image.red[k];
      colors.green[i] += through.share[k] * tint[1] * image.green[k];
      colors.blue[i] += through.share[k] * tint[2] * image.blue[k];
    }
  }
}

}  // namespace photonlane
