#include "paths/path_tracer.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "base/stage_clock.hpp"
#include "follow/onward.hpp"
#include "follow/passing.hpp"
#include "paths/light_ways.hpp"
#include "paths/path_surface.hpp"
#include "paths/sample_points.hpp"
#include "shade/surface_colors.hpp"
#include "trace/batches.hpp"
#include "trace/company.hpp"
#include "trace/lane_sight.hpp"

namespace photonlane {
namespace {

constexpr float infinite = std::numeric_limits<float>::infinity();
constexpr auto pi_float = static_cast<float>(pi);
constexpr std::size_t most_ways = 4;

/// The pairs of numbers that a path draws at each thing it meets.
enum PathChance : std::uint32_t {
  scatter_way,   ///< where it goes on
  scatter_kind,  ///< by which part of the surface; whether it goes on at all
  light_place,   ///< where on a light it looks
  light_kind,    ///< which light
  fog_place,     ///< where in the fog; which light from there
  fog_light,     ///< where on that
  chances
};

/// A path on its way.
struct PathLane {
  Onward on;
  double start = 0;         ///< what is met lies beyond, where it has gone through a pane
  std::int32_t panel = -1;  ///< the sprite it has gone through there
  std::uint32_t path = 0;   ///< index of its start
  std::uint32_t met = 0;    ///< how much so far, with what it went through
  std::uint32_t passes = 0;
  // Of where it was thrown on last.
  float density = 0;  ///< per steradian; 0: it went the only way there was
  float sum = 0;      ///< of the lights' strengths
  Vec3d from{0, 0, 0};
  std::uint32_t room = 0;
  FaceOf way[most_ways] = {};  ///< portals since then
  std::uint32_t ways = 0;      ///< more than most_ways: not told, or bent on the way

  std::span<const FaceOf> through() const { return {way, ways}; }
  bool told() const { return ways <= most_ways; }
  Color weight() const { return {on.red, on.green, on.blue}; }
  void set_weight(const Color& weight) {
    on.red = weight[0];
    on.green = weight[1];
    on.blue = weight[2];
  }
};

/// The share of one of two ways to find the same light (Veach, "Robust Monte Carlo Methods for
/// Light Transport Simulation", 1997: the power heuristic).
float share_of(float own, float other) {
  const float a = own * own;
  const float b = other * other;
  return a + b > 0 ? a / (a + b) : 0;
}

template <class Number>
class Tracer {
 public:
  Tracer(const PathScene& scene, std::span<const PathStart> starts, double spread,
         PathResults& results, Tally& tally)
      : scene_(scene),
        view_(scene.view),
        starts_(starts),
        spread_(spread),
        results_(results),
        tally_(tally),
        limit_(static_cast<std::uint16_t>(view_.budget.bounces.limit)) {}

  void run() {
    start();
    while (!lanes_.empty()) {
      order();
      for (std::size_t first = 0; first < batches_.size(); first += company_size) {
        const std::size_t count = std::min(company_size, batches_.size() - first);
        in_company(view_.in_company(), count, [&](std::size_t i) { step(batches_[first + i]); });
      }
      go_on();
    }
  }

 private:
  static constexpr std::size_t capacity = LaneBatch<Number>::capacity;

  /// Lanes side by side that are traced together.
  struct Batch {
    std::size_t first = 0, size = 0;
    bool eye = false;
  };

  void start() {
    lanes_.resize(starts_.size());
    tally_.lanes += starts_.size();
    const auto room = static_cast<std::uint32_t>(view_.eye_room);
    for (std::size_t i = 0; i < starts_.size(); ++i) {
      PathLane& lane = lanes_[i];
      lane.path = static_cast<std::uint32_t>(i);
      lane.on.from = view_.eye;
      lane.on.way = starts_[i].way;
      lane.on.room = room;
    }
  }

