// EXR files for pictures that are put together elsewhere, as the tool writes them and OpenEXR reads
// them: alpha, motion, mattes, several distances a pixel; and plates that have more than the frame.

#include <ImfChannelList.h>
#include <ImfCompositeDeepScanLine.h>
#include <ImfDeepScanLineInputFile.h>
#include <ImfFrameBuffer.h>
#include <ImfHeader.h>
#include <ImfInputFile.h>
#include <ImfOutputFile.h>
#include <ImfStringAttribute.h>
#include <fmt/format.h>
#include <gmock/gmock.h>

#include <cmath>
#include <nlohmann/json.hpp>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

template <class Value>
std::vector<Value> channel(Imf::InputFile& file, const std::string& name, Imf::PixelType type) {
  const Imath::Box2i window = file.header().dataWindow();
  const std::size_t width = static_cast<std::size_t>(window.max.x + 1);
  std::vector<Value> values(width * static_cast<std::size_t>(window.max.y + 1));
  Imf::FrameBuffer buffer;
  buffer.insert(name, Imf::Slice(type, reinterpret_cast<char*>(values.data()), 4, 4 * width));
  file.setFrameBuffer(buffer);
  file.readPixels(window.min.y, window.max.y);
  return values;
}

class HandedOn : public ToolRun {
 protected:
  HandedOn() {
    std::string text = yard_text("Yard", "  frame: {width: 96, height: 60, samples: 4}\n");
    folder.write("yard.yaml", text);
  }
};

TEST_F(HandedOn, HasMattesWithNamesAndAlpha) {
  const Outcome made =
      tool("render yard.yaml -o yard.exr --set frame.backdrop=false --matte material --matte room");
  ASSERT_EQ(made.code, 0) << made.errors;
  Imf::InputFile file((folder.path() + "/yard.exr").c_str());
  const auto* const names =
      file.header().findTypedAttribute<Imf::StringAttribute>("photonlane.matte.material");
  ASSERT_NE(names, nullptr);
  const auto known = nlohmann::json::parse(names->value());
  std::uint32_t floor = 99;
  for (const auto& [number, name] : known.items()) {
    if (name == "floor") floor = static_cast<std::uint32_t>(std::stoi(number));
  }
  ASSERT_NE(floor, 99u);
  const auto alpha = channel<float>(file, "A", Imf::FLOAT);
  std::vector<float> covered(alpha.size(), 0.0f);
  std::size_t of_floor = 0;
  for (int rank = 0; rank < 4; ++rank) {
    const auto ids =
        channel<std::uint32_t>(file, fmt::format("matte.material.{}.id", rank), Imf::UINT);
    const auto shares =
        channel<float>(file, fmt::format("matte.material.{}.share", rank), Imf::FLOAT);
    for (std::size_t i = 0; i < ids.size(); ++i) {
      covered[i] += shares[i];
      of_floor += ids[i] == floor && rank == 0;
      if (shares[i] > 0) EXPECT_TRUE(known.contains(std::to_string(ids[i])));
    }
  }
  EXPECT_GT(of_floor, 1000u);
  for (std::size_t i = 0; i < alpha.size(); ++i) ASSERT_NEAR(alpha[i], covered[i], 1e-5f);
  EXPECT_NE(file.header().channels().findChannel("matte.room.0.id"), nullptr);
  // Our own reader finds its layers, and alpha among them.
  EXPECT_TRUE(io::read_frame(folder.path() + "/yard.exr").has(Layer::alpha));
  // One thing's cover as a picture.
  ASSERT_EQ(tool("render yard.yaml -o floor.png --matte material=floor").code, 0);
  const io::Picture cover = io::read_png(folder.path() + "/floor.png");
  EXPECT_EQ(*cover.pixel(48, 58), 255);
  EXPECT_EQ(*cover.pixel(48, 1), 0);
}

