#include "follow/bounce.hpp"

#include <algorithm>
#include <cmath>

#include "follow/lane_recorder.hpp"
#include "follow/passing.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/base/trigonometry.hpp"
#include "photonlane/light/optics.hpp"
#include "room/portal_faces.hpp"
#include "shade/shadow.hpp"

namespace photonlane {
namespace {

/// Where of [0, 1) a pixel's sample lies: one in each of as many parts as there are samples, or for
/// a sequence without end by the golden ratio, each in the largest gap that was left.
double sample_share_of(const FrameBudget& frame, std::uint32_t sample, double start) {
  if (frame.sequence == SampleSequence::lattice) {
    return (sample + start) / std::max(1, frame.samples);
  }
  const double at = start + 0.6180339887498949 * sample;
  return at - std::floor(at);
}

/// A direction thrown back by a surface whose normal is turned a little: over a pixel's samples
/// evenly over a disk, turned by chance.
Normal thrown_back(const SceneView& view, const PixelPlace& place, std::size_t i, int bounce,
                   const Normal& normal, float roughness, const Normal& ray) {
  const auto dot = [](const Normal& a, const Normal& b) {
    return a.x * b.x + a.y * b.y + a.z * b.z;
  };
  Normal turned = normal;
  float square = 1;
  if (roughness > 0) {
    // Of all of a pixel's samples the same, which are spread from there.
    RandomKey key = place.key(i);
    key.bounce = static_cast<std::uint32_t>(bounce);
    key.sample = 0;
    const auto draw = [&](Chance what) {
      return static_cast<double>(random_uniform(key, static_cast<std::uint32_t>(what)));
    };
    const std::uint32_t sample = place.sample(i);
    const double share = sample_share_of(view.budget.frame, sample, draw(Chance::rough_tilt));
    const float radius = 0.25f * roughness * static_cast<float>(std::sqrt(share));
    const auto [sine, cosine] =
        sine_cosine(2 * pi * (0.38196601125 * sample + draw(Chance::rough_turn)));
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

/// The sky shown by a reflection that is not traced.
Color far_color(const RoomView& here, float z) {
  const std::optional<Sky>& sky = here.room.sky;
  return sky ? sky_color(*sky, here.room.fog.color, z) : here.room.fog.color;
}

/// From `away` meters off surface i along its normal.
void leave(const RoomView& here, const Surfaces& surfaces, std::size_t i, const Normal& normal,
           float away, const Normal& way, Onward& lane) {
  lane.from = here.origin + Vec3d(surfaces.x[i] + away * normal.x, surfaces.y[i] + away * normal.y,
                                  surfaces.z[i] + away * normal.z);
  lane.way = Vec3d(way.x, way.y, way.z);
  lane.own = false;
}

}  // namespace

GoingOn::Weight GoingOn::weight(const Surfaces& surfaces, std::size_t i) const {
  Weight result;
  if (left != nullptr) result = {left->red[i], left->green[i], left->blue[i], 1};
  const float other = others != nullptr ? others[i] : 1;
  // Behind as much fog as that nothing is seen.
  const float undo = other > 1e-6f ? 1 / other : 0;
  result.red *= undo;
  result.green *= undo;
  result.blue *= undo;
  float fog = 0;
  if (inside(i)) {
    result.red *= std::exp(-leg.medium->red[i] * surfaces.t[i]);
    result.green *= std::exp(-leg.medium->green[i] * surfaces.t[i]);
    result.blue *= std::exp(-leg.medium->blue[i] * surfaces.t[i]);
  } else {
    const float before =
        leg.travelled != nullptr ? leg.travelled[i * view.rooms.size() + here.index] : 0;
    fog = fog_share(here.room.fog, static_cast<double>(before + surfaces.t[i]));
  }
  result.seen = std::max({result.red, result.green, result.blue}) * other * (1 - fog);
  return result;
}

Onward GoingOn::lane(const Surfaces& surfaces, std::size_t i, const Weight& weight) const {
  Onward lane;
  if (leg.lanes != nullptr) {
    lane = leg.lanes[i];
  } else {
    lane.eye = view.eye.cast<float>();
    lane.x = place.column(i);
    lane.y = place.row(i);
    lane.sample = place.sample(i);
    lane.bounces_left = static_cast<std::uint16_t>(view.budget.bounces.limit);
    lane.own = true;
  }
  lane.path += static_cast<double>(lane.metric * surfaces.t[i]);

  lane.steps += surfaces.steps[i];
  lane.evaluations += !here.room.only_cells() ? surfaces.evaluations[i] : 0;
  lane.note = record != nullptr ? record->leg_of(i) : -1;
  lane.room = here.index;
  lane.face = -1;
  lane.swell = -1;
  lane.out_of_portal = false;
  lane.metric = 1;

  lane.settles = false;

  lane.red = weight.red;
  lane.green = weight.green;
  lane.blue = weight.blue;
  return lane;
}

void GoingOn::send(const Onward& lane, const Surfaces& surfaces, std::size_t i) const {
  const float* before = leg.travelled != nullptr ? leg.travelled + i * view.rooms.size() : nullptr;
  const float measure = leg.lanes != nullptr ? leg.lanes[i].metric : 1;
  outbox->add(lane, before, here.index, inside(i) ? 0 : measure * surfaces.t[i]);
}

WetFloors::WetFloors(const GoingOn& going, const Sight& sight, const Surfaces& surfaces) {
  const bool traced = going.view.budget.light.wet_floor == WetFloor::traced;
  const bool from_eye = going.leg.lanes == nullptr;
  if (!from_eye) sight.rays(surfaces, rays);
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    const Material& material = going.view.world.materials()[surfaces.material[i]];
    wanted[i] = surfaces.face[i] == Face::floor && surfaces.ending[i] == Ending::hit &&
                material.wetness > 0 && (traced || surfaces.item[i] == no_item);
    const auto wetness = static_cast<float>(material.wetness);
    const float cosine = from_eye ? -surfaces.z[i] / std::max(surfaces.t[i], 1e-6f) : -rays.z[i];
    share[i] = wanted[i] ? wetness * water_reflectance(cosine) : 0;
    any = any || wanted[i];
  }
}

void reflect_wet(const GoingOn& going, const Sight& sight, const WetFloors& wet,
                 const Surfaces& surfaces, Colors& colors) {
  const auto& [view, here, place, leg, left, others, outbox, tally, record] = going;
  if (outbox == nullptr) return;
  const bool traced = view.budget.light.wet_floor == WetFloor::traced;
  LaneRays from_eye;
  if (leg.lanes == nullptr) sight.rays(surfaces, from_eye);
  const LaneRays& rays = leg.lanes == nullptr ? from_eye : wet.rays;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (!wet.wanted[i]) continue;
    colors.red[i] *= 1 - wet.share[i];
    colors.green[i] *= 1 - wet.share[i];
    colors.blue[i] *= 1 - wet.share[i];
    const GoingOn::Weight weight = going.weight(surfaces, i);
    const float most = weight.seen * wet.share[i];
    if (!(most > 0)) continue;
    const double full = view.world.materials()[surfaces.material[i]].roughness;
    const Normal up{0, 0, 1};
    Onward lane = going.lane(surfaces, i, weight);
    leave(here, surfaces, i, up, 1e-3f * surfaces.scale_of(i),
          thrown_back(view, place, i, 1, up, traced ? static_cast<float>(full) : 0,
                      {rays.x[i], rays.y[i], rays.z[i]}),
          lane);
    const float alpha = colors.alpha[i];
    lane.red *= wet.share[i] * alpha;
    lane.green *= wet.share[i] * alpha;
    lane.blue *= wet.share[i] * alpha;
    lane.bounces_left = 0;
    lane.bounce = 1;
    // A mirror has no rays for light of its own.
    lane.dark = !traced;
    ++tally.bounces;
    going.send(lane, surfaces, i);
  }
}

namespace {

/// What is looked through is what is not thrown back; nothing is where light is bent.
float alpha_beside(const Gloss& gloss, std::size_t i, float alpha) {
  const float thrown = std::max({gloss.red[i], gloss.green[i], gloss.blue[i]});
  return gloss.bends[i] ? 1.0f : 1 - (1 - alpha) * (1 - thrown);
}

}  // namespace

void shade_behind(const Gloss& gloss, std::size_t size, Colors& colors) {
  for (std::size_t i = 0; i < size; ++i) {
    if (gloss.glossy[i]) colors.alpha[i] = alpha_beside(gloss, i, colors.alpha[i]);
  }
}

void bounce(const GoingOn& going, const LookedAt& seen, Colors& colors) {
  const auto& [view, here, place, leg, left, others, outbox, tally, record] = going;
  // Less than that of a pixel's light is not looked for.
  constexpr float least = 1.0f / 256;
  const Surfaces& surfaces = seen.surfaces;
  const Gloss& gloss = *seen.gloss;
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (!gloss.glossy[i]) continue;
    const Material& material = view.world.materials()[surfaces.material[i]];
    const Normal normal = normal_of(surfaces, i);
    const Normal ray{seen.rays.x[i], seen.rays.y[i], seen.rays.z[i]};
    const GoingOn::Weight weight = going.weight(surfaces, i);
    const Onward start = going.lane(surfaces, i, weight);
    const bool may = start.bounces_left > 0 && outbox != nullptr;
    const float thrown = std::max({gloss.red[i], gloss.green[i], gloss.blue[i]});
    const float off = lift(view, surfaces.t[i], surfaces.scale_of(i));
    const auto send = [&, &here = here, &tally = tally](Onward lane, float away,
                                                        const Normal& way) {
      leave(here, surfaces, i, normal, away, way, lane);
      --lane.bounces_left;
      ++lane.bounce;
      ++tally.bounces;
      going.send(lane, surfaces, i);
    };
    if (thrown * weight.seen > least) {
      const Normal way =
          thrown_back(view, place, i, start.bounce + 2, normal, gloss.roughness[i], ray);
      if (!may) {
        ++tally.cut_bounces;
        const Color far = far_color(here, way.z);
        colors.red[i] += gloss.red[i] * far[0];
        colors.green[i] += gloss.green[i] * far[1];
        colors.blue[i] += gloss.blue[i] * far[2];
      } else {
        Onward lane = start;
        lane.red *= gloss.red[i];
        lane.green *= gloss.green[i];
        lane.blue *= gloss.blue[i];
        send(lane, off, way);
      }
    }
    const float behind = 1 - colors.alpha[i];
    colors.alpha[i] = alpha_beside(gloss, i, colors.alpha[i]);
    if (!gloss.bends[i]) continue;
    const float share = behind * (1 - gloss.red[i]);
    if (share * weight.seen <= least) continue;
    const Bent bent = bend(ray.x, ray.y, ray.z, normal.x, normal.y, normal.z, gloss.index[i]);
    if (!bent.through) continue;
    if (!may) {
      ++tally.cut_bounces;
      colors.red[i] += share * spent_color[0];
      colors.green[i] += share * spent_color[1];
      colors.blue[i] += share * spent_color[2];
      continue;
    }
    Onward lane = start;
    // Colored where it is gone into, not once more where it is left.
    const bool enters = !going.inside(i);
    const Color tint = enters ? material.tint : Color(1, 1, 1);
    lane.red *= share * tint[0];
    lane.green *= share * tint[1];
    lane.blue *= share * tint[2];
    lane.inside = enters;
    lane.absorb_red = material.absorption[0];
    lane.absorb_green = material.absorption[1];
    lane.absorb_blue = material.absorption[2];
    send(lane, -off, {bent.x, bent.y, bent.z});
  }
}