  static std::uint32_t kind(const PathLane& lane) {
    const bool behind = lane.on.out_of_portal || lane.start > 0;
    return lane.on.room * 4 + (behind ? 2 : 0) + (lane.on.bounce > 0 ? 1 : 0);
  }

  /// Keeps the lanes that go on, those of a kind side by side.
  void go_on() {
    const StageScope stage(LaneKind::bounces, Work::order, lanes_.size());
    std::vector<std::uint32_t> first;
    for (std::size_t i = 0; i < lanes_.size(); ++i) {
      if (going_[i] == 0) continue;
      const std::uint32_t of = kind(lanes_[i]) + 1;
      if (of >= first.size()) first.resize(of + 1, 0);
      ++first[of];
    }
    for (std::size_t k = 1; k < first.size(); ++k) first[k] += first[k - 1];
    const std::size_t left = first.empty() ? 0 : first.back();
    if (next_.size() < left) next_.resize(left);
    for (std::size_t i = 0; i < lanes_.size(); ++i) {
      if (going_[i] != 0) next_[first[kind(lanes_[i])]++] = lanes_[i];
    }
    std::swap(lanes_, next_);
    lanes_.resize(left);
    eye_ = false;
  }

  /// Cuts lanes into batches of one kind.
  void order() {
    batches_.clear();
    const bool eye = eye_;
    for (std::size_t i = 0; i < lanes_.size();) {
      Batch batch{i, 0, eye};
      while (i < lanes_.size() && batch.size < capacity &&
             kind(lanes_[i]) == kind(lanes_[batch.first])) {
        ++i;
        ++batch.size;
      }
      batches_.push_back(batch);
    }
    going_.assign(lanes_.size(), 0);
  }

  void gather(const Batch& batch, LaneBatch<Number>& lanes, std::int32_t* bent) const {
    const PathLane& first = lanes_[batch.first];
    const RoomView& here = view_.rooms[first.on.room];
    lanes.size = batch.size;
    lanes.far_limit = static_cast<Number>(view_.budget.far_limit);
    lanes.any_face = here.room.portals != nullptr;
    lanes.any_start = first.on.out_of_portal || first.start > 0;
    lanes.together = first.on.bounce == 0;
    if (batch.eye) lanes.spread = spread_;
    if (!here.room.swells.empty()) {
      lanes.bent = bent;
      lanes.any_limit = true;
    }
    for (std::size_t i = 0; i < batch.size; ++i) {
      const PathLane& lane = lanes_[batch.first + i];
      put_lane(lane.on, i, lanes, bent);
      lanes.start[i] = static_cast<Number>(lane.start);
    }
    std::fill(lanes.start + batch.size, lanes.start + capacity, Number(0));
    std::fill(lanes.limit + batch.size, lanes.limit + capacity, Number(0));
    std::fill(lanes.scale + batch.size, lanes.scale + capacity, Number(1));
  }

  SamplePoints::Pair draw(const PathLane& lane, PathChance what) const {
    const PathStart& start = starts_[lane.path];
    const SamplePoints points(static_cast<std::uint64_t>(view_.budget.frame.seed), start.x, start.y,
                              start.sample);
    return points.pair(1 + chances * lane.met + what);
  }

  /// Light that a path brought by the bounces it has had.
  void add(std::uint32_t path, const Color& light, std::uint32_t bounces) {
    results_.radiance[path].add(light);
    if (bounces == 0) results_.straight[path].add(light);
    if (!results_.tell || bounces >= told_bounces) return;
    results_.by_bounce[path * told_bounces + bounces].add(light);
  }
  void add(const PathLane& lane, const Color& light, std::uint32_t bounces) {
    add(lane.path, light, bounces);
  }