TEST_F(HandedOn, HasMotion) {
  ASSERT_EQ(tool("render yard.yaml -o yard.exr --next-set camera.heading=53.13 --next-set "
                 "camera.eye=-2.9,-4,1.6")
                .code,
            0);
  Frame frame = io::read_frame(folder.path() + "/yard.exr");
  ASSERT_TRUE(frame.has(Layer::motion));
  const io::SceneFile here = io::open_scene({folder.path() + "/yard.yaml", "", {}, {}});
  const io::SceneFile then = io::open_scene(
      {folder.path() + "/yard.yaml", "", {"camera.heading=53.13", "camera.eye=-2.9,-4,1.6"}, {}});
  const Viewing view = viewing(here.camera, {96, 60});
  const Viewing after = viewing(then.camera, {96, 60});
  for (const auto& [x, y] : {std::pair(10, 55), std::pair(48, 40), std::pair(90, 50)}) {
    const double t = static_cast<double>(frame.values(Layer::ray_distance)(x, y));
    const Vec3d place = here.camera.eye + t * view.ray(view.u(x + 0.5), view.v(y + 0.5));
    const auto at = after.pixel(place - then.camera.eye);
    ASSERT_TRUE(at.has_value());
    EXPECT_NEAR(frame.values(Layer::motion, 0)(x, y), at->x() - x - 0.5, 1e-3);
    EXPECT_NEAR(frame.values(Layer::motion, 1)(x, y), at->y() - y - 0.5, 1e-3);
  }
  // As a picture, and with another file.
  folder.write("next.yaml", yard_text("Next", "  frame: {width: 96, height: 60, samples: 4}\n"));
  ASSERT_EQ(tool("render yard.yaml -o motion.png --layer motion --next next.yaml --no-legend").code,
            0);
  EXPECT_EQ(io::read_png(folder.path() + "/motion.png").size.width, 96);
}

TEST_F(HandedOn, HasSeveralDistancesThatOpenExrLaysTogether) {
  ASSERT_EQ(tool("render yard.yaml -o flat.exr").code, 0);
  const Outcome made = tool("render yard.yaml -o deep.exr --deep");
  ASSERT_EQ(made.code, 0) << made.errors;
  EXPECT_THAT(made.output, HasSubstr("a pixel"));
  const Frame flat = io::read_frame(folder.path() + "/flat.exr");
  Imf::DeepScanLineInputFile file((folder.path() + "/deep.exr").c_str());
  Imf::CompositeDeepScanLine composite;
  composite.addSource(&file);
  std::vector<float> colors[4];
  Imf::FrameBuffer buffer;
  const char* const names[] = {"R", "G", "B", "A"};
  for (int c = 0; c < 4; ++c) {
    colors[c].assign(96 * 60, 0.0f);
    buffer.insert(names[c],
                  Imf::Slice(Imf::FLOAT, reinterpret_cast<char*>(colors[c].data()), 4, 4 * 96));
  }
  composite.setFrameBuffer(buffer);
  composite.readPixels(0, 59);
  for (int y = 0; y < 60; ++y) {
    for (int x = 0; x < 96; ++x) {
      const auto i = static_cast<std::size_t>(96 * y + x);
      for (int c = 0; c < 3; ++c) {
        ASSERT_NEAR(colors[c][i], flat.values(Layer::color, c)(x, y), 1e-4f) << x << " " << y;
      }
      ASSERT_NEAR(colors[3][i], 1, 1e-4f);
    }
  }
  // It is no flat picture.
  EXPECT_THAT(refused("compare deep.exr flat.exr"), HasSubstr("flat picture"));
}

TEST_F(HandedOn, RefusesWhatDoesNotGoTogether) {
  EXPECT_THAT(refused("render yard.yaml -o a.exr --matte leaf"), HasSubstr("no such kind"));
  EXPECT_THAT(refused("render yard.yaml -o a.exr --matte material=floor"), HasSubstr("KIND=NAME"));
  EXPECT_THAT(refused("render yard.yaml -o a.png --matte material"), HasSubstr("KIND=NAME"));
  EXPECT_THAT(refused("render yard.yaml -o a.png --matte material=flor"), HasSubstr("floor"));
  EXPECT_THAT(refused("render yard.yaml -o a.exr --matte material --matte material"),
              HasSubstr("two mattes"));
  EXPECT_THAT(refused("render yard.yaml -o a.exr --matte room --matte-ranks 99"),
              HasSubstr("99 ranks"));
  EXPECT_THAT(refused("render yard.yaml -o a.exr --matte room --tiles 4"), HasSubstr("--tiles"));
  EXPECT_THAT(refused("render yard.yaml -o a.png --next yard.yaml"), HasSubstr("--layer motion"));
  EXPECT_THAT(refused("render yard.yaml -o a.png --layer motion"), HasSubstr("--next"));
  EXPECT_THAT(refused("render yard.yaml -o a.exr --next missing.yaml"), HasSubstr("missing.yaml"));
  EXPECT_THAT(refused("render yard.yaml -o a.exr --next-set camera.eyes=1"), HasSubstr("eyes"));
  EXPECT_THAT(refused("render yard.yaml -o a.png --deep"), HasSubstr(".exr"));
  EXPECT_THAT(refused("render yard.yaml -o a.exr --deep --matte room"), HasSubstr("--deep"));
  EXPECT_THAT(refused("render yard.yaml -o a.png --layer alpha"), HasSubstr("backdrop"));
}