void cross(const GoingOn& going, Sight& sight, const bool* settles, bool blind, bool* gone,
           Surfaces& surfaces, Colors& colors) {
  const auto& [view, here, place, leg, left, others, outbox, tally, record] = going;
  LaneRays rays;
  sight.rays(surfaces, rays);
  for (std::size_t i = 0; i < surfaces.size; ++i) {
    if (surfaces.ending[i] != Ending::crossed || gone[i]) continue;
    gone[i] = true;
    const GoingOn::Weight weight = going.weight(surfaces, i);
    Onward lane = going.lane(surfaces, i, weight);
    if (!may_pass(view, here, surfaces.item[i], lane)) {
      const Color color = here.face(surfaces.item[i]).fallback.value_or(spent_color);
      colors.red[i] = color[0];
      colors.green[i] = color[1];
      colors.blue[i] = color[2];
      surfaces.ending[i] = Ending::spent;
      if (lane.own) {
        ++tally.spent;
        --tally.hits;
      }
      continue;
    }
    lane.settles = settles[i];
    lane.blind = blind;
    if (!settles[i] && !(weight.seen > 0)) {
      // The fog hides all that is behind.
      if (lane.own) {
        ++tally.escaped;
        --tally.hits;
      }
      continue;
    }
    const Sight::Exact exact = sight.exact(i).value_or(
        Sight::Exact{here.origin + Vec3d(surfaces.x[i], surfaces.y[i], surfaces.z[i]),
                     Vec3d(rays.x[i], rays.y[i], rays.z[i])});
    lane.swell = leg.lanes != nullptr ? leg.lanes[i].swell : -1;
    pass(view, here, surfaces.item[i], exact.place, exact.way.normalized(), lane, tally);
    going.send(lane, surfaces, i);
  }
}

}  // namespace photonlane