  /// How much of a light counts that a lane has met, beside what is found by looking for it.
  float met_share(const PathLane& lane, std::size_t which, float distance = 0,
                  float cosine = 0) const {
    if (lane.density == 0 || which == RoomLights::none) return 1;
    const RoomLights& lights = scene_.lights[lane.room];
    const float chance = lights.chance(which, lane.from, lane.sum);
    return share_of(lane.density,
                    chance * lights.density(which, lane.from, lane.on.way.template cast<float>(),
                                            distance, cosine));
  }

  /// One leg of the lanes of a batch.
  void step(const Batch& batch) {
    const RoomView& here = view_.rooms[lanes_[batch.first].on.room];
    const StageScope stage(batch.eye ? LaneKind::eye : LaneKind::bounces);
    LaneBatch<Number> lanes;
    std::int32_t bent[capacity];
    gather(batch, lanes, bent);
    const HitBatch<Number> hits = trace_room(here.room, lanes, view_.budget, tally_);
    LaneSight<Number> sight(view_, here, lanes, tally_, Counted::aside, &hits);
    Surfaces solids;
    sight.nearest(solids);
    LaneRays rays;
    sight.rays(solids, rays);
    std::int32_t panel[Surfaces::capacity];
    std::fill_n(panel, batch.size, -1);
    Surfaces* seen = &solids;
    Surfaces covered;
    if (!here.panels.empty()) {
      covered = solids;
      PanelStarts starts;
      for (std::size_t i = 0; i < batch.size; ++i) {
        const PathLane& lane = lanes_[batch.first + i];
        starts.t[i] = static_cast<float>(lane.start);
        starts.panel[i] = lane.panel;
      }
      here.panels.cover(rays, starts, covered, panel);
      seen = &covered;
    }
    Surfaces& surfaces = *seen;
    count_steps(batch, hits, here);
    surfaces.pad();
    Colors colors;
    float reach[Surfaces::capacity];
    for (std::size_t i = 0; i < batch.size; ++i) {
      const PathLane& lane = lanes_[batch.first + i];
      reach[i] = static_cast<float>(lane.on.path) + lane.on.metric * surfaces.t[i];
    }
    for (std::size_t i = batch.size; i < capacity && i % 16 != 0; ++i) {
      reach[i] = reach[batch.size - 1];
      rays.x[i] = rays.y[i] = 0;
      rays.z[i] = 1;
    }
    paint_all(view_, here, surfaces, {reach, rays.x, rays.y, rays.z}, colors);
    if (!here.paint.density.empty()) soften(here.paint, surfaces, colors);
    const StageScope light(Work::light, batch.size);
    std::vector<LightQuery> queries;
    queries.reserve(2 * batch.size);
    for (std::size_t i = 0; i < batch.size; ++i) {
      end_leg(here, batch.first + i, surfaces, rays, colors, panel[i], i, queries);
    }
    if (queries.empty()) return;
    look_for_lights(view_, here, queries, tally_);
    for (const LightQuery& query : queries) add(query.owner, query.light, query.bounces);
  }

  void count_steps(const Batch& batch, const HitBatch<Number>& hits, const RoomView& here) {
    const bool fields = !here.room.only_cells();
    for (std::size_t i = 0; i < batch.size; ++i) {
      PathLane& lane = lanes_[batch.first + i];
      (batch.eye ? tally_.steps : tally_.secondary_steps) += hits.steps[i];
      lane.on.steps += hits.steps[i];
      results_.work[lane.path] += hits.steps[i] + (fields ? hits.evaluations[i] : 0);
      if (lane.met > 0) continue;
      tally_.hits += hits.ending[i] == Ending::hit;
      tally_.escaped += hits.ending[i] == Ending::escaped;
      tally_.spent += hits.ending[i] == Ending::spent;
    }
  }

