// Plates in scene files: pictures of ours and of others, every convention, and what is refused.

#include <fmt/format.h>
#include <gmock/gmock.h>

#include <bit>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/scenes.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

std::uint32_t check_of(std::string_view bytes) {
  std::uint32_t crc = 0xffffffffu;
  for (const char byte : bytes) {
    crc ^= static_cast<unsigned char>(byte);
    for (int bit = 0; bit < 8; ++bit) crc = crc >> 1 ^ (crc & 1 ? 0xedb88320u : 0);
  }
  return ~crc;
}

std::string big_endian(std::uint32_t value) {
  return {static_cast<char>(value >> 24), static_cast<char>(value >> 16),
          static_cast<char>(value >> 8), static_cast<char>(value)};
}

/// A gray PNG file of 16 bits, written as the standard says, without compressing anything.
std::string gray_png(Size size, const std::function<int(int, int)>& value, int color = 0) {
  std::string rows;
  for (int y = 0; y < size.height; ++y) {
    rows += '\0';
    for (int x = 0; x < size.width; ++x) {
      for (int channel = 0; channel < (color == 2 ? 3 : 1); ++channel) {
        const int number = value(x, y);
        rows += static_cast<char>(number >> 8);
        rows += static_cast<char>(number);
      }
    }
  }
  std::string packed = "\x78\x01";
  std::uint32_t a = 1;
  std::uint32_t b = 0;
  for (std::size_t at = 0; at < rows.size(); at += 65535) {
    const std::string part = rows.substr(at, 65535);
    const auto length = static_cast<std::uint16_t>(part.size());
    packed += at + 65535 >= rows.size() ? '\1' : '\0';
    for (const std::uint16_t one : {length, static_cast<std::uint16_t>(~length)}) {
      packed += static_cast<char>(one);
      packed += static_cast<char>(one >> 8);
    }
    packed += part;
    for (const char byte : part) {
      a = (a + static_cast<unsigned char>(byte)) % 65521;
      b = (b + a) % 65521;
    }
  }
  packed += big_endian(b << 16 | a);
  const auto chunk = [](const std::string& name, const std::string& data) {
    return big_endian(static_cast<std::uint32_t>(data.size())) + name + data +
           big_endian(check_of(name + data));
  };
  const std::string head = big_endian(static_cast<std::uint32_t>(size.width)) +
                           big_endian(static_cast<std::uint32_t>(size.height)) + '\x10' +
                           static_cast<char>(color) + std::string(3, '\0');
  return "\x89PNG\r\n\x1a\n" + chunk("IHDR", head) + chunk("IDAT", packed) + chunk("IEND", "");
}

class PlateFiles : public ToolRun {
 protected:
  PlateFiles() {
    folder.write("yard.yaml", yard_text("Yard", "  frame: {width: 96, height: 60}\n"));
    EXPECT_EQ(tool("render yard.yaml -o yard.exr").code, 0);
  }

  /// The yard as a plate, with what is said of its depth and what else there is.
  std::string scene(const std::string& depth, const std::string& more = "",
                    const std::string& color = "yard.exr") {
    return "camera: &made {eye: [-3, -4, 1.6], look_at: [0, 0, 0.5]}\n"
           "room:\n"
           "  sky: {}\n"
           "  light: {sun: {heading: 200}, lamps: [{place: [1, -1, 2.5]}]}\n"
           "  solids:\n"
           "    - plate:\n"
           "        color: " +
           color +
           "\n"
           "        depth: " +
           depth +
           "\n"
           "        camera: *made\n" +
           more + "budget: {frame: {width: 96, height: 60}}\n";
  }

  Frame rendered(const std::string& name, const LayerSet& layers = {Layer::color, Layer::depth}) {
    const io::SceneFile file = io::read_scene(folder.path() + "/" + name);
    return render(compile(file.scene), file.camera, file.budget, {.layers = layers});
  }

  void expect_yard(const Frame& frame, double depth_slack = 1e-5) {
    const Frame yard = io::read_frame(folder.path() + "/yard.exr");
    for (int y = 0; y < 60; ++y) {
      for (int x = 0; x < 96; ++x) {
        const float color = yard.values(Layer::color, 1)(x, y);
        // A 1023th of the brightest channel.
        ASSERT_NEAR(frame.values(Layer::color, 1)(x, y), color, 1.1e-3f * std::max(1.0f, color));
        const auto depth = static_cast<double>(yard.values(Layer::depth)(x, y));
        if (depth > 100) continue;
        ASSERT_NEAR(frame.values(Layer::depth)(x, y), depth, depth_slack * depth) << x << " " << y;
      }
    }
  }
};

