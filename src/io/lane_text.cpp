#include "photonlane/io/lane_text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <vector>

#include "io/json.hpp"
#include "photonlane/frame/render.hpp"
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

/// What a hit met: its material, or the part of the room.
std::string surface_name(const LaneMeeting& met, const LaneLeg& leg, const Scene& scene,
                         const World& world) {
  const std::string name = material_name(scene, met.material);
  if (!name.empty()) return name;
  const CompiledRoom& room = world.rooms()[leg.room];
  return met.material == room.floor     ? "the floor"
         : met.material == room.ceiling ? "the ceiling"
         : met.item != no_item          ? "a part without a material"
                                        : "a rim";
}

/// Samples of a pixel whose colors were followed.
std::size_t samples_of(const LaneLog& log) {
  std::set<std::uint32_t> samples;
  for (const LaneLeg& leg : log.legs) {
    if (!leg.layers) samples.insert(leg.sample);
  }
  return samples.size();
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
  std::string text = fmt::format("{:.3f} m: {} at {}", met.t, surface_name(met, leg, scene, world),
                                 place_text(met.place));
  if (met.face != Face::curved) text += fmt::format(", {}", name_of(met.face));
  if (met.hides < 1) text += fmt::format(", hides {:.0f} %", 100 * met.hides);
  return text;
}

Json numbers(const Vec3d& vector) { return {vector.x(), vector.y(), vector.z()}; }
Json numbers(const Color& color) { return {color[0], color[1], color[2]}; }

}  // namespace