  void end_leg(const RoomView& here, std::size_t at, Surfaces& surfaces, const LaneRays& rays,
               const Colors& colors, std::int32_t panel, std::size_t i,
               std::vector<LightQuery>& queries) {
    PathLane& lane = lanes_[at];
    const Ending ending = surfaces.ending[i];
    const bool leaves = ending == Ending::escaped;
    const double end = leaves ? view_.budget.far_limit : static_cast<double>(surfaces.t[i]);
    meet_lamps(here, lane, end);
    if (!leaves) lose_on_the_way(here, lane, end, queries);
    if (leaves) return leave(here, lane);
    if (ending == Ending::spent) {
      if (lane.on.bounce == 0) add(lane, lane.weight() * spent_color, 0);
      return;
    }
    if (ending == Ending::crossed) return cross(here, at, surfaces, i);
    meet(here, at, surfaces, rays, colors, panel, i, queries);
  }

  /// Lamps shine from their balls and hide nothing.
  void meet_lamps(const RoomView& here, const PathLane& lane, double end) {
    const std::vector<Lamp>& lamps = here.room.light.lamps;
    for (std::size_t k = 0; k < lamps.size(); ++k) {
      const double t = meet_lamp(lamps[k], lane.on.from, lane.on.way, lane.start, end);
      if (!(t < end)) continue;
      Color light = lane.weight() * lamp_radiance(lamps[k], lane.on.way);
      if (!(light > 0).any()) continue;
      light *= fade(here, lane, t - lane.start);
      if (lane.told()) {
        const std::size_t which = scene_.lights[lane.room].find_lamp(
            here.index, static_cast<std::uint32_t>(k), lane.through());
        light *= met_share(lane, which);
      }
      add(lane, light, lane.on.bounce);
    }
  }

  Color fade(const RoomView& here, const PathLane& lane, double meters) const {
    const auto length = lane.on.metric * static_cast<float>(meters);
    if (lane.on.inside) {
      return {std::exp(-lane.on.absorb_red * length), std::exp(-lane.on.absorb_green * length),
              std::exp(-lane.on.absorb_blue * length)};
    }
    const float extinction = scene_.extinction[here.index];
    const float left = extinction > 0 ? std::exp(-extinction * length) : 1;
    return {left, left, left};
  }

  /// What fog or a body takes of a leg that ends in the room, and what fog throws toward the eye.
  void lose_on_the_way(const RoomView& here, PathLane& lane, double end,
                       std::vector<LightQuery>& queries) {
    const Color left = fade(here, lane, end - lane.start);
    const float extinction = scene_.extinction[here.index];
    if (!lane.on.inside && extinction > 0 && lane.on.bounce < limit_ && lane.on.swell < 0) {
      look_in_fog(here, lane, extinction, static_cast<float>(end - lane.start), queries);
    }
    lane.set_weight(lane.weight() * left);
  }

  /// Looks for a light from a place in the fog of a leg of so many meters, or from none.
  void look_in_fog(const RoomView& here, const PathLane& lane, float extinction, float meters,
                   std::vector<LightQuery>& queries) {
    const RoomLights& lights = scene_.lights[here.index];
    const Vec3d from = lane.on.from + lane.start * lane.on.way;
    const SamplePoints::Pair where = draw(lane, fog_place);
    const RoomLights::FogPick pick =
        lights.pick_in_fog(from, lane.on.way, meters, extinction, where.u);
    if (!(pick.chance > 0)) return;
    float at;
    const float density =
        lights.place_in_fog(pick.which, from, lane.on.way, meters, extinction, where.v, at);
    if (!(density > 0)) return;
    const Vec3d place = from + static_cast<double>(at) * lane.on.way;
    const SamplePoints::Pair uv = draw(lane, fog_light);
    const LightSample sample = lights.sample(pick.which, place, uv.u, uv.v);
    if (!(sample.density > 0)) return;
    LightQuery query;
    query.light = lane.weight() * here.room.fog.color * sample.radiance *
                  (extinction * std::exp(-extinction * at) /
                   (4 * pi_float * pick.chance * density * sample.density));
    query.from = place;
    ask(lane, lights.light(pick.which), sample, query);
    queries.push_back(query);
  }