TEST_F(PlateFiles, OurOwnRendersArePlates) {
  folder.write("plate.yaml", scene("{file: yard.exr}"));
  expect_yard(rendered("plate.yaml"));
  // The same by the distance along rays, in centimeters, under its own name.
  folder.write("ray.yaml", scene("{file: yard.exr, channel: ray_distance, kind: ray}"));
  expect_yard(rendered("ray.yaml"));
  // What is written is what was read.
  const io::SceneFile file = io::read_scene(folder.path() + "/ray.yaml");
  folder.write("again.yaml", io::scene_text(file));
  const io::SceneFile again = io::read_scene(folder.path() + "/again.yaml");
  EXPECT_EQ(io::scene_text(again), io::scene_text(file));
  EXPECT_EQ(hash_of(rendered("again.yaml"), Layer::color),
            hash_of(rendered("ray.yaml"), Layer::color));
  const Outcome checked = tool("check plate.yaml");
  EXPECT_EQ(checked.code, 0) << checked.output << checked.errors;
  EXPECT_THAT(checked.output, HasSubstr("a plate of 96x60 pixels"));
}

TEST_F(PlateFiles, DepthMayBeAGrayPicture) {
  const Frame yard = io::read_frame(folder.path() + "/yard.exr");
  const auto depth = [&](int x, int y) { return double{yard.values(Layer::depth)(x, y)}; };
  // A depth buffer in reversed z, its near plane at 0.5 m.
  folder.write("buffer.png", gray_png({96, 60}, [&](int x, int y) {
                 const double number = depth(x, y) > 100 ? 0 : 0.5 / depth(x, y);
                 return static_cast<int>(std::lround(65535 * number));
               }));
  ASSERT_EQ(tool("render yard.yaml -o yard.png").code, 0);
  folder.write(
      "buffer.yaml",
      scene("{file: buffer.png, kind: buffer, nearest: 0.5, range: one_to_zero}", "", "yard.png"));
  const Frame frame = rendered("buffer.yaml");
  for (int y = 0; y < 60; ++y) {
    for (int x = 0; x < 96; ++x) {
      if (depth(x, y) > 100) continue;
      // Half of a 65535th of the inverse.
      ASSERT_NEAR(1 / double{frame.values(Layer::depth)(x, y)}, 1 / depth(x, y), 1.1 / 65535)
          << x << " " << y;
    }
  }
  // Colors are those of a display, to light and back.
  const Frame shown = rendered("buffer.yaml", {Layer::display});
  const Frame picture = io::read_frame(folder.path() + "/yard.png");
  int other = 0;
  for (int y = 0; y < 60; ++y) {
    for (int x = 0; x < 96; ++x) {
      for (int channel = 0; channel < 3; ++channel) {
        const auto code = [&](const Frame& of) {
          return static_cast<int>(of.codes(Layer::display)(x, y) >> 8 * channel & 255);
        };
        other += std::abs(code(shown) - code(picture)) > 2;
      }
    }
  }
  EXPECT_EQ(other, 0);
}

TEST_F(PlateFiles, CamerasMayBeMatrices) {
  // The yard's camera as a program with y up and a buffer in reversed z writes it.
  const io::SceneFile file = io::read_scene(folder.path() + "/yard.yaml");
  const Viewing seen = viewing(file.camera, {96, 60});
  const auto theirs = [](const Vec3d& p) { return Vec3d(p.x(), p.z(), -p.y()); };
  const Vec3d rows[3] = {theirs(seen.right), theirs(seen.up), theirs(-seen.forward)};
  const Vec3d eye = theirs(file.camera.eye);
  std::string view = "[";
  for (int column = 0; column < 4; ++column) {
    for (int row = 0; row < 4; ++row) {
      const double number = row == 3      ? (column == 3 ? 1.0 : 0.0)
                            : column == 3 ? -rows[row].dot(eye)
                                          : rows[row][column];
      view += fmt::format("{}{:.17g}", view.size() > 1 ? ", " : "", number);
    }
  }
  const std::string matrices = fmt::format(
      "{{order: columns, world: y_up, projection: [{:.17g}, 0, 0, 0, 0, {:.17g}, 0, 0, 0, 0, 0, "
      "-1, 0, 0, 0.25, 0], view: {}]}}",
      2 * seen.focal / 96, 2 * seen.focal_y / 60, view);
  const Frame yard = io::read_frame(folder.path() + "/yard.exr");
  folder.write("buffer.png", gray_png({96, 60}, [&](int x, int y) {
                 const double depth = yard.values(Layer::depth)(x, y);
                 return static_cast<int>(std::lround(65535 * (depth > 100 ? 0 : 0.25 / depth)));
               }));
  std::string text = scene("{file: buffer.png, kind: buffer}");
  const std::string camera = "{eye: [-3, -4, 1.6], look_at: [0, 0, 0.5]}";
  text.replace(text.find(camera), camera.size(), "{matrices: " + matrices + "}");
  folder.write("matrices.yaml", text);
  expect_yard(rendered("matrices.yaml"), 3e-3);
  const io::SceneFile read = io::read_scene(folder.path() + "/matrices.yaml");
  EXPECT_LT((read.camera.eye - file.camera.eye).norm(), 1e-9);
  EXPECT_NEAR(read.camera.heading, file.camera.heading, 1e-12);
  const auto& plate = dynamic_cast<const Plate&>(*read.scene.room().parts.front());
  EXPECT_EQ(plate.means.range, BufferRange::one_to_zero);
  EXPECT_NEAR(plate.means.nearest, 0.25, 1e-12);
  EXPECT_EQ(plate.means.farthest, 0);
  // The other order, another hand, and a key beside them.
  const auto with = [&](const std::string& from, const std::string& to) {
    std::string changed = text;
    changed.replace(changed.find(from), from.size(), to);
    folder.write("other.yaml", changed);
    return refused("render other.yaml -o x.png");
  };
  EXPECT_THAT(with("order: columns", "order: rows"), HasSubstr("matrices"));
  EXPECT_THAT(with("world: y_up", "world: y_up_left_handed"), HasSubstr("mirror"));
  EXPECT_THAT(with("{matrices:", "{eye: [0, 0, 1], matrices:"), HasSubstr("eye beside matrices"));
  EXPECT_THAT(with("-1, 0, 0, 0.25, 0]", "-1, 0, 0, 0.25]"), HasSubstr("15 numbers"));
}