/// A frame's color and depth as an EXR file whose display window is a part of it.
void write_with_margin(const Frame& frame, const std::string& path, int margin) {
  const Imath::Box2i data({-margin, -margin},
                          {frame.size().width - margin - 1, frame.size().height - margin - 1});
  const Imath::Box2i shown(
      {0, 0}, {frame.size().width - 2 * margin - 1, frame.size().height - 2 * margin - 1});
  Imf::Header header(shown, data);
  Imf::FrameBuffer buffer;
  const auto add = [&](const char* name, Layer layer, int index) {
    header.channels().insert(name, Imf::Channel(Imf::FLOAT));
    const auto plane = frame.values(layer, index);
    buffer.insert(name, Imf::Slice::Make(Imf::FLOAT, plane.data, data, 4,
                                         static_cast<std::size_t>(plane.stride) * 4));
  };
  add("R", Layer::color, 0);
  add("G", Layer::color, 1);
  add("B", Layer::color, 2);
  add("Z", Layer::depth, 0);
  Imf::OutputFile file(path.c_str(), header);
  file.setFrameBuffer(buffer);
  file.writePixels(frame.size().height);
}

TEST_F(HandedOn, PlatesTakeWhatLiesAroundTheFrameAsWell) {
  // A frame of 120x84 pixels, of which the middle 96x60 are the picture.
  io::SceneFile yard = io::open_scene({folder.path() + "/yard.yaml", "", {}, {}});
  const Camera camera = yard.camera;
  yard.budget.frame.samples = 1;
  const PixelPart wide{-12, -12, {120, 84}};
  Budget budget = yard.budget;
  budget.frame.width = 120;
  budget.frame.height = 84;
  const World world = compile(yard.scene);
  const Frame made = render(world, part_camera(camera, {96, 60}, wide), budget,
                            {.layers = {Layer::color, Layer::depth}});
  write_with_margin(made, folder.path() + "/plate.exr", 12);
  folder.write("plate.yaml",
               "camera: {eye: [-3, -4, 1.6], look_at: [0, 0, 0.5]}\n"
               "room: {solids: [{plate: {color: plate.exr, depth: {file: plate.exr}, camera: {eye: "
               "[-3, -4, 1.6], look_at: [0, 0, 0.5]}, "
               "marks: [[48, 30, 0, 0, 0.5]]}}]}\n"
               "budget: {frame: {width: 96, height: 60}}\n");
  const io::SceneFile plate = io::open_scene({folder.path() + "/plate.yaml", "", {}, {}});
  const World shown = compile(plate.scene);
  // Through the frame's camera it is the picture; through one that sees more, what lies around.
  const Frame frame = render(shown, plate.camera, plate.budget, {.layers = {Layer::color}});
  const Frame more =
      render(shown, part_camera(camera, {96, 60}, wide), budget, {.layers = {Layer::color}});
  for (int c = 0; c < 3; ++c) {
    for (int y = 0; y < 84; ++y) {
      for (int x = 0; x < 120; ++x) {
        const float expected = made.values(Layer::color, c)(x, y);
        // As plates keep colors: nine bits of the largest.
        const float slack = 4e-3f * std::max(1.0f, made.values(Layer::color, 0)(x, y));
        ASSERT_NEAR(more.values(Layer::color, c)(x, y), expected, slack) << x << " " << y;
        if (x < 12 || y < 12 || x >= 108 || y >= 72) continue;
        ASSERT_NEAR(frame.values(Layer::color, c)(x - 12, y - 12), expected, slack);
      }
    }
  }
  const auto& part = dynamic_cast<const Plate&>(*plate.scene.rooms[0].parts[0]);
  EXPECT_EQ(part.frame, (Size{96, 60}));
  EXPECT_EQ(part.marks[0].x, 60);
  EXPECT_TRUE(find_plate_faults(part).empty());
}