  static void ask(const PathLane& lane, const PathLight& light, const LightSample& sample,
                  LightQuery& query) {
    query.owner = lane.path;
    query.bounces = lane.on.bounce + 1u;
    query.way = sample.way;
    query.distance = sample.distance;
    query.through = light.way;
    query.scale = static_cast<float>(std::min(lane.on.scale, 1.0));
  }

  void leave(const RoomView& here, const PathLane& lane) {
    const Vec3f way = lane.on.way.template cast<float>();
    const RoomLights& lights = scene_.lights[here.index];
    Color light = lights.sky().radiance(way);
    if ((light > 0).any()) {
      if (lane.told()) {
        light *= met_share(lane, scene_.lights[lane.room].find_sky(lane.through()));
      }
      add(lane, lane.weight() * light, lane.on.bounce);
    }
    const std::optional<Sun>& sun = here.room.light.sun;
    if (!sun || sun->size == 0) return;
    const double spread = sun_spread(sun->size);
    if ((lane.on.way - sun_direction(*sun)).squaredNorm() > 2 * spread) return;
    Color disc = sun_radiance(sun->color, sun->strength, sun->size);
    if (lane.told()) {
      disc *= met_share(lane, scene_.lights[lane.room].find_sun(here.index, lane.through()));
    }
    add(lane, lane.weight() * disc, lane.on.bounce);
  }

  void cross(const RoomView& here, std::size_t at, const Surfaces& surfaces, std::size_t i) {
    PathLane& lane = lanes_[at];
    const std::uint32_t face = surfaces.item[i];
    if (!may_pass(view_, here, face, lane.on)) {
      const Color color = here.face(face).fallback.value_or(spent_color);
      if (lane.on.bounce == 0) ++tally_.spent;
      add(lane, lane.weight() * color, lane.on.bounce);
      return;
    }
    if (here.face(face).swell >= 0 || here.face(face).stretched() || lane.ways >= most_ways) {
      lane.ways = most_ways + 1;
    } else {
      lane.way[lane.ways++] = {here.index, static_cast<std::int32_t>(face)};
    }
    const auto t = static_cast<double>(surfaces.t[i]);
    lane.on.path += static_cast<double>(lane.on.metric) * t;
    pass(view_, here, face, Vec3d(lane.on.from + t * lane.on.way), Vec3d(lane.on.way), lane.on,
         tally_);
    lane.start = 0;
    lane.panel = -1;
    ++lane.met;
    going_[at] = 1;
  }

