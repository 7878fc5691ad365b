#include "measure/check_portals.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>

#include "photonlane/grid/body.hpp"
#include "photonlane/walk/walk.hpp"
#include "room/portal_faces.hpp"

namespace photonlane {
namespace {

/// A face with the room it is in.
struct Placed {
  std::uint32_t room;
  std::int32_t index;
  const PortalFace* face;
};

std::vector<Placed> faces_of(const World& world) {
  std::vector<Placed> result;
  for (std::size_t r = 0; r < world.rooms().size(); ++r) {
    if (!world.rooms()[r].portals) continue;
    const auto faces = world.rooms()[r].portals->faces();
    for (std::size_t f = 0; f < faces.size(); ++f) {
      if (faces[f].swell >= 0) continue;
      result.push_back({static_cast<std::uint32_t>(r), static_cast<std::int32_t>(f), &faces[f]});
    }
  }
  return result;
}

/// How far a place is from what stands in a room, at most `most`; below 0 inside of it.
double room_around(const CompiledRoom& room, const Vec3d& place, double most) {
  double distance = most;
  if (room.near_field) distance = std::min(distance, room.near_field->distance(place));
  if (room.has_cells && place.z() > 0 && place.z() < room.ceiling_height) {
    const double wall = wall_distance(room.cells()->map(), {place.x(), place.y()}, most);
    distance = std::min(distance, wall == 0 ? -1.0 : wall);
  }
  return distance;
}

/// Exits that end in what stands there, or leave a body no room.
void check_exits(const World& world, const std::vector<Placed>& faces, SceneReport& report) {
  const double radius = WalkScript{}.radius;
  for (const Placed& one : faces) {
    const PortalFace& face = *one.face;
    if (face.shape == OpeningShape::sphere || !face.front) continue;
    const CompiledRoom& there = world.rooms()[face.room];
    const std::vector<Vec3d> places = face.places(0);
    int inside = 0;
    int close = 0;
    for (const Vec3d& place : places) {
      // Straight through, a little on and by a body's radius.
      const Vec3d just = face.beyond(place - 0.02 * face.normal);
      const Vec3d on = face.beyond(place - radius / face.map.scale * face.normal);
      inside += room_around(there, just, 1) < 0;
      close += room_around(there, on, 1) < 0;
    }
    const auto all = static_cast<int>(places.size());
    const std::string name = portal_title(world.portals(), face.portal);
    if (2 * inside > all) {
      report.warnings.push_back(
          fmt::format("{} comes out inside of something in {}", name, there.name));
    } else if (2 * close > all) {
      report.warnings.push_back(
          fmt::format("{} comes out less than {} m, the radius of a body, before something in {}",
                      name, radius, there.name));
    }
  }
}

/// Openings of one room that lie in one another.
void check_overlaps(const World& world, const std::vector<Placed>& faces, SceneReport& report) {
  for (std::size_t a = 0; a < faces.size(); ++a) {
    for (std::size_t b = a + 1; b < faces.size(); ++b) {
      const PortalFace& one = *faces[a].face;
      const PortalFace& two = *faces[b].face;
      if (faces[a].room != faces[b].room || one.portal == two.portal) continue;
      if (one.shape == OpeningShape::sphere || two.shape == OpeningShape::sphere) {
        const bool balls = one.shape == two.shape;
        if (balls && (one.middle - two.middle).norm() < one.radius + two.radius) {
          report.warnings.push_back(fmt::format("{} and {} reach into one another",
                                                portal_title(world.portals(), one.portal),
                                                portal_title(world.portals(), two.portal)));
        }
        continue;
      }
      // One gone through from the front, the other from behind, are one opening with two ways.
      const bool sides_apart = !(one.back || two.back) && one.normal.dot(two.normal) < -0.999;
      if (sides_apart) continue;
      const std::vector<Vec3d> places = one.places(1e-3);
      const bool together = std::any_of(places.begin(), places.end(), [&](const Vec3d& place) {
        const Vec3d off = place - two.middle;
        return std::abs(off.dot(two.normal)) < 1e-4 &&
               two.border(off.dot(two.across), off.dot(two.up)) > 1e-3;
      });
      if (!together) continue;
      report.warnings.push_back(fmt::format("{} and {} lie in one another",
                                            portal_title(world.portals(), one.portal),
                                            portal_title(world.portals(), two.portal)));
    }
  }
}

/// Pairs of openings of different forms.
void check_forms(const Scene& scene, SceneReport& report) {
  const auto proportion = [](const Opening& opening) {
    switch (opening.shape) {
      case OpeningShape::rectangle:
        return opening.height / opening.width;
      case OpeningShape::box:
        return opening.size.y() / opening.size.x() + 1000 * opening.size.z() / opening.size.x();
      default:
        return 1.0;
    }
  };
  for (const Room& room : scene.rooms) {
    for (const Portal& portal : room.portals) {
      if (!portal.to || portal.to->portal.empty()) continue;
      for (const Room& other : scene.rooms) {
        for (const Portal& target : other.portals) {
          if (target.name != portal.to->portal) continue;
          const bool alike =
              portal.opening.shape == target.opening.shape &&
              std::abs(proportion(portal.opening) - proportion(target.opening)) < 1e-6;
          if (alike || portal.stretch != Vec3d(1, 1, 1)) continue;
          report.warnings.push_back(fmt::format(
              "the openings of '{}' and '{}' do not match: what is seen through the one is not "
              "where the other opens",
              portal.name, target.name));
        }
      }
    }
  }
}

/// Rooms that cannot be reached, and those that cannot be left.
void check_ways(const World& world, std::uint32_t start, SceneReport& report) {
  const auto rooms = world.rooms();
  const auto reached_from = [&](std::uint32_t from, bool backward) {
    std::vector<bool> reached(rooms.size());
    std::vector<std::uint32_t> open{from};
    reached[from] = true;
    while (!open.empty()) {
      const std::uint32_t at = open.back();
      open.pop_back();
      for (const PortalInfo& info : world.portals()) {
        const std::uint32_t source = backward ? info.leads_to : info.room;
        const std::uint32_t target = backward ? info.room : info.leads_to;
        if (source != at || reached[target]) continue;
        reached[target] = true;
        open.push_back(target);
      }
    }
    return reached;
  };
  const std::vector<bool> there = reached_from(start, false);
  const std::vector<bool> back = reached_from(start, true);
  for (std::size_t r = 0; r < rooms.size(); ++r) {
    if (!there[r]) {
      report.warnings.push_back(
          fmt::format("room {} cannot be reached from the eye", rooms[r].name));
    } else if (!back[r]) {
      report.warnings.push_back(
          fmt::format("room {} is a trap: no way leads back to the eye's", rooms[r].name));
    }
  }
}

/// The map around every simple loop of ways: of rooms, none twice.
void list_loops(const World& world, const std::vector<Placed>& faces, SceneReport& report) {
  constexpr std::size_t most = 40;
  // A portal's faces share a map.
  std::vector<const Placed*> first(world.portals().size(), nullptr);
  for (const Placed& one : faces) {
    if (first[one.face->portal] == nullptr) first[one.face->portal] = &one;
  }
  struct Step {
    const Placed* through;
    Similarity map;
  };
  std::vector<Step> way;
  std::vector<bool> visited(world.rooms().size());
  std::uint32_t origin = 0;
  std::size_t left_out = 0;
  // Rooms that are all joined to one another have more loops than can be counted.
  constexpr std::size_t most_looks = 20'000;
  std::size_t looks = 0;
  const std::function<void(std::uint32_t)> follow = [&](std::uint32_t room) {
    if (++looks > most_looks) return;
    for (const Placed* one : first) {
      if (one == nullptr || one->room != room || one->face->stretched()) continue;
      const std::uint32_t to = one->face->room;
      if (!way.empty()) {
        // There and back again is no loop.
        const PortalInfo& last = world.portals()[way.back().through->face->portal];
        const PortalInfo& next = world.portals()[one->face->portal];
        const std::uint32_t a = way.back().through->face->portal;
        const std::uint32_t b = one->face->portal;
        if ((next.returns && b == a + 1) || (last.returns && a == b + 1)) continue;
      }
      const Similarity map = way.empty() ? one->face->map : one->face->map.after(way.back().map);
      if (to == origin) {
        if (report.loops.size() >= most) {
          ++left_out;
          continue;
        }
        std::string names;
        for (const Step& step : way) {
          names += portal_title(world.portals(), step.through->face->portal) + ", ";
        }
        names += portal_title(world.portals(), one->face->portal);
        const double turn =
            std::acos(std::clamp((map.turn.trace() - 1) / 2, -1.0, 1.0)) / degrees(1);
        const Vec3d middle = way.empty() ? one->face->middle : way.front().through->face->middle;
        report.loops.push_back(fmt::format(
            "round by {}: turned by {:.4g} degrees, shifted by {:.4g} m, {:.4g} times as large",
            names, turn, (map.place(middle) - middle).norm(), map.scale));
        continue;
      }
      // Each loop once: from its first room on.
      if (to < origin || visited[to]) continue;
      visited[to] = true;
      way.push_back({one, map});
      follow(to);
      way.pop_back();
      visited[to] = false;
    }
  };
  for (origin = 0; origin < world.rooms().size(); ++origin) follow(origin);
  if (left_out > 0) {
    report.loops.push_back(fmt::format(
        "and {} more{}", left_out, looks > most_looks ? " at least; not all were looked for" : ""));
  }
}

/// Portals in which, straight or by way of others, they are seen again: without bound.
void list_nesting(const World& world, const std::vector<Placed>& faces, SceneReport& report) {
  // A way through a face: by its front, or from behind.
  struct Way {
    const Placed* through;
    bool by_front;
  };
  std::vector<Way> ways;
  for (const Placed& one : faces) {
    if (one.face->front) ways.push_back({&one, true});
    if (one.face->back) ways.push_back({&one, false});
  }
  // Whether some line that comes out of one goes on into another.
  const auto sees = [&](const Way& out, const Way& into) {
    const PortalFace& one = *out.through->face;
    const PortalFace& two = *into.through->face;
    if (one.room != into.through->room || one.twin == into.through->index) return false;
    if (one.shape == OpeningShape::sphere || two.shape == OpeningShape::sphere) return true;
    const Vec3d ahead = (out.by_front ? -1 : 1) * (one.map.turn * one.normal);
    for (const Vec3d& from : one.places(0)) {
      const Vec3d start = one.beyond(from);
      for (const Vec3d& to : two.places(0)) {
        const Vec3d way = to - start;
        const double toward = two.normal.dot(way);
        if (ahead.dot(way) > 1e-6 && (into.by_front ? toward < -1e-6 : toward > 1e-6)) return true;
      }
    }
    return false;
  };
  const std::size_t count = ways.size();
  std::vector<std::vector<bool>> reach(count, std::vector<bool>(count));
  for (std::size_t a = 0; a < count; ++a) {
    for (std::size_t b = 0; b < count; ++b) reach[a][b] = sees(ways[a], ways[b]);
  }
  for (std::size_t k = 0; k < count; ++k) {
    for (std::size_t a = 0; a < count; ++a) {
      for (std::size_t b = 0; reach[a][k] && b < count; ++b) {
        if (reach[k][b]) reach[a][b] = true;
      }
    }
  }
  std::vector<std::string> nested;
  for (std::size_t a = 0; a < count; ++a) {
    if (!reach[a][a]) continue;
    std::string name = portal_title(world.portals(), ways[a].through->face->portal);
    if (std::find(nested.begin(), nested.end(), name) == nested.end()) {
      nested.push_back(std::move(name));
    }
  }
  if (nested.empty()) return;
  constexpr std::size_t most_named = 12;
  std::string names;
  for (std::size_t i = 0; i < std::min(nested.size(), most_named); ++i) {
    names += (names.empty() ? "" : ", ") + nested[i];
  }
  if (nested.size() > most_named) {
    names += " and " + std::to_string(nested.size() - most_named) + " more";
  }
  report.loops.push_back("seen in themselves without bound, if nothing is between: " + names);
}

/// Openings that show nothing but their rim, those that lie in a swell, and solids that reach
/// across the sides of a stretched box, which are cut off there.
void check_faces(const World& world, const std::vector<Placed>& faces, SceneReport& report) {
  for (const Placed& one : faces) {
    const PortalFace& face = *one.face;
    const CompiledRoom& here = world.rooms()[one.room];
    const std::string name = portal_title(world.portals(), face.portal);
    const bool flat = face.shape != OpeningShape::sphere;
    if (flat && face.rim > 0 && face.rim >= face.border(0, 0)) {
      report.warnings.push_back(
          fmt::format("the rim of {} is {:.3g} m wide in {} and fills its opening there", name,
                      face.rim, here.name.empty() ? "its room" : here.name));
    }
    for (std::size_t s = 0; s < here.swells.size(); ++s) {
      const Swell& swell = here.swells[s];
      const Vec3d off = swell.at - face.middle;
      const double away =
          flat ? std::abs(off.dot(face.normal)) : std::abs(off.norm() - face.radius);
      const double beside = flat ? -face.border(off.dot(face.across), off.dot(face.up)) : 0;
      if (std::hypot(away, std::max(beside, 0.0)) >= swell.radius) continue;
      report.warnings.push_back(
          fmt::format("{} reaches into swell {} of {}: lanes meet it along straight chords there",
                      name, s + 1, here.name.empty() ? "its room" : here.name));
    }
    if (!face.stretched() || !here.near_field) continue;
    const std::vector<Vec3d> places = face.places(0);
    const std::vector<double> values = here.near_field->distances(places);
    const auto inside =
        std::count_if(values.begin(), values.end(), [](double value) { return value < -1e-6; });
    if (inside == 0) continue;
    report.warnings.push_back(fmt::format(
        "something reaches across a side of {}, a stretched box: it is cut off there, at "
        "{} of {} places of the side",
        name, inside, places.size()));
  }
}

/// Lamps inside of what stands around them, which light nothing.
void check_lamps(const World& world, SceneReport& report) {
  for (const CompiledRoom& room : world.rooms()) {
    for (std::size_t l = 0; l < room.light.lamps.size(); ++l) {
      const Vec3d& at = room.light.lamps[l].place;
      if (room_around(room, at, 1) >= 0) continue;
      // The glass of a lantern may well be around its lamp.
      if (room.near_field && room.near_field->distance(at) < 0) {
        const int material = room.near_field->material(at).material;
        if (material >= 0 && world.materials()[static_cast<std::size_t>(material)].glow > 0)
          continue;
      }
      report.warnings.push_back(fmt::format("lamp {}{} is inside of something, and lights nothing",
                                            l + 1, room.name.empty() ? "" : " of " + room.name));
    }
  }
}

}  // namespace

void check_portals(const Scene& scene, const World& world, const Camera& camera,
                   const Budget& budget, SceneReport& report) {
  report.portals =
      static_cast<int>(std::count_if(world.portals().begin(), world.portals().end(),
                                     [](const PortalInfo& info) { return !info.returns; }));
  for (const CompiledRoom& room : world.rooms()) {
    report.swells += static_cast<int>(room.swells.size());
  }
  if (world.rooms().size() > 1) {
    check_ways(world, static_cast<std::uint32_t>(world.room_index(camera.room)), report);
  }
  check_lamps(world, report);
  if (world.portals().empty()) return;
  if (budget.crossings.limit == 0) {
    report.warnings.emplace_back(
        "crossings.limit is 0: nothing is seen through portals, lanes are spent there");
  }
  const std::vector<Placed> faces = faces_of(world);
  check_faces(world, faces, report);
  check_forms(scene, report);
  check_exits(world, faces, report);
  check_overlaps(world, faces, report);
  list_loops(world, faces, report);
  // Every pair of faces is looked at, and every third between.
  if (faces.size() <= 200) list_nesting(world, faces, report);
}

}  // namespace photonlane