TEST_F(PlateFiles, TellWhatIsWrongAndWhere) {
  const auto with = [&](const std::string& depth, const std::string& more = "",
                        const std::string& color = "yard.exr") {
    folder.write("bad.yaml", scene(depth, more, color));
    return refused("render bad.yaml -o x.png");
  };
  EXPECT_THAT(with("{file: nowhere.exr}"), HasSubstr("nowhere.exr"));
  EXPECT_THAT(with("{file: yard.exr, channel: W}"), HasSubstr("has no channel W, only B, G"));
  EXPECT_THAT(with("{file: yard.exr, kind: buffer}"), HasSubstr("which is no distance"));
  EXPECT_THAT(with("{file: yard.exr, kind: axes}"), HasSubstr("axis"));
  EXPECT_THAT(with("{file: yard.exr, unit: 0}"), HasSubstr("bad.yaml:8:"));
  EXPECT_THAT(with("{file: yard.exr}", "        ground: high\n"), HasSubstr("bad.yaml:10:"));
  EXPECT_THAT(with("{file: yard.exr}", "        marks: [[1, 2, 3, 4]]\n"),
              HasSubstr("a mark of 4 numbers"));
  EXPECT_THAT(with("{file: yard.exr}", "", "{file: yard.exr, channels: [R, G]}"),
              HasSubstr("three channels"));
  EXPECT_THAT(with("{file: yard.exr}", "", "{file: yard.exr, alpha: A}"),
              HasSubstr("has no channel A"));
  folder.write("small.png", gray_png({8, 6}, [](int, int) { return 4000; }));
  EXPECT_THAT(with("{file: small.png}"), HasSubstr("96x60 pixels and depth of 8x6"));
  folder.write("color.png", gray_png(
                                {96, 60}, [](int, int) { return 4000; }, 2));
  EXPECT_THAT(with("{file: color.png}"), HasSubstr("gray PNG file of 8 or 16 bits"));
  std::string cut = gray_png({96, 60}, [](int, int) { return 4000; });
  folder.write("cut.png", cut.substr(0, cut.size() / 2));
  EXPECT_THAT(with("{file: cut.png}"), HasSubstr("damaged"));
  // A size that the file does not have bytes for.
  std::string large = gray_png({8, 6}, [](int, int) { return 4000; });
  large.replace(16, 8, big_endian(1u << 30) + big_endian(1u << 30));
  large.replace(29, 4, big_endian(check_of(std::string_view(large).substr(12, 17))));
  folder.write("large.png", large);
  EXPECT_THAT(with("{file: large.png}"), ::testing::AnyOf(HasSubstr("pixels"), HasSubstr("PNG")));
}

TEST_F(PlateFiles, CheckSaysWhatWouldFit) {
  folder.write("floor.yaml",
               scene("{file: yard.exr, channel: ray_distance, kind: axis}", "        ground: 0\n"));
  const Outcome floor = tool("check floor.yaml");
  EXPECT_THAT(floor.output + floor.errors, HasSubstr("looks like distance along the ray"));
  folder.write("good.yaml", scene("{file: yard.exr}", "        ground: 0\n"));
  EXPECT_THAT(tool("check good.yaml").output, ::testing::Not(HasSubstr("looks like")));
}

TEST_F(PlateFiles, RunsKnowWhenAPictureIsAnother) {
  folder.write("plate.yaml", scene("{file: yard.exr}"));
  const std::string tiles = "render plate.yaml -o made.exr --tiles 2 --tiles-in kept";
  ASSERT_EQ(tool(tiles).code, 0);
  ASSERT_EQ(tool("render yard.yaml -o yard.exr --set camera.heading=50").code, 0);
  const Outcome other = tool(tiles);
  EXPECT_EQ(other.code, 2) << other.output << other.errors;
}

}  // namespace
}  // namespace photonlane