  void meet(const RoomView& here, std::size_t at, const Surfaces& surfaces, const LaneRays& rays,
            const Colors& colors, std::int32_t panel, std::size_t i,
            std::vector<LightQuery>& queries) {
    PathLane& lane = lanes_[at];
    const Normal normal = normal_of(surfaces, i);
    // Inside of a wall nothing is to be seen.
    if (normal.x == 0 && normal.y == 0 && normal.z == 0) return;
    const std::vector<Material>& materials = view_.world.materials();
    const ScatterSurface surface = scatter_surface(materials, surfaces, i, colors, lane.on.inside);
    const SurfaceFrame frame(normal);
    const Way out = toward_lane(frame, rays.x[i], rays.y[i], rays.z[i]);
    const Color emitted = emission_of(materials, surfaces, i, colors);
    if ((emitted > 0).any()) meet_emitter(here, lane, surfaces, i, out.z, emitted);
    if (results_.tell && lane.on.bounce == 0 && lane.met == 0) {
      results_.emission[lane.path].add(emitted);
      results_.albedo[lane.path].add(surface.base);
    }
    if (lane.on.bounce >= limit_) {
      // Panes are gone through all the same: that is no bounce.
      if (surface.opacity >= 1 || surface.body) {
        ++tally_.cut_bounces;
        return;
      }
    }
    const Scattering scattering(surface);
    const SamplePoints::Pair kind = draw(lane, scatter_kind);
    const float off = lift(view_, surfaces.t[i], surfaces.scale_of(i));
    const Vec3d place = here.origin + Vec3d(surfaces.x[i], surfaces.y[i], surfaces.z[i]);
    const Vec3d up(normal.x, normal.y, normal.z);
    float sum = 0;
    if (lane.on.bounce < limit_ && scattering.takes_light()) {
      sum = look(here, lane, surface.body, scattering, frame, out, place, up, off, queries);
    }
    const SamplePoints::Pair uv = draw(lane, scatter_way);
    const ScatterSample next = scattering.sample(out, kind.u, uv.u, uv.v);
    ++lane.met;
    if (!(next.weight > 0).any()) return;
    if (next.straight) return go_through(lane, at, surfaces, panel, i, next.weight);
    if (lane.on.bounce >= limit_) {
      ++tally_.cut_bounces;
      return;
    }
    lane.set_weight(lane.weight() * next.weight);
    if (!survives(lane, kind.v)) return;
    lane.on.path += static_cast<double>(lane.on.metric * surfaces.t[i]);
    const Vec3d away = static_cast<double>(next.way.z < 0 ? -off : off) * up;
    lane.on.from = place + away;
    lane.on.way = frame.to_room(next.way);
    lane.on.face = -1;
    lane.on.swell = -1;
    lane.on.out_of_portal = false;
    lane.on.metric = 1;
    lane.start = 0;
    lane.panel = -1;
    ++lane.on.bounce;
    ++tally_.bounces;
    ++results_.bounces[lane.path];
    if (next.through) {
      lane.on.inside = !lane.on.inside;
      const Material& material = materials[surfaces.material[i]];
      lane.on.absorb_red = material.absorption[0];
      lane.on.absorb_green = material.absorption[1];
      lane.on.absorb_blue = material.absorption[2];
    }
    // Lights are not looked for inside of bodies, nor behind surfaces that bend light.
    const bool sought = !next.sharp && !next.through && sum > 0;
    // What lies between the surface and where the lane starts is of the body too.
    if (lane.on.inside)
      lane.start = -static_cast<double>(off) / std::max(std::abs(lane.on.way.dot(up)), 1e-3);
    lane.density = sought ? next.density : 0;
    lane.sum = sum;
    lane.from = place;
    lane.room = here.index;
    lane.ways = 0;
    going_[at] = 1;
  }

  /// Goes on behind a pane as if nothing was there.
  void go_through(PathLane& lane, std::size_t at, const Surfaces& surfaces, std::int32_t panel,
                  std::size_t i, const Color& weight) {
    if (++lane.passes > static_cast<std::uint32_t>(view_.budget.passes.limit)) {
      if (lane.on.bounce == 0) {
        add(lane, lane.weight() * weight * spent_color, 0);
        ++tally_.spent;
      }
      return;
    }
    lane.set_weight(lane.weight() * weight);
    lane.start = static_cast<double>(surfaces.t[i]);
    lane.panel = panel;
    going_[at] = 1;
  }

  bool survives(PathLane& lane, float drawn) const {
    const auto least = static_cast<float>(view_.budget.bounces.roulette);
    if (least == 0) return true;
    const float most = lane.weight().maxCoeff();
    const float chance = std::min(1.0f, most / least);
    if (drawn >= chance) return false;
    lane.set_weight(lane.weight() / chance);
    return true;
  }

  void meet_emitter(const RoomView& here, const PathLane& lane, const Surfaces& surfaces,
                    std::size_t i, float cosine, const Color& emitted) {
    Color light = lane.weight() * emitted;
    if (lane.density > 0 && lane.ways == 0 && lane.told()) {
      const Vec3d at = here.origin + Vec3d(surfaces.x[i], surfaces.y[i], surfaces.z[i]);
      const std::size_t which = scene_.lights[lane.room].find_item(surfaces.item[i], at);
      const auto distance = static_cast<float>((at - lane.from).norm());
      light *= met_share(lane, which, distance, cosine);
    }
    add(lane, light, lane.on.bounce);
  }

