// What a user wrote is text, never code, and no larger than it is believed to be.

#include <fmt/format.h>
#include <gmock/gmock.h>
#include <sys/stat.h>

#include <cmath>
#include <cstring>
#include <thread>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/files.hpp"

namespace photonlane {
namespace {

using test::TemporaryFolder;
using ::testing::ContainsRegex;
using ::testing::HasSubstr;

/// Texts that mean something to a shell, to gnuplot, to a terminal, to YAML, JSON or CSV.
const std::vector<std::string> nasty{"`touch broken-in`",
                                     "'; system('touch broken-in'); '",
                                     "\"; system('touch broken-in')\n",
                                     "$(touch broken-in)",
                                     "@x ${x} {/Symbol a}_b^c",
                                     "'",
                                     "''",
                                     "\\",
                                     "\\'",
                                     "a\nb",
                                     "\x1b[31mred\x1b[0m",
                                     std::string("zero\0byte", 9),
                                     "caf\xc3\xa9 \xe2\x80\xae reversed",
                                     "\"quoted\" # not: a, comment",
                                     "- {a: [1]}",
                                     "%s%n %d",
                                     "|touch broken-in",
                                     "< touch broken-in"};

template <class Work>
std::string refusal(const Work& work) {
  try {
    work();
  } catch (const Error& error) {
    return error.what();
  }
  return "nothing refused";
}

Sweep two_settings(const std::string& knob, const std::string& value) {
  Sweep sweep;
  sweep.knobs = {"plane.iterations", knob};
  sweep.metric = "rmse";
  for (int i = 0; i < 6; ++i) {
    Setting setting;
    setting.values = {std::to_string(100 + i / 2), i % 2 == 0 ? value : "other"};
    setting.total_ms.median = 1 + i;
    setting.error.rmse = 0.1 / (1 + i);
    setting.on_front = true;
    sweep.settings.push_back(setting);
  }
  return sweep;
}

TEST(Hostile, GnuplotRunsNothingOfATitle) {
  for (const std::string& text : nasty) {
    const TemporaryFolder folder;
    const auto before = std::filesystem::current_path();
    std::filesystem::current_path(folder.path());
    const io::SweepFiles files = io::write_sweep("out", two_settings("made up", text), text);
    std::filesystem::current_path(before);
    EXPECT_EQ(files.problem, "") << text;
    EXPECT_EQ(folder.names(), std::set<std::string>{"out"}) << text;
    EXPECT_EQ(folder.read("out/cost-error.png").substr(1, 3), "PNG") << text;
    EXPECT_EQ(folder.read("out/lines.png").substr(1, 3), "PNG") << text;
  }
}

TEST(Hostile, FoldersOfAnyNameAreFolders) {
  for (const char* name :
       {"|touch broken-in", "< touch broken-in", "-e", "`touch broken-in`", "a b'c"}) {
    const TemporaryFolder folder;
    const auto before = std::filesystem::current_path();
    std::filesystem::current_path(folder.path());
    const io::SweepFiles files = io::write_sweep(name, two_settings("made up", "1"), "plain");
    std::filesystem::current_path(before);
    EXPECT_EQ(files.problem, "") << name;
    EXPECT_EQ(folder.names(), std::set<std::string>{name}) << name;
    EXPECT_EQ(folder.read(std::string(name) + "/cost-error.png").substr(1, 3), "PNG") << name;
  }
}

TEST(Hostile, MessagesShowTextOnOneLine) {
  for (const std::string& text : nasty) {
    const std::string message = Error(ErrorKind::input, text, Place{text, 3, 4}).what();
    for (const char c : message) {
      EXPECT_FALSE(static_cast<unsigned char>(c) < 0x20) << message;
    }
    EXPECT_EQ(find_invalid_utf8(message), std::nullopt);
  }
  EXPECT_EQ(one_line("a\nb\x1b[0m\xff\xe2\x80\xae"), "a\\nb\\x1b[0m\\xff\\u202e");
  EXPECT_EQ(one_line("caf\xc3\xa9"), "caf\xc3\xa9");
  EXPECT_THAT(refusal([] { io::parse_scene("camera: {\"a\\nb\": 1}\nroom: {}\n", "s.yaml"); }),
              HasSubstr("s.yaml:1:10: no such key 'a\\nb'"));
}

TEST(Hostile, Utf8IsWhatTheStandardSays) {
  // Overlong, surrogates, past the last one, cut off.
  for (const char* bad : {"\x80", "\xc0\x80", "\xe0\x9f\xbf", "\xed\xa0\x80", "\xf0\x8f\xbf\xbf",
                          "\xf4\x90\x80\x80", "\xf5\x80\x80\x80", "\xe2\x82", "\xc3"}) {
    EXPECT_EQ(find_invalid_utf8(std::string("ab") + bad), 2u) << bad;
  }
  for (const char* good : {"", "a", "\xc2\x80", "\xe0\xa0\x80", "\xed\x9f\xbf", "\xee\x80\x80",
                           "\xf0\x90\x80\x80", "\xf4\x8f\xbf\xbf"}) {
    EXPECT_EQ(find_invalid_utf8(good), std::nullopt) << good;
  }
  EXPECT_THAT(refusal([] { io::parse_scene("title: caf\xe9\nroom: {}\n", "s.yaml"); }),
              HasSubstr("s.yaml:1:8: 'caf\\xe9' is not UTF-8 from its byte 4 on"));
}

TEST(Hostile, ScenesWithAnyNamesAreWrittenAndReadBack) {
  for (const std::string& text : nasty) {
    if (text.find('\0') != text.npos) continue;  // YAML has no such character
    io::SceneFile file;
    file.scene.title = text;
    const Cell wall = file.scene.wall({}, text);
    file.scene.rooms.clear();
    Room& room = file.scene.add_room(text);
    room.add(field::made_of(static_cast<int>(material_of(wall)), field::sphere(1)));
    Room& other = file.scene.add_room("other");
    other.add(field::sphere(1));
    Portal portal;
    portal.name = text;
    portal.opening = {.width = 1, .height = 1};
    portal.stance.at = {0, 5, 0};
    portal.to = PortalTarget{.room = text};
    other.portals.push_back(portal);
    file.camera.room = text;
    file.camera.eye = {0, -5, 0};
    const io::SceneFile again = io::parse_scene(io::scene_text(file), "again.yaml");
    EXPECT_EQ(again.scene.title, text);
    EXPECT_EQ(again.scene.material_names, file.scene.material_names);
    EXPECT_EQ(again.scene.rooms[0].name, text);
    EXPECT_EQ(again.camera.room, text);
    EXPECT_EQ(again.scene.rooms[1].portals[0].name, text);
    EXPECT_EQ(again.scene.rooms[1].portals[0].to->room, text);
    EXPECT_EQ(again.scene.rooms[0].fields[0].material(), 0);
  }
  io::SceneFile file;
  file.scene.title = "caf\xe9";
  EXPECT_THAT(refusal([&] { io::scene_text(file); }), HasSubstr("not UTF-8"));
}

TEST(Hostile, AliasesOfAliasesAreCounted) {
  std::string text =
      "camera: {eye: [3, 0, 0]}\nroom:\n  solids:\n    - field: &a0 {sphere: {radius: 0.1}}\n";
  for (int i = 1; i <= 30; ++i) {
    text += fmt::format("    - field: &a{} {{join: {{of: [*a{}, *a{}, *a{}]}}}}\n", i, i - 1, i - 1,
                        i - 1);
  }
  EXPECT_THAT(refusal([&] { io::parse_scene(text, "aliases.yaml"); }),
              ContainsRegex("aliases.yaml:1[0-9]:[0-9]+: a field of [0-9]+ shapes and operations, "
                            "each counted as often as it stands in it, expected at most 1000000"));
}

TEST(Hostile, SharedFieldsAreCompiledOnce) {
  Field field = field::place({0.1, 0, 0}, field::sphere(0.5));
  std::size_t instructions = 0;
  for (int i = 0; i < 16; ++i) {
    field = field::join({field, field});
    const std::size_t now = CompiledField(field).instruction_count();
    if (i == 0) instructions = now;
    EXPECT_LE(now, instructions + 2 * static_cast<std::size_t>(i)) << "as many joins more at most";
  }
  EXPECT_EQ(field.node_count(), 3u * 65536 - 1);
  EXPECT_NEAR(CompiledField(field).distance({0.1, 0, 2}), 1.5, 1e-12);
  EXPECT_THAT(refusal([&] {
                for (int i = 0; i < 24; ++i) field = field::join({field, field});
              }),
              HasSubstr("expected at most 1000000"));
}

TEST(Hostile, IteratesWithinIteratesAreCounted) {
  Field field = field::sphere(0.1);
  EXPECT_THAT(refusal([&] {
                for (int i = 0; i < 4; ++i) {
                  field = field::iterate(1000, {steps::mirror(SpaceAxis::x)}, field, FoldKeep::all);
                }
              }),
              HasSubstr("times they are iterated"));
}

/// A PNG of one color, larger than it looks: its pixels are zeros that deflate to next to nothing.
std::string flat_png(int side, const TemporaryFolder& folder) {
  const std::string path = folder.path() + "/flat.png";
  io::write_png(path, io::Picture(Size{side, side}));
  return path;
}

TEST(Hostile, PicturesHaveLimits) {
  const TemporaryFolder folder;
  const std::string path = flat_png(5000, folder);
  EXPECT_LT(std::filesystem::file_size(path), 1'000'000u);
  EXPECT_THAT(refusal([&] { io::read_heights(path); }),
              HasSubstr("picture of 5000x5000 pixels, expected at most 16777216 pixels"));
  EXPECT_THAT(refusal([&] { io::read_png(path, 1000); }),
              HasSubstr("expected at most 1000 pixels"));
  const std::string scene = R"(
textures:
  a: {width: 8192, height: 8192}
  b: {width: 8192, height: 8192}
  c: {width: 1, height: 1}
room: {solids: [{field: {sphere: }}]}
)";
  EXPECT_THAT(refusal([&] { io::parse_scene(scene, "s.yaml"); }),
              HasSubstr("s.yaml:5:6: with this one the textures have 134217729 texels together, "
                        "expected at most 134217728"));
  EXPECT_THAT(
      refusal([&] { io::parse_scene("textures: {a: {file: /dev/zero}}\nroom: {}\n", "s.yaml"); }),
      HasSubstr("is a device, expected a file"));
  folder.write("text.png", "not a picture at all");
  EXPECT_THAT(refusal([&] { io::read_png(folder.path() + "/text.png"); }),
              HasSubstr("text.png: is not a PNG file"));
}

/// A small EXR picture, and where in its head an attribute's value begins.
struct SmallExr {
  explicit SmallExr(const TemporaryFolder& folder) {
    Frame frame(Size{4, 3}, {Layer::color});
    for (int channel = 0; channel < 3; ++channel) {
      for (int y = 0; y < 3; ++y) {
        for (int x = 0; x < 4; ++x)
          frame.values(Layer::color, channel)(x, y) = 0.1f * static_cast<float>(x + y);
      }
    }
    io::write_frame(folder.path() + "/small.exr", frame);
    bytes = folder.read("small.exr");
  }
  std::size_t value_of(const std::string& name) const {
    // Name, type and their ends, and the length.
    const auto at = bytes.find(name + '\0') + name.size() + 1;
    return bytes.find('\0', at) + 5;
  }
  void set(const std::string& name, std::array<std::int32_t, 4> box) {
    std::memcpy(bytes.data() + value_of(name), box.data(), sizeof(box));
  }
  std::string bytes;
};

TEST(Hostile, ExrWindowsAreLookedAtBeforeAnythingIsRead) {
  const TemporaryFolder folder;
  const SmallExr whole(folder);
  const auto read = [&](const SmallExr& exr) {
    return refusal([&] { io::read_frame(folder.write("a.exr", exr.bytes)); });
  };
  EXPECT_EQ(read(whole), "nothing refused");
  for (const auto& box : {std::array{0, 0, 99'999'999, 99}, std::array{0, 0, 2'147'483'647, 0},
                          std::array{-2'147'483'647, 0, 2'147'483'647, 2}, std::array{5, 0, 3, 2},
                          std::array{0, -2'147'483'647 - 1, 0, 2'147'483'647}}) {
    SmallExr exr = whole;
    exr.set("dataWindow", box);
    EXPECT_THAT(read(exr), HasSubstr("a.exr: a data window of ")) << box[0];
    exr = whole;
    exr.set("displayWindow", box);
    EXPECT_THAT(read(exr), HasSubstr("a.exr: a display window of ")) << box[0];
  }
  // Far away, but as large as it was: the same pixels.
  SmallExr far = whole;
  far.set("dataWindow", {2'000'000'000, -1'000'000'000, 2'000'000'003, -999'999'998});
  far.set("displayWindow", {2'000'000'000, -1'000'000'000, 2'000'000'003, -999'999'998});
  EXPECT_THAT(read(far), ::testing::AnyOf("nothing refused", HasSubstr("damaged")));
  // Cut off anywhere it is refused, and nothing else happens.
  for (std::size_t size = 0; size < whole.bytes.size(); size += 7) {
    SmallExr cut = whole;
    cut.bytes.resize(size);
    EXPECT_THAT(read(cut), HasSubstr("a.exr: ")) << size;
  }
}

TEST(Hostile, ExrWindowsMeanOneThing) {
  // A library that takes another window than was looked at would write outside the frame.
  const TemporaryFolder folder;
  const SmallExr whole(folder);
  for (const std::string name : {"dataWindow", "displayWindow"}) {
    SmallExr other = whole;
    other.bytes[whole.value_of(name) - 4 - 1 - std::string("2i").size()] = '3';
    EXPECT_THAT(refusal([&] { io::read_frame(folder.write("a.exr", other.bytes)); }),
                HasSubstr("a.exr: has a " + name + " that is no box2i"));
    const auto attribute = [&](std::array<std::int32_t, 4> box) {
      const std::int32_t length = sizeof(box);
      return name + '\0' + "box2i" + '\0' +
             std::string(reinterpret_cast<const char*>(&length), sizeof(length)) +
             std::string(reinterpret_cast<const char*>(box.data()), sizeof(box));
    };
    const auto first_attribute = std::size_t{8};
    const auto last_attribute = whole.bytes.find("screenWindowWidth");
    for (const std::size_t at : {first_attribute, last_attribute}) {
      for (const auto& box : {std::array{0, 0, 63, 63}, std::array{0, 0, 0, 0}}) {
        SmallExr twice = whole;
        twice.bytes.insert(at, attribute(box));
        EXPECT_THAT(refusal([&] { io::read_frame(folder.write("a.exr", twice.bytes)); }),
                    HasSubstr("a.exr: "))
            << name << " at " << at;
      }
    }
  }
}

TEST(Hostile, ExrOutsideItsDisplayWindowIsPlaced) {
  const TemporaryFolder folder;
  SmallExr exr(folder);
  // The picture is larger than what there are pixels for, and begins elsewhere.
  exr.set("displayWindow", {-1, -1, 2, 3});
  const Frame frame = io::read_frame(folder.write("a.exr", exr.bytes));
  EXPECT_EQ(frame.size(), (Size{4, 5}));
  const auto red = frame.values(Layer::color, 0);
  EXPECT_EQ(red(0, 0), 0);
  EXPECT_EQ(red(0, 2), 0);
  EXPECT_FLOAT_EQ(red(1, 1), 0);
  EXPECT_FLOAT_EQ(red(3, 3), 0.4f);
  EXPECT_EQ(red(3, 4), 0);
}

TEST(Hostile, ExrOfASmallPartOfALargePictureIsRead) {
  // A kilobyte that is all a crop of a few pixels takes.
  const TemporaryFolder folder;
  SmallExr exr(folder);
  exr.set("displayWindow", {0, 0, 4095, 4095});
  const Frame frame = io::read_frame(folder.write("a.exr", exr.bytes));
  EXPECT_EQ(frame.size(), (Size{4096, 4096}));
  EXPECT_FLOAT_EQ(frame.values(Layer::color, 0)(2, 2), 0.4f);
  EXPECT_EQ(frame.values(Layer::color, 0)(4095, 4095), 0);
}

TEST(Hostile, WhatIsNoNumberIsNeverEqual) {
  Frame good(Size{4, 3}, {Layer::color, Layer::depth});
  for (int y = 0; y < 3; ++y) {
    for (int x = 0; x < 4; ++x) {
      for (int channel = 0; channel < 3; ++channel) good.values(Layer::color, channel)(x, y) = 0.5f;
      good.values(Layer::depth)(x, y) = std::numeric_limits<float>::infinity();
    }
  }
  EXPECT_EQ(compare(good, good).rmse, 0);
  for (const float bad : {std::nanf(""), std::numeric_limits<float>::infinity()}) {
    Frame wrong = good;
    wrong.values(Layer::color, 1)(2, 1) = bad;
    wrong.values(Layer::color, 2)(3, 1) = bad;
    EXPECT_THAT(refusal([&] { compare(wrong, good); }),
                HasSubstr("the picture: the color of 2 of 12 pixels is not a number"));
    EXPECT_THAT(refusal([&] { compare(good, wrong); }), HasSubstr("the reference: the color of 2"));
  }
  Frame deep = good;
  deep.values(Layer::depth)(0, 0) = std::nanf("");
  EXPECT_THAT(refusal([&] { compare(deep, good); }), HasSubstr("the depth of 1 of 12 pixels"));
}

TEST(Hostile, MisuseInCppIsTold) {
  EXPECT_THAT(refusal([] { compare(Frame(), Frame()); }), HasSubstr("frames without pixels"));
  Scene scene;
  const LegendLetter legend[] = {{U'#', scene.wall({})}};
  CellMap map = draw_cells("#####\n#...#\n#####", legend);
  CellForm form;
  form.height = 0.5;
  for (const auto& [x, y] : {std::pair{5, 0}, {0, 3}, {-1, 0}, {0, -1}, {1'000'000, 1'000'000}}) {
    EXPECT_THAT(refusal([&, x = x, y = y] { map.set_form(x, y, form); }),
                HasSubstr("no cell at column"));
    EXPECT_THAT(refusal([&, x = x, y = y] { map.set_form(x, y, std::nullopt); }),
                HasSubstr("no cell at column"));
  }
  scene.room().add(map);
  World world = compile(scene);
  const CellEdit change{1, 1, empty_cell};
  EXPECT_THAT(refusal([&] {
                edit(world, {&change, 1}, 7);
              }),
              HasSubstr("no room 7 in a world of 1"));
  World moved = std::move(world);
  EXPECT_THAT(refusal([&] { render(world, {}, {}); }), HasSubstr("a world that was moved from"));
  EXPECT_THAT(refusal([&] { world.rooms(); }), HasSubstr("a world that was moved from"));
  Budget budget;
  for (const int value : {99, 100'000'000, -1}) {
    budget.cells.method = static_cast<CellMethod>(value);
    EXPECT_THAT(refusal([&] {
                  render(moved, {.eye = {1.5, 1.5, 1}}, budget);
                }),
                HasSubstr("cells.method"));
  }
  Frame frame(Size{2, 2}, {Layer::color});
  EXPECT_THAT(refusal([&] { frame.values(static_cast<Layer>(77)); }),
              HasSubstr("no layer has number 77"));
  EXPECT_THAT(refusal([&] { frame.codes(Layer::steps); }), HasSubstr("no codes in layer steps"));
  Field field = field::sphere(1);
  const Field taken = std::move(field);
  EXPECT_THAT(refusal([&] { field.kind(); }), HasSubstr("a field that was moved from"));
  EXPECT_THAT(refusal([&] { CompiledField{field}; }), HasSubstr("a field that was moved from"));
  EXPECT_THAT(refusal([&] { Field(static_cast<FieldKind>(1000), {1}); }),
              HasSubstr("no kind of field has number 1000"));
}

TEST(Output, KeepsModesAndLinksAndAnyNames) {
  const TemporaryFolder folder;
  const io::Picture picture(Size{3, 2});
  const std::string path = folder.write("a.png", "old");
  chmod(path.c_str(), 0640);
  io::write_png(path, picture);
  struct stat status {};
  ASSERT_EQ(stat(path.c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 0777, 0640u);
  // A link stays one, and what it leads to is replaced.
  std::filesystem::create_directory(folder.path() + "/elsewhere");
  std::filesystem::create_symlink("elsewhere/b.png", folder.path() + "/b.png");
  io::write_png(folder.path() + "/b.png", picture);
  EXPECT_TRUE(std::filesystem::is_symlink(folder.path() + "/b.png"));
  EXPECT_EQ(folder.read("elsewhere/b.png"), folder.read("a.png"));
  // As long a name as a file may have.
  const std::string longest = std::string(251, 'x') + ".png";
  io::write_png(folder.path() + "/" + longest, picture);
  EXPECT_EQ(folder.read(longest), folder.read("a.png"));
  EXPECT_EQ(folder.names(), (std::set<std::string>{"a.png", "b.png", "elsewhere", longest}));
}

TEST(Output, ThreadsDoNotTakeOneAnothersFiles) {
  const TemporaryFolder folder;
  const std::string path = folder.path() + "/same.png";
  std::vector<std::thread> threads;
  for (int i = 0; i < 8; ++i) {
    threads.emplace_back([&, i] {
      io::Picture picture(Size{64, 64});
      std::fill(picture.bytes.begin(), picture.bytes.end(), static_cast<std::uint8_t>(30 * i));
      for (int k = 0; k < 20; ++k) io::write_png(path, picture);
    });
  }
  for (std::thread& thread : threads) thread.join();
  // Whoever was last, all of it is his.
  const io::Picture last = io::read_png(path);
  EXPECT_EQ(std::set<std::uint8_t>(last.bytes.begin(), last.bytes.end()).size(), 1u);
  EXPECT_EQ(folder.names(), std::set<std::string>{"same.png"});
}

TEST(Output, IsLookedAtBeforeTheWork) {
  const TemporaryFolder folder;
  const std::string base = folder.path() + "/";
  EXPECT_EQ(refusal([&] {
              io::check_output(base + "a.png", {".png", ".exr"});
            }),
            "nothing refused");
  EXPECT_EQ(refusal([&] {
              io::check_output(base + "A.EXR", {".png", ".exr"});
            }),
            "nothing refused");
  EXPECT_THAT(refusal([&] {
                io::check_output(base + "a.jpg", {".png", ".exr"});
              }),
              HasSubstr("a.jpg: expected a name that ends in .png or .exr"));
  EXPECT_THAT(refusal([&] { io::check_output(base + "no/a.png", {".png"}); }),
              HasSubstr("cannot be written: No such file or directory"));
  folder.write("file", "");
  EXPECT_THAT(refusal([&] { io::check_output(base + "file/a.png", {".png"}); }),
              HasSubstr("cannot be written: Not a directory"));
  std::filesystem::create_directory(base + "folder.png");
  EXPECT_THAT(refusal([&] { io::check_output(base + "folder.png", {".png"}); }),
              HasSubstr("is a folder, expected a file"));
  EXPECT_THAT(refusal([&] {
                io::write_png(base + "folder.png", io::Picture(Size{1, 1}));
              }),
              HasSubstr("is a folder, expected a file"));
  EXPECT_THAT(refusal([&] { io::check_output(base + std::string(300, 'x') + ".png", {".png"}); }),
              HasSubstr("File name too long"));
}

TEST(Output, FoldersLoseTheNumberedFilesOfEarlierRuns) {
  const TemporaryFolder folder;
  for (const char* name : {"frame-1.png", "frame-00002.png", "frame-.png", "frame-x.png",
                           "my-frame-1.png", "frame-3.exr"}) {
    folder.write(name, "");
  }
  io::OutputFolder(folder.path()).remove_numbered("frame-", ".png");
  EXPECT_EQ(folder.names(),
            (std::set<std::string>{"frame-.png", "frame-x.png", "my-frame-1.png", "frame-3.exr"}));
}

}  // namespace
}  // namespace photonlane
