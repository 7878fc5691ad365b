#include "photonlane/io/lane_text.hpp"

#include <fmt/format.h>

#include <cmath>

#include "io/json.hpp"
#include "room/portal_faces.hpp"

namespace photonlane::io {
namespace {

std::string place_text(const Vec3d& place) {
  // No "-0".
  const auto number = [](double value) { return std::abs(value) < 5e-4 ? 0.0 : value; };
  return fmt::format("[{:.3f}, {:.3f}, {:.3f}]", number(place.x()), number(place.y()),
                     number(place.z()));
}

std::string color_text(const Color& color) {
  return fmt::format("[{:.4g}, {:.4g}, {:.4g}]", color[0], color[1], color[2]);
}

std::string room_name(const World& world, std::uint32_t room) {
  const std::string& name = world.rooms()[room].name;
  return name.empty() ? fmt::format("room {}", room + 1) : name;
}

std::string material_name(const Scene& scene, std::uint32_t material) {
  if (material < scene.material_names.size() && !scene.material_names[material].empty()) {
    return scene.material_names[material];
  }
  if (material < scene.materials.size()) return fmt::format("material {}", material);
  return "";
}

/// How far a map turns, in degrees.
double turn_of(const Similarity& map) {
  return std::acos(std::clamp((map.turn.trace() - 1) / 2, -1.0, 1.0)) / degrees(1);
}

std::string meeting_text(const LaneMeeting& met, const LaneLeg& leg, const Scene& scene,
                         const World& world) {
  switch (met.ending) {
    case Ending::escaped:
      return "leaves the room, meeting nothing";
    case Ending::spent:
      return fmt::format("{:.3f} m: spent, out of budget", met.t);
    case Ending::crossed:
      if (met.swell) return fmt::format("{:.3f} m: bent by a swell", met.t);
      if (met.turned_back) {
        return fmt::format("{:.3f} m: {}, turned back by its stretched side", met.t,
                           portal_title(world.portals(), *met.portal));
      }
      return fmt::format("{:.3f} m: by {} into {}, turned {:.4g} degrees, scaled {:.4g}", met.t,
                         portal_title(world.portals(), *met.portal),
                         room_name(world, world.portals()[*met.portal].leads_to), turn_of(met.map),
                         met.map.scale);
    case Ending::hit:
      break;
  }
  std::string what = material_name(scene, met.material);
  if (what.empty()) {
    const CompiledRoom& room = world.rooms()[leg.room];
    what = met.material == room.floor     ? "the floor"
           : met.material == room.ceiling ? "the ceiling"
                                          : "a rim";
  }
  std::string text = fmt::format("{:.3f} m: {} at {}", met.t, what, place_text(met.place));
  if (met.face != Face::curved) text += fmt::format(", {}", name_of(met.face));
  if (met.hides < 1) text += fmt::format(", hides {:.0f} %", 100 * met.hides);
  return text;
}

Json numbers(const Vec3d& vector) { return {vector.x(), vector.y(), vector.z()}; }
Json numbers(const Color& color) { return {color[0], color[1], color[2]}; }

}  // namespace

std::string lane_text(const LaneLog& log, const Scene& scene, const World& world) {
  std::string text = fmt::format("pixel {},{}: {}", log.x, log.y, color_text(log.color));
  if (log.ending == Ending::hit) {
    text += fmt::format(", {:.4f} m from the eye", log.ray_distance);
  } else {
    text += fmt::format(", {}", name_of(log.ending));
  }
  text += fmt::format(", in {} after {} crossings\n", room_name(world, log.room), log.crossings);
  for (std::size_t i = 0; i < log.legs.size(); ++i) {
    const LaneLeg& leg = log.legs[i];
    std::string from;
    if (leg.from >= 0) from = fmt::format(", after leg {}", leg.from + 1);
    static constexpr std::string_view starts[] = {"from the eye", "out of a portal",
                                                  "on through a swell", "thrown back", "bent"};
    text += fmt::format("leg {}, sample {}{}: {} in {}, from {} along {}", i + 1, leg.sample + 1,
                        from, starts[static_cast<int>(leg.start)], room_name(world, leg.room),
                        place_text(leg.place), place_text(leg.way));
    if (leg.scale != 1) text += fmt::format(", {:.4g} times as large as the eye's", leg.scale);
    text += fmt::format(", {} steps\n", leg.steps);
    for (const MarchStep& step : leg.march) {
      text += fmt::format("    step at {:.5f} m, value {:.6g}\n", step.t, step.value);
    }
    for (const LaneMeeting& met : leg.meetings) {
      text += "  " + meeting_text(met, leg, scene, world) + "\n";
    }
    if (leg.layers) {
      text += "  for layers other than color\n";
    } else {
      text += fmt::format("  adds {}, of a weight of {}\n", color_text(leg.added),
                          color_text(leg.weight));
    }
  }
  return text;
}

std::string lane_json(const LaneLog& log, const Scene& scene, const World& world) {
  Json json{{"pixel", {log.x, log.y}},
            {"color", numbers(log.color)},
            {"ending", name_of(log.ending)},
            {"room", room_name(world, log.room)},
            {"crossings", log.crossings}};
  const bool hit = log.ending == Ending::hit;
  json["depth_m"] = hit ? Json(log.depth) : Json();
  json["ray_distance_m"] = hit ? Json(log.ray_distance) : Json();
  json["legs"] = Json::array();
  for (const LaneLeg& leg : log.legs) {
    Json one{{"sample", leg.sample},          {"after_leg", leg.from},
             {"start", name_of(leg.start)},   {"room", room_name(world, leg.room)},
             {"place_m", numbers(leg.place)}, {"way", numbers(leg.way)},
             {"length_m", leg.length},        {"scale", leg.scale},
             {"for_layers", leg.layers},      {"weight", numbers(leg.weight)},
             {"added", numbers(leg.added)},   {"steps", leg.steps},
             {"meetings", Json::array()}};
    for (const LaneMeeting& met : leg.meetings) {
      Json what{{"t_m", met.t}, {"ending", name_of(met.ending)}};
      if (met.ending != Ending::escaped) what["place_m"] = numbers(met.place);
      if (met.ending == Ending::hit) {
        what["normal"] = numbers(met.normal);
        what["face"] = name_of(met.face);
        what["material"] = material_name(scene, met.material);
        if (met.item != no_item) what["cell"] = met.item;
        what["hides"] = met.hides;
      }
      if (met.portal) {
        what["portal"] = world.portals()[*met.portal].name;
        what["way_back"] = world.portals()[*met.portal].returns;
        what["into"] = room_name(world, world.portals()[*met.portal].leads_to);
        what["turned_back"] = met.turned_back;
        Json turn = Json::array();
        for (int row = 0; row < 3; ++row) turn.push_back(numbers(Vec3d(met.map.turn.row(row))));
        what["map"] = {
            {"turn", turn}, {"scale", met.map.scale}, {"shift_m", numbers(met.map.shift)}};
      }
      if (met.swell) what["swell"] = true;
      one["meetings"].push_back(std::move(what));
    }
    if (!leg.march.empty()) {
      one["march"] = Json::array();
      for (const MarchStep& step : leg.march) one["march"].push_back({step.t, step.value});
    }
    json["legs"].push_back(std::move(one));
  }
  return json_text(json);
}

}  // namespace photonlane::io