  /// Looks for one light from a surface; gives the sum of all their strengths there.
  float look(const RoomView& here, const PathLane& lane, bool body, const Scattering& scattering,
             const SurfaceFrame& frame, const Way& out, const Vec3d& place, const Vec3d& up,
             float off, std::vector<LightQuery>& queries) {
    if (lane.on.inside || !view_.budget.light.seek) return 0;
    const RoomLights& lights = scene_.lights[here.index];
    const SamplePoints::Pair which = draw(lane, light_kind);
    const RoomLights::Pick pick = lights.pick(place, which.u);
    if (!(pick.chance > 0)) return pick.sum;
    const SamplePoints::Pair uv = draw(lane, light_place);
    const LightSample sample = lights.sample(pick.which, place, uv.u, uv.v);
    if (!(sample.density > 0)) return pick.sum;
    const Way in = frame.from_room(sample.way.x(), sample.way.y(), sample.way.z());
    if (body && in.z < 0) return pick.sum;
    const Color value = scattering.value(out, in);
    if (!(value > 0).any()) return pick.sum;
    const float chance = pick.chance * sample.density;
    const float share = sample.point ? 1 : share_of(chance, scattering.density(out, in));
    LightQuery query;
    query.light = lane.weight() * value * sample.radiance * (share / chance);
    if (!(query.light > 0).any()) return pick.sum;
    query.from = place + static_cast<double>(in.z < 0 ? -off : off) * up;
    ask(lane, lights.light(pick.which), sample, query);
    if (sample.distance < infinite) {
      // To the place on the light from where the lane starts, a little off the surface.
      const Vec3d to = place +
                       static_cast<double>(sample.distance) * sample.way.template cast<double>() -
                       query.from;
      const double length = std::max(to.norm(), 1e-9);
      query.way = (to / length).template cast<float>();
      query.distance = static_cast<float>(length);
    }
    // Not as far as the light's own surface.
    const PathLight::Kind kind = lights.light(pick.which).kind;
    if (kind == PathLight::Kind::ball || kind == PathLight::Kind::box) {
      query.distance *= 1 - 1e-4f;
    }
    queries.push_back(query);
    return pick.sum;
  }

  const PathScene& scene_;
  const SceneView& view_;
  std::span<const PathStart> starts_;
  const double spread_;
  PathResults& results_;
  Tally& tally_;
  const std::uint16_t limit_;
  std::vector<PathLane> lanes_, next_;
  bool eye_ = true;  ///< all come straight from the eye
  std::vector<Batch> batches_;
  std::vector<std::uint8_t> going_;
};

}  // namespace

PathScene::PathScene(const SceneView& seen) : view(seen) {
  lights.reserve(seen.rooms.size());
  for (const RoomView& room : seen.rooms) {
    lights.emplace_back(seen, room);
    extinction.push_back(static_cast<float>(fog_extinction(room.room.fog)));
  }
}

void PathResults::start(std::size_t count) {
  radiance.assign(count, {});
  straight.assign(count, {});
  bounces.assign(count, 0);
  work.assign(count, 0);
  if (!tell) return;
  by_bounce.assign(count * told_bounces, {});
  emission.assign(count, {});
  albedo.assign(count, {});
}

void trace_paths(const PathScene& scene, std::span<const PathStart> starts, double spread,
                 PathResults& results, Tally& tally) {
  results.start(starts.size());
  if (scene.view.budget.number == NumberType::float64) {
    Tracer<double>(scene, starts, spread, results, tally).run();
  } else {
    Tracer<float>(scene, starts, spread, results, tally).run();
  }
}

}  // namespace photonlane
