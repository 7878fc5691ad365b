// A distance function of one's own among the library's shapes: whether it says the truth about
// itself, where a ball that rolls into it comes to rest, and a picture of it.

#include <fmt/format.h>

#include <cmath>
#include <photonlane/io.hpp>
#include <photonlane/photonlane.hpp>

using namespace photonlane;

namespace {

/// A gourd: a ball whose radius swings around its axis. The distance to the ball less the swing is
/// no distance any more; `stretch` says by how much it may grow for a meter.
FieldFunction gourd(double stretch) {
  constexpr double radius = 0.7;
  constexpr double depth = 0.08;
  const auto values = [](const SourceBatch<double>& batch) {
    for (std::size_t i = 0; i < batch.count; ++i) {
      const double out = std::hypot(batch.x[i], batch.y[i]);
      const double ribs = 0.5 + 0.5 * std::cos(8 * std::atan2(batch.y[i], batch.x[i]));
      // No ribs at the axis, where they would meet.
      const double swing = depth * ribs * std::min(1.0, out / 0.4);
      batch.value[i] = std::hypot(out, 1.15 * batch.z[i]) - radius + swing;
    }
  };
  return {.name = "gourd",
          .bounds = {{-0.75, -0.75, -0.7}, {0.75, 0.75, 0.7}},
          .stretch = stretch,
          .looseness = 1,
          .values = values};
}

}  // namespace

int main(int argc, char** argv) {
  for (const double stretch : {1.0, 1.75}) {
    const auto faults = find_stretch_faults(field::function(gourd(stretch)));
    fmt::print("stretch {}: {}\n", stretch,
               faults.empty() ? "nothing grows faster"
                              : fmt::format("{} grows by {:.2f} for a meter", faults[0].part,
                                            faults[0].found));
  }

  Scene scene;
  scene.materials = {
      Material{.base = {0.86f, 0.42f, 0.08f}, .roughness = 0.4, .specular = 0.05},
      Material{.base = {0.25f, 0.36f, 0.12f}},
      Material{.base = {0.33f, 0.27f, 0.22f},
               .pattern = SurfacePattern::noise,
               .pattern_size = 0.2,
               .second = {0.24f, 0.19f, 0.16f}},
  };
  const Field stalk = field::bend(degrees(60), field::capsule({-0.25, 0, 0}, {0.2, 0, 0}, 0.06));
  const Field fruit =
      field::join(0.08, {field::function(gourd(1.75)).made_of(0),
                         field::place({0.1, 0, 0.72}, stalk, {0, degrees(-70), 0}).made_of(1)});
  const Field ground = field::plane({0, 0, 1}, -0.6).made_of(2);
  Room& room = scene.room();
  room.add(fruit);
  room.add(ground);
  room.sky.emplace();
  room.light.ambient = {0.35f, 0.38f, 0.48f};
  room.light.sun = Sun{.heading = degrees(250), .elevation = degrees(38), .size = degrees(4)};

  // A ball thrown at it stays outside and comes to rest beside it.
  const CompiledField all(field::join({fruit, ground}));
  const FieldMoved ball = move_body(all, {.place = {3, 0.2, 0}, .radius = 0.2}, {-3, 0, -0.5});
  fmt::print(
      "the ball rests at [{:.2f}, {:.2f}, {:.2f}] after {} contacts, {:.3f} m from the rest\n",
      ball.place.x(), ball.place.y(), ball.place.z(), ball.contacts, all.distance(ball.place));

  const World world = compile(scene);
  Frame frame = render(world, Camera::look_at({1.6, -2.6, 1.2}, {0, 0, 0.05}, degrees(42)),
                       Budget{.frame = {320, 200, 4}, .light = {.softness = Softness::quick}});
  fmt::print("{:.1f} steps a lane, {} spent\n", frame.tally.steps_per_lane(), frame.tally.spent);
  io::write_frame(argc > 1 ? argv[1] : "own_field.png", frame);
}