std::string lane_text(const LaneLog& log, const Scene& scene, const World& world) {
  std::string text = fmt::format("pixel {},{}: {}", log.x, log.y, color_text(log.color));
  if (log.ending == Ending::hit && std::isinf(log.ray_distance)) {
    text += ", infinitely far";
  } else if (log.ending == Ending::hit) {
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

namespace {

/// How a leg came to where it starts, in a way of several.
std::string step_text(const LaneLeg& leg, const LaneLog& log, const World& world) {
  switch (leg.start) {
    case LegStart::eye:
      return "";
    case LegStart::thrown_back:
      return "thrown back";
    case LegStart::bent:
      return "bent";
    case LegStart::swell:
      return "";
    case LegStart::portal:
      break;
  }
  const LaneMeeting* through = nullptr;
  if (leg.from >= 0) {
    for (const LaneMeeting& met : log.legs[static_cast<std::size_t>(leg.from)].meetings) {
      if (met.portal) through = &met;
    }
  }
  return through != nullptr ? "by " + portal_title(world.portals(), *through->portal)
                            : std::string("by a portal");
}

/// What a leg met last, in a word.
std::string end_text(const LaneLeg& leg, const Scene& scene, const World& world) {
  if (leg.meetings.empty()) return "nothing";
  const LaneMeeting& met = leg.meetings.back();
  if (met.ending == Ending::escaped) return world.rooms()[leg.room].sky ? "the sky" : "the fog";
  if (met.ending == Ending::spent) return "spent";
  if (met.ending == Ending::crossed) return "";
  return surface_name(met, leg, scene, world);
}

struct Way {
  std::string text;
  std::vector<std::uint32_t> samples;
};

/// The way of each sample: what its legs met one after the other, of branches the one that adds
/// most; samples with the same text are put together.
std::vector<Way> ways_of(const LaneLog& log, const Scene& scene, const World& world) {
  std::vector<float> below(log.legs.size(), 0);  // what a leg and those after it add
  for (std::size_t i = log.legs.size(); i-- > 0;) {
    below[i] += log.legs[i].added.sum();
    if (log.legs[i].from >= 0) below[static_cast<std::size_t>(log.legs[i].from)] += below[i];
  }
  std::vector<Way> ways;
  for (std::size_t first = 0; first < log.legs.size(); ++first) {
    if (log.legs[first].from >= 0 || log.legs[first].layers) continue;
    std::string text;
    std::size_t at = first;
    for (;;) {
      for (const std::string& part :
           {step_text(log.legs[at], log, world), end_text(log.legs[at], scene, world)}) {
        if (part.empty()) continue;
        if (!text.empty()) text += ", ";
        text += part;
      }
      std::size_t next = at;
      for (std::size_t k = at + 1; k < log.legs.size(); ++k) {
        if (log.legs[k].from != static_cast<int>(at)) continue;
        if (next == at || below[k] > below[next]) next = k;
      }
      if (next == at) break;
      at = next;
    }
    const auto known =
        std::find_if(ways.begin(), ways.end(), [&](const Way& way) { return way.text == text; });
    if (known != ways.end()) {
      known->samples.push_back(log.legs[first].sample);
    } else {
      ways.push_back({text, {log.legs[first].sample}});
    }
  }
  std::stable_sort(ways.begin(), ways.end(),
                   [](const Way& a, const Way& b) { return a.samples.size() > b.samples.size(); });
  return ways;
}

/// Shares of a whole by name, the largest first, those below a hundredth left out.
std::string shares_text(const std::map<std::string, double>& amounts, double whole) {
  std::vector<std::pair<double, std::string>> parts;
  for (const auto& [name, amount] : amounts) parts.emplace_back(amount / whole, name);
  std::sort(parts.rbegin(), parts.rend());
  std::string text;
  for (const auto& [share, name] : parts) {
    if (share < 0.005) continue;
    text += fmt::format("{}{:.0f} % {}", text.empty() ? "" : ", ", 100 * share, name);
  }
  return text;
}

constexpr std::string_view start_words[] = {"straight from the eye", "through portals",
                                            "through swells", "thrown back", "bent by glass"};

}  // namespace

FrameSteps frame_steps(const World& world, const Camera& camera, const Budget& budget) {
  Budget small = budget;
  const Size size = budget.frame.size();
  const double shrink = std::min(1.0, 96.0 / std::max(size.width, size.height));
  small.frame.width = std::max(1, static_cast<int>(std::lround(shrink * size.width)));
  small.frame.height = std::max(1, static_cast<int>(std::lround(shrink * size.height)));
  small.rays = Rays::pixels;
  const Frame frame =
      render(world, camera, small,
             {.layers = {Layer::color, Layer::steps}, .progress = {}, .recycle = {}});
  std::vector<std::uint32_t> steps;
  for (int y = 0; y < small.frame.height; ++y) {
    const auto row = frame.codes(Layer::steps).row(y);
    steps.insert(steps.end(), row.begin(), row.end());
  }
  const auto middle = steps.begin() + static_cast<std::ptrdiff_t>(steps.size() / 2);
  std::nth_element(steps.begin(), middle, steps.end());
  return {static_cast<double>(*middle),
          static_cast<double>(frame.tally.steps + frame.tally.secondary_steps) /
              static_cast<double>(steps.size())};
}

std::string lane_summary(const LaneLog& log, const Scene& scene, const World& world,
                         const FrameSteps& frame) {
  // What its own lane met, and what all legs added and took.
  std::string met;
  std::map<std::string, double> light;
  std::map<std::string, double> spent;
  double all_light = 0;
  double steps = 0;
  double own_steps = 0;
  std::size_t legs = 0;
  const bool apart =
      std::any_of(log.legs.begin(), log.legs.end(), [](const LaneLeg& leg) { return leg.layers; });
  for (const LaneLeg& leg : log.legs) {
    const bool own = apart ? leg.layers
                           : leg.start == LegStart::eye || leg.start == LegStart::portal ||
                                 leg.start == LegStart::swell;
    if (own) {
      own_steps += leg.steps;
      for (const LaneMeeting& one : leg.meetings) {
        if (met.empty() && one.ending == Ending::hit && one.hides >= 0.5f) {
          met = surface_name(one, leg, scene, world);
        }
      }
    }
    if (leg.layers) continue;
    ++legs;
    steps += leg.steps;
    const auto start = start_words[static_cast<int>(leg.start)];
    light[std::string(start)] += static_cast<double>(leg.added.sum());
    all_light += static_cast<double>(leg.added.sum());
    std::string where(start);
    if (leg.start != LegStart::eye && !leg.meetings.empty() &&
        leg.meetings.front().ending == Ending::hit) {
      where += ", ending at " + surface_name(leg.meetings.front(), leg, scene, world);
    }
    spent[where] += leg.steps;
  }
  const std::vector<Way> ways = ways_of(log, scene, world);
  if (!apart && !ways.empty()) own_steps /= static_cast<double>(samples_of(log));

  std::string text = fmt::format("pixel {},{}  {}: ", log.x, log.y, color_text(log.color));
  if (log.ending == Ending::hit && std::isinf(log.ray_distance)) {
    text += fmt::format("{}, infinitely far", met.empty() ? "something" : met);
  } else if (log.ending == Ending::hit) {
    text +=
        fmt::format("{}, {:.4g} m from the eye", met.empty() ? "something" : met, log.ray_distance);
  } else {
    text += log.ending == Ending::spent ? "spent, out of budget" : "nothing up to the far limit";
  }
  if (world.rooms().size() > 1) text += ", in " + room_name(world, log.room);
  if (log.crossings > 0) {
    text += fmt::format(" after {} crossing{}", log.crossings, log.crossings == 1 ? "" : "s");
  }
  text += "\nlight  " + (all_light > 0 ? shares_text(light, all_light) : std::string("none"));
  text += "\nways   ";
  constexpr std::size_t most_ways = 3;
  for (std::size_t i = 0; i < std::min(ways.size(), most_ways); ++i) {
    if (i > 0) text += "; ";
    if (ways.size() > 1) {
      text += fmt::format("{} of {} samples: ", ways[i].samples.size(), samples_of(log));
    }
    text += ways[i].text;
  }
  if (ways.size() > most_ways) text += fmt::format("; {} others", ways.size() - most_ways);
  const auto ratio = [](double value, double of) {
    return of > 0 ? fmt::format(", {:.2g} times", value / of) : std::string();
  };
  text += fmt::format(
      "\ncost   {:.0f} steps for what it met{} the frame's median of {:.0f}; {:.0f} for all {} "
      "legs "
      "(of a pixel, with shadows, {:.0f} in the mean)\n",
      own_steps, ratio(own_steps, frame.median), frame.median, steps, legs, frame.mean);
  text += "why    " + (steps > 0 ? "of the steps " + shares_text(spent, steps) : "no steps") + "\n";
  return text;
}

std::string lane_json(const LaneLog& log, const Scene& scene, const World& world) {
  Json json{{"pixel", {log.x, log.y}},
            {"color", numbers(log.color)},
            {"ending", name_of(log.ending)},
            {"room", room_name(world, log.room)},
            {"crossings", log.crossings}};
  const bool hit = log.ending == Ending::hit;
  const bool placed = hit && std::isfinite(log.ray_distance);
  json["depth_m"] = placed ? Json(log.depth) : Json();
  json["ray_distance_m"] = placed ? Json(log.ray_distance) : Json();
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