TEST_F(HandedOn, PlatesTakeMasksAndNormals) {
  ASSERT_EQ(tool("render yard.yaml -o yard.exr --set frame.samples=1").code, 0);
  // The mask is a layer of our own: what lies nearer than 4 m counts 1, as the color's red does
  // not.
  const Frame made = io::read_frame(folder.path() + "/yard.exr");
  Frame mask(made.size(), {Layer::color});
  for (int y = 0; y < 60; ++y) {
    for (int x = 0; x < 96; ++x) {
      mask.values(Layer::color, 0)(x, y) = x < 40 ? 1.0f : x < 48 ? 0.25f : 0.0f;
      mask.values(Layer::color, 1)(x, y) = mask.values(Layer::color, 2)(x, y) = 0;
    }
  }
  io::write_frame(folder.path() + "/mask.exr", mask);
  const auto scene = [&](const std::string& more) {
    folder.write(
        "plate.yaml",
        "camera: {eye: [-3, -4, 1.6], look_at: [0, 0, 0.5]}\n"
        "room: {fog: {start: 1e4, end: 2e4, color: [0, 0, 1]}, solids: [{plate: {color: "
        "yard.exr, depth: {file: yard.exr}, camera: {eye: [-3, -4, 1.6], look_at: [0, 0, 0.5]}" +
            more +
            "}}]}\n"
            "budget: {frame: {width: 96, height: 60}}\n");
    const io::SceneFile file = io::open_scene({folder.path() + "/plate.yaml", "", {}, {}});
    // What is written back says the same.
    folder.write("again.yaml", io::scene_text(file));
    const io::SceneFile again = io::open_scene({folder.path() + "/again.yaml", "", {}, {}});
    const LayerSet layers{Layer::color, Layer::normal};
    Frame frame = render(compile(file.scene), file.camera, file.budget, {.layers = layers});
    const Frame second =
        render(compile(again.scene), again.camera, again.budget, {.layers = layers});
    EXPECT_EQ(compare(frame, second).rmse, 0) << more;
    return frame;
  };
  const Frame masked = scene(", mask: mask.exr");
  const Frame turned = scene(", mask: {file: mask.exr, channel: R, inverted: true}");
  for (const int x : {5, 30, 44, 60, 90}) {
    const int y = 50;
    const float taken = x < 40 ? 1.0f : x < 48 ? 0.25f : 0.0f;
    for (int c = 0; c < 3; ++c) {
      const float own = made.values(Layer::color, c)(x, y);
      const float behind = c == 2 ? 1.0f : 0.0f;
      EXPECT_NEAR(masked.values(Layer::color, c)(x, y), taken * own + (1 - taken) * behind, 4e-3f)
          << x;
      EXPECT_NEAR(turned.values(Layer::color, c)(x, y), (1 - taken) * own + taken * behind, 4e-3f)
          << x;
    }
  }
  // The same along the camera's axes: right, up, and toward the eye.
  Frame own(made.size(), {Layer::normal});
  const Viewing view = viewing(Camera::look_at({-3, -4, 1.6}, {0, 0, 0.5}, 1), made.size());
  for (int y = 0; y < 60; ++y) {
    for (int x = 0; x < 96; ++x) {
      const Vec3d normal(made.values(Layer::normal, 0)(x, y), made.values(Layer::normal, 1)(x, y),
                         made.values(Layer::normal, 2)(x, y));
      own.values(Layer::normal, 0)(x, y) = static_cast<float>(normal.dot(view.right));
      own.values(Layer::normal, 1)(x, y) = static_cast<float>(normal.dot(view.up));
      own.values(Layer::normal, 2)(x, y) = static_cast<float>(-normal.dot(view.forward));
    }
  }
  io::write_frame(folder.path() + "/own.exr", own);
  for (const char* normals : {", normals: yard.exr", ", normals: {file: own.exr, of_view: true}"}) {
    const Frame faced = scene(normals);
    for (int y = 3; y < 60; ++y) {
      for (int x = 0; x < 96; ++x) {
        if (!std::isfinite(made.values(Layer::depth)(x, y))) continue;
        for (int c = 0; c < 3; ++c) {
          ASSERT_NEAR(faced.values(Layer::normal, c)(x, y), made.values(Layer::normal, c)(x, y),
                      2e-3f)
              << normals << " " << x << " " << y;
        }
      }
    }
  }
  EXPECT_THAT(refused("check plate.yaml --set scene.nothing=1"), HasSubstr("nothing"));
  folder.write("bad.yaml",
               "room: {solids: [{plate: {color: yard.exr, depth: {file: yard.exr}, camera: {}, "
               "normals: {file: yard.exr, channels: [A, B]}}}]}\n");
  EXPECT_THAT(refused("check bad.yaml"), HasSubstr("three channels"));
  folder.write("bad.yaml",
               "room: {solids: [{plate: {color: yard.exr, depth: {file: yard.exr}, camera: {}, "
               "mask: {channel: R}}}]}\n");
  EXPECT_THAT(refused("check bad.yaml"), HasSubstr("mask without a file"));
}

}  // namespace
}  // namespace photonlane
