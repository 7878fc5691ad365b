// What a lane of each kind costs: from the eye, toward the sun, thrown back by mirrors, thrown back
// any way, behind what was met; one thread, by how many are marched at once.

#include <algorithm>
#include <cmath>

#include "photonlane/io/scene_file.hpp"
#include "photonlane/photonlane.hpp"
#include "race.hpp"
#include "scattered.hpp"

namespace photonlane::bench {
namespace {

using Batches = std::vector<LaneBatch<float>>;

struct Kinds {
  Batches eye, shadow, behind, mirrored, diffuse;
};

void trace(const Solid& solid, const Batches& lanes, const Budget& budget, std::size_t at_once,
           std::vector<HitBatch<float>>& hits) {
  hits.resize(lanes.size());
  for (std::size_t first = 0; first < lanes.size(); first += at_once) {
    std::vector<const LaneBatch<float>*> from;
    std::vector<HitBatch<float>*> to;
    for (std::size_t i = first; i < std::min(first + at_once, lanes.size()); ++i) {
      from.push_back(&lanes[i]);
      to.push_back(&hits[i]);
    }
    solid.nearest_hits(from, budget, to);
  }
}

void add(Batches& batches, const LaneBatch<float>& like, const Vec3d& from, const Vec3d& way,
         float start) {
  if (batches.empty() || batches.back().size == LaneBatch<float>::capacity) {
    LaneBatch<float>& fresh = batches.emplace_back(like);
    fresh.size = 0;
  }
  LaneBatch<float>& batch = batches.back();
  const std::size_t k = batch.size++;
  batch.x[k] = static_cast<float>(from.x());
  batch.y[k] = static_cast<float>(from.y());
  batch.z[k] = static_cast<float>(from.z());
  batch.direction_x[k] = static_cast<float>(way.x());
  batch.direction_y[k] = static_cast<float>(way.y());
  batch.direction_z[k] = static_cast<float>(way.z());
  batch.start[k] = start;
}

Kinds kinds_of(const Solid& solid, const Camera& camera, const Budget& budget, const Vec3d& sun) {
  Kinds kinds;
  constexpr int width = 320;
  constexpr int height = 192;
  const Viewing view = viewing(camera, {width, height});
  LaneBatch<float> like{};
  like.far_limit = static_cast<float>(budget.far_limit);
  like.together = true;
  for (int top = 0; top < height; top += 16) {
    for (int left = 0; left < width; left += 8) {
      for (int y = top; y < top + 16; ++y) {
        for (int x = left; x < left + 8; ++x) {
          add(kinds.eye, like, camera.eye, view.ray(view.u(x + 0.5), view.v(y + 0.5)), 0);
        }
      }
    }
  }
  std::vector<HitBatch<float>> hits;
  trace(solid, kinds.eye, budget, 1, hits);
  like.together = false;
  LaneBatch<float> ending = like;
  ending.ending_only = true;
  LaneBatch<float> later = like;
  later.any_start = true;
  std::uint64_t count = 0;
  for (std::size_t b = 0; b < hits.size(); ++b) {
    const LaneBatch<float>& lanes = kinds.eye[b];
    for (std::size_t i = 0; i < lanes.size; ++i) {
      if (hits[b].ending[i] != Ending::hit) continue;
      const Vec3d way(lanes.direction_x[i], lanes.direction_y[i], lanes.direction_z[i]);
      const Vec3d normal(hits[b].normal_x[i], hits[b].normal_y[i], hits[b].normal_z[i]);
      const Vec3d place = camera.eye + double(hits[b].t[i]) * way + 2e-3 * normal;
      if (normal.dot(sun) > 0) add(kinds.shadow, ending, place, sun, 0);
      add(kinds.behind, later, camera.eye, way, hits[b].t[i]);
      add(kinds.mirrored, like, place, way - 2 * way.dot(normal) * normal, 0);
      const RandomKey key{.seed = 5, .pixel = count++};
      const double turn = 2 * pi * random_uniform(key, 0);
      const double height_of = 2.0 * random_uniform(key, 1) - 1;
      const double out = std::sqrt(1 - height_of * height_of);
      const Vec3d chance(out * std::cos(turn), out * std::sin(turn), height_of);
      add(kinds.diffuse, like, place, (normal + 0.999 * chance).normalized(), 0);
    }
  }
  return kinds;
}

void cost(const std::string& name, const Solid& solid, const Camera& camera, const Vec3d& sun) {
  Budget budget;
  budget.far_limit = 100;
  const Kinds kinds = kinds_of(solid, camera, budget, sun);
  const std::pair<const char*, const Batches*> all[] = {{"from the eye", &kinds.eye},
                                                        {"toward the sun", &kinds.shadow},
                                                        {"behind", &kinds.behind},
                                                        {"mirrored", &kinds.mirrored},
                                                        {"thrown any way", &kinds.diffuse}};
  std::vector<HitBatch<float>> hits;
  for (const auto& [kind, lanes] : all) {
    std::size_t count = 0;
    for (const LaneBatch<float>& batch : *lanes) count += batch.size;
    std::string line;
    constexpr std::size_t many = 16;
    for (const auto& [what, method, memory, at_once] :
         {std::tuple{"batches", FieldMethod::relaxed, 0.0, std::size_t{1}},
          {"slopes", FieldMethod::slope, 0.0, std::size_t{1}},
          {"by place", FieldMethod::relaxed, 64.0, std::size_t{1}},
          {"2048", FieldMethod::relaxed, 64.0, many},
          {"slopes, 2048", FieldMethod::slope, 64.0, many}}) {
      Budget own = budget;
      own.field.method = method;
      own.field.place_memory = memory;
      std::vector<double> times;
      for (int round = -1; round < 3; ++round) {
        const double time = milliseconds([&] { trace(solid, *lanes, own, at_once, hits); });
        if (round >= 0) times.push_back(time);
      }
      std::uint64_t asked = 0;
      for (std::size_t b = 0; b < hits.size(); ++b) {
        for (std::size_t i = 0; i < (*lanes)[b].size; ++i) asked += hits[b].evaluations[i];
      }
      line += fmt::format("  {} {:.2f} us ({:.1f})", what,
                          1000 * summarize(times).median / static_cast<double>(count),
                          static_cast<double>(asked) / static_cast<double>(count));
    }
    fmt::print("{:<12} {:<15} {:6} lanes:{}\n", name, kind, count, line);
  }
}

}  // namespace

void race_lanes(const std::string& wanted, std::vector<Race>&) {
  const std::string prefix = "kinds of ";
  const auto is_wanted = [&](const std::string& name) {
    return wanted.size() > 4 && (prefix + name).find(wanted) != std::string::npos;
  };
  for (const std::string name : {"fountain", "shapes", "flowers", "wings"}) {
    if (!is_wanted(name)) continue;
    const io::SceneFile file =
        io::read_scene(std::string(PHOTONLANE_DEMO_DIR "/glasshouse-") + name + ".yaml");
    const World world = compile(file.scene);
    const CompiledRoom& room = world.room();
    if (room.fields().empty()) continue;
    cost(name, *room.fields().front(), file.camera,
         room.light.sun ? sun_direction(*room.light.sun) : Vec3d(0.48, 0.36, 0.8));
  }
  const Camera camera = Camera::look_at({7, -6, 4}, {0, 0, 0.8}, 0.6);
  for (const int count : {30, 300, 3000}) {
    if (!is_wanted(fmt::format("{} shapes", count))) continue;
    const CompiledField field(scattered_shapes(count, false));
    cost(fmt::format("{} shapes", count), field, camera,
         sun_direction({.heading = 2.2, .elevation = 0.8}));
  }
}

}  // namespace photonlane::bench
