// Spheres from files of every kind and damage, files of sets that are used as they lie, and the
// commands that make them.

#include <gmock/gmock.h>
#include <signal.h>

#include <bit>
#include <cmath>
#include <cstring>

#include "photonlane/base/random.hpp"
#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using test::TemporaryFolder;
using ::testing::HasSubstr;

/// What is in all the files: a number each, so that any order can be undone.
struct Grain {
  float x, y, z, radius;
  int red, green, blue, kind;
};
Grain grain(int i) {
  const auto draw = [&](std::uint32_t d) {
    return random_uniform({.seed = 21, .pixel = static_cast<std::uint64_t>(i)}, d);
  };
  return {static_cast<float>(i), 40 * draw(1) - 20, 3 * draw(2), 0.01f + 0.1f * draw(3), i % 256,
          (7 * i) % 256,         (i * i) % 256,     i % 4};
}

template <class Value>
void add(std::string& bytes, Value value, bool turned) {
  char raw[sizeof(Value)];
  std::memcpy(raw, &value, sizeof(Value));
  if (turned) std::reverse(raw, raw + sizeof(Value));
  bytes.append(raw, sizeof(Value));
}

/// A PLY with other things before, between and behind.
std::string ply(int count, const std::string& format, int told, bool behind) {
  std::string text =
      "ply\nformat " + format + " 1.0\ncomment made up\nelement site 2\nproperty double a\n" +
      fmt::format("element vertex {}\n", told) +
      "property float x\nproperty double y\nproperty uchar unused\nproperty float z\n"
      "property float size\nproperty uchar red\nproperty uchar green\nproperty uchar "
      "blue\nproperty short material\n";
  if (behind) text += "element face 1\nproperty list uchar int vertex_indices\n";
  text += "end_header\n";
  const bool turned = format == "binary_big_endian";
  if (format == "ascii") {
    text += "0.5\n-7\n";
    for (int i = 0; i < count; ++i) {
      const Grain g = grain(i);
      text += fmt::format("{} {}  9 {}\t{} {} {} {} {}\n", g.x, static_cast<double>(g.y),
                          static_cast<double>(g.z), static_cast<double>(g.radius), g.red, g.green,
                          g.blue, g.kind);
    }
    if (behind) text += "3 0 1 2\n";
    return text;
  }
  add(text, 0.5, turned);
  add(text, -7.0, turned);
  for (int i = 0; i < count; ++i) {
    const Grain g = grain(i);
    add(text, g.x, turned);
    add(text, static_cast<double>(g.y), turned);
    add(text, std::uint8_t{9}, turned);
    add(text, g.z, turned);
    add(text, g.radius, turned);
    for (const int level : {g.red, g.green, g.blue})
      add(text, static_cast<std::uint8_t>(level), turned);
    add(text, static_cast<std::int16_t>(g.kind), turned);
  }
  if (behind) {
    add(text, std::uint8_t{3}, turned);
    for (const int v : {0, 1, 2}) add(text, v, turned);
  }
  return text;
}

std::string csv(int count, const std::string& separator, bool head_quoted) {
  std::string text = "# pollen of a made-up evening\n";
  for (const char* name : {"blue", "z", "size", "note", "x", "red", "y", "green", "material"}) {
    if (text.back() != '\n') text += separator;
    text += head_quoted ? fmt::format("\"{}\"", name) : name;
  }
  text += "\r\n";
  for (int i = 0; i < count; ++i) {
    const Grain g = grain(i);
    for (const std::string& value :
         {std::to_string(g.blue), fmt::format("{}", static_cast<double>(g.z)),
          fmt::format("{}", static_cast<double>(g.radius)), std::string("n/a"),
          fmt::format("+{}", g.x), std::to_string(g.red),
          fmt::format("{}", static_cast<double>(g.y)), std::to_string(g.green),
          std::to_string(g.kind)}) {
      if (text.back() != '\n') text += separator;
      text += value;
    }
    text += i % 7 == 0 ? "\r\n\n" : "\n";
  }
  return text;
}

std::string raw(int count, bool apart) {
  std::string text = "head";
  if (apart) {
    for (int i = 0; i < count; ++i) add(text, static_cast<double>(grain(i).x), false);
    for (int i = 0; i < count; ++i) add(text, grain(i).y, false);
    for (int i = 0; i < count; ++i) add(text, grain(i).z, false);
    for (int i = 0; i < count; ++i) add(text, grain(i).radius, false);
    return text;
  }
  for (int i = 0; i < count; ++i) {
    const Grain g = grain(i);
    for (const float value : {g.x, g.y, g.z, g.radius}) add(text, value, false);
    for (const int level : {g.red, g.green, g.blue})
      add(text, static_cast<std::uint8_t>(level), false);
    add(text, static_cast<std::uint16_t>(g.kind), false);
  }
  return text;
}

void expect_grains(const SphereSet& set, int count, bool colors) {
  ASSERT_EQ(set.size(), static_cast<std::uint64_t>(count));
  ASSERT_EQ(set.has_colors(), colors);
  std::vector<bool> seen(static_cast<std::size_t>(count), false);
  for (std::uint64_t item = 0; item < set.items(); ++item) {
    const Sphere sphere = set.sphere(item);
    const int i = static_cast<int>(std::lround(sphere.center.x()));
    ASSERT_TRUE(i >= 0 && i < count && !seen[static_cast<std::size_t>(i)]);
    seen[static_cast<std::size_t>(i)] = true;
    const Grain g = grain(i);
    ASSERT_EQ(sphere.center,
              Vec3d(static_cast<double>(g.x), static_cast<double>(g.y), static_cast<double>(g.z)));
    ASSERT_EQ(sphere.radius, static_cast<double>(g.radius));
    if (!colors) continue;
    ASSERT_EQ(set.color(item), static_cast<std::uint32_t>(g.red << 16 | g.green << 8 | g.blue));
    ASSERT_EQ(sphere.material, g.kind);
  }
}

io::SphereFiles files_of(const std::string& path) {
  io::SphereFiles files;
  files.paths = {path};
  files.columns[static_cast<std::size_t>(io::SphereQuantity::radius)] = "size";
  return files;
}

constexpr int many = 3000;

TEST(SphereFiles, OfEveryKindHoldTheSameSpheres) {
  const TemporaryFolder folder;
  for (const char* format : {"ascii", "binary_little_endian", "binary_big_endian"}) {
    for (const bool behind : {false, true}) {
      const auto path = folder.write("a.ply", ply(many, format, many, behind));
      expect_grains(*io::read_spheres(files_of(path)), many, true);
    }
  }
  for (const char* separator : {",", ";", "\t", ", "}) {
    for (const bool quoted : {false, true}) {
      const auto path = folder.write("a.csv", csv(many, separator, quoted));
      expect_grains(*io::read_spheres(files_of(path)), many, true);
    }
  }
  io::SphereFiles numbers;
  numbers.paths = {folder.write("a.bin", raw(many, false))};
  io::set_record(
      "stride=21,x=4,y=8,z=12,radius=16,red=20:uint8,green=21:uint8,blue=22:uint8,material=23:"
      "uint16",
      numbers);
  expect_grains(*io::read_spheres(numbers), many, true);
  numbers = {};
  numbers.paths = {folder.write("b.bin", raw(many, true))};
  numbers.fields[0] = {4, 8, io::SphereNumber::float64};
  for (std::uint64_t q = 1; q < 4; ++q) {
    numbers.fields[q] = {4 + 8ull * many + 4ull * many * (q - 1), 4, io::SphereNumber::float32};
  }
  numbers.count = many;
  expect_grains(*io::read_spheres(numbers), many, false);
}

TEST(SphereFiles, ArePutTogetherByPatternsAndScaled) {
  const TemporaryFolder folder;
  folder.write("p-1.csv", "x,y,z\n1,2,3\n");
  folder.write("p-2.csv", "x,y,z\n4,5,6\n7,8,9\n");
  folder.write("q.csv", "x,y,z\n100,0,0\n");
  folder.write("p-[1].csv", "x,y,z\n50,0,0\n");
  io::SphereFiles files;
  files.paths = {folder.path() + "/p-?.csv"};
  files.radius = 0.25;
  files.scale = 2;
  const auto set = io::read_spheres(files);
  ASSERT_EQ(set->size(), 3u);
  EXPECT_EQ(set->sphere(0).center, Vec3d(2, 4, 6));
  EXPECT_EQ(set->sphere(2).center, Vec3d(14, 16, 18));
  EXPECT_EQ(set->sphere(1).radius, 0.5);
  files.paths = {folder.path() + "/p-[1]*.csv"};
  EXPECT_EQ(io::read_spheres(files)->sphere(0).center.x(), 100) << "brackets are letters";
  files.paths = {folder.path() + "/r*.csv"};
  EXPECT_THROW(io::read_spheres(files), Error);
}

TEST(SphereFiles, AreRefusedWithTheirPlace) {
  const TemporaryFolder folder;
  const auto refusal = [&](const std::string& name, const std::string& bytes,
                           const std::string& columns = "") -> std::string {
    io::SphereFiles files;
    files.paths = {folder.write(name, bytes)};
    io::set_columns(columns, files);
    try {
      io::read_spheres(files);
    } catch (const Error& error) {
      return error.what();
    }
    return "accepted";
  };
  EXPECT_THAT(refusal("a.csv", ""), HasSubstr("no line in it"));
  EXPECT_THAT(refusal("a.csv", "x,y,z\n"), HasSubstr("a set of no spheres"));
  EXPECT_THAT(refusal("a.csv", "x,y,q\n1,2,3\n"), HasSubstr("a.csv:1: no 'z' among its columns"));
  EXPECT_THAT(refusal("a.csv", "x,y,z\n1,2,3\n\n1,two,3\n"),
              HasSubstr("a.csv:4: 'two', expected a number for y"));
  EXPECT_THAT(refusal("a.csv", "x,y,z\n1,2\n"),
              HasSubstr("a.csv:2: a line of 2 numbers, expected 3"));
  EXPECT_THAT(refusal("a.csv", "x,y,z\n1,2,nan\n"), HasSubstr("a.csv:2: z is nan"));
  EXPECT_THAT(refusal("a.csv", "x,y,z,radius\n1,2,3,1\n1,2,3,-4\n"),
              HasSubstr("a.csv:3: a radius of -4"));
  EXPECT_THAT(refusal("a.csv", "x,y,z\n1,2,1e7\n"), HasSubstr("a.csv:2: z is 1"));
  EXPECT_THAT(refusal("a.csv", "x,y,z,red\n1,2,3,4\n"), HasSubstr("some of red, green and blue"));
  EXPECT_THAT(refusal("a.csv", "x,y,z,material\n1,2,3,1.5\n"), HasSubstr("a.csv:2: material"));
  EXPECT_THAT(refusal("a.csv", "x,y,z\n1,2,3\n", "radius=size"),
              HasSubstr("no 'size' among its columns"));
  EXPECT_THAT(refusal("a.ply", "plz\n"), HasSubstr("no PLY file"));
  EXPECT_THAT(refusal("a.ply", "ply\nformat ascii 1.0\n"), HasSubstr("without end_header"));
  EXPECT_THAT(refusal("a.ply", "ply\nformat ascii 1.0\nend_header\n"),
              HasSubstr("no element 'vertex'"));
  EXPECT_THAT(refusal("a.ply", "ply\nformat braille 1.0\nelement vertex 1\nend_header\n"),
              HasSubstr("'braille'"));
  EXPECT_THAT(refusal("a.ply", "ply\nformat ascii 1.0\nelement vertex many\nend_header\n"),
              HasSubstr("a.ply:3: 'many'"));
  EXPECT_THAT(refusal("a.ply", ply(many, "binary_little_endian", many, false).substr(0, 5000)),
              HasSubstr("ends after 1"));
  EXPECT_THAT(refusal("a.ply", ply(many, "binary_big_endian", many + 1, false)),
              HasSubstr("ends after 3000 of 3001 of 'vertex'"));
  EXPECT_THAT(refusal("a.ply", ply(many, "ascii", many + 5, false)),
              HasSubstr("3000 lines of vertices, expected 3005"));
  EXPECT_THAT(refusal("a.ply", ply(many, "ascii", many - 5, false)),
              HasSubstr("3000 lines of vertices, expected 2995"));
  std::string huge = ply(1, "binary_little_endian", 1, false);
  huge.replace(huge.find("vertex 1"), 8, "vertex 18446744073709551615");
  EXPECT_THAT(refusal("a.ply", huge), HasSubstr("ends after"));
  std::string nan = ply(10, "binary_little_endian", 10, false);
  const float none = NAN;
  std::memcpy(nan.data() + nan.size() - 5, &none, 4);
  std::memcpy(nan.data() + nan.size() - 13, &none, 4);
  EXPECT_THAT(refusal("a.ply", nan), HasSubstr("a.ply: sphere 10: z is nan"));
  EXPECT_THAT(refusal("a.txt", "1 2 3\n"), HasSubstr("expected .ply, .csv or .spheres"));
  io::SphereFiles files;
  files.paths = {folder.path()};
  EXPECT_THROW(io::read_spheres(files), Error);
  files.paths = {folder.write("n.bin", "1234567")};
  io::set_record("x=0,y=4,z=8", files);
  EXPECT_THROW(io::read_spheres(files), Error);
  EXPECT_THROW(io::set_record("x=0,w=4", files), Error);
  EXPECT_THROW(io::set_record("x=-1", files), Error);
  EXPECT_THROW(io::set_columns("size", files), Error);
}

/// What lanes through a scene of one set see, as bytes of a picture.
std::string picture(const std::shared_ptr<const SphereSet>& set) {
  Scene scene;
  scene.materials.push_back({});
  scene.room().add(Spheres(set));
  scene.room().light.sun = Sun{};
  Camera camera;
  camera.eye = Vec3d(-3, -3, 3);
  Budget budget;
  budget.frame.width = 96;
  budget.frame.height = 64;
  const Frame frame =
      render(compile(scene), camera, budget, {.layers = {Layer::color, Layer::cell, Layer::steps}});
  std::string bytes;
  for (int y = 0; y < 64; ++y) {
    for (const int channel : {0, 1, 2}) {
      for (const float value : frame.values(Layer::color, channel).row(y)) add(bytes, value, false);
    }
    for (const std::uint32_t code : frame.codes(Layer::cell).row(y)) add(bytes, code, false);
    for (const std::uint32_t code : frame.codes(Layer::steps).row(y)) add(bytes, code, false);
  }
  return bytes;
}

std::shared_ptr<const SphereSet> pollen(std::int64_t count, SphereKeeping keeping,
                                        std::size_t memory = 0, const std::string& folder = "") {
  PollenRecipe recipe;
  recipe.count = count;
  SphereSetOptions options;
  options.keeping = keeping;
  if (memory > 0) {
    options.memory_limit = memory;
    options.working_file = [folder] { return io::working_file(folder + "/x"); };
  }
  return SphereSet::make(PollenSource(recipe), options);
}

TEST(SphereFiles, OfSetsAreUsedAsTheyLie) {
  const TemporaryFolder folder;
  const std::string path = folder.path() + "/p.spheres";
  for (const SphereKeeping keeping : {SphereKeeping::compact, SphereKeeping::exact}) {
    const auto set = pollen(test::effort(400000), keeping);
    const std::string plain = picture(set);
    io::write_spheres(path, *set);
    const auto mapped = io::map_spheres(path);
    EXPECT_EQ(picture(mapped) == plain, true);
    EXPECT_LT(mapped->memory_bytes(), 10000u);
    EXPECT_EQ(mapped->bytes(), set->bytes());
    EXPECT_EQ(mapped->moved(), set->moved());
    // In parts on disk, where memory does not hold it, comes the same.
    const auto on_disk = pollen(test::effort(400000), keeping, std::size_t{1} << 20, folder.path());
    EXPECT_TRUE(on_disk->cost().on_disk);
    EXPECT_EQ(picture(on_disk) == plain, true);
    EXPECT_EQ(folder.names(), (std::set<std::string>{"p.spheres"}));
  }
}

TEST(SphereFiles, OfSetsThatAreDamagedAreRefused) {
  const TemporaryFolder folder;
  const std::string path = folder.path() + "/p.spheres";
  io::write_spheres(path, *pollen(20000, SphereKeeping::compact));
  const std::string whole = folder.read("p.spheres");
  const auto refusal = [&](const std::string& bytes) -> std::string {
    folder.write("p.spheres", bytes);
    try {
      io::map_spheres(path);
    } catch (const Error& error) {
      return error.what();
    }
    return "accepted";
  };
  EXPECT_EQ(refusal(whole), "accepted");
  EXPECT_THAT(refusal(""), HasSubstr("too short"));
  EXPECT_THAT(refusal(whole.substr(0, whole.size() - 1)), HasSubstr("bytes, expected"));
  EXPECT_THAT(refusal(whole + "x"), HasSubstr("bytes, expected"));
  std::string begun = whole;
  std::fill_n(begun.begin(), 4096, '\0');
  EXPECT_THAT(refusal(begun), HasSubstr("left half written"));
  std::string newer = whole;
  newer[24] = 9;
  EXPECT_THAT(refusal(newer), HasSubstr("spheres of version 9, expected 1"));
  // Any bit that is turned over is told.
  for (int i = 0; i < 300; ++i) {
    std::string bad = whole;
    std::size_t at =
        random_bits({.seed = 4, .pixel = static_cast<std::uint64_t>(i)}, 0) % whole.size();
    if (i < 100) at = static_cast<std::size_t>(2 * i);
    // What lies between the head and the arrays says nothing.
    if (at >= 280 && at < 4096) continue;
    bad[at] = static_cast<char>(bad[at] ^ (1 << (i % 8)));
    EXPECT_NE(refusal(bad), "accepted") << at;
  }
}

TEST(SphereFiles, ComeBackFromAScenesOwnText) {
  const TemporaryFolder folder;
  folder.write("a.ply", ply(20, "ascii", 20, false));
  folder.write("a.bin", raw(20, false));
  const std::string path = folder.write(
      "s.yaml",
      "materials: {pearl: {}, gold: {}}\nroom:\n  solids:\n"
      "    - spheres: {files: a.ply, columns: {radius: size, x: y, y: x}, scale: 2, keep: "
      "compact}\n"
      "    - spheres: {files: ['a.*in'], material: gold, radius: 0.5, record: {stride: 21, x: 4, "
      "y: "
      "8, z: 12, material: '19:uint16'}, materials: [pearl, gold, pearl, gold]}\n"
      "    - spheres: {pollen: {count: 30, hall: [2, 3, 4]}}\n");
  const io::SceneFile file = io::read_scene(path);
  const std::string text = io::scene_text(file);
  const io::SceneFile again = io::read_scene(folder.write("again.yaml", text));
  EXPECT_EQ(io::scene_text(again), text);
  ASSERT_EQ(again.scene.room().parts.size(), 3u);
  for (std::size_t i = 0; i < 3; ++i) {
    const auto set_in = [&](const io::SceneFile& from) {
      return dynamic_cast<const Spheres&>(*from.scene.room().parts[i]).set;
    };
    const auto one = set_in(file);
    const auto two = set_in(again);
    ASSERT_EQ(one->items(), two->items()) << i;
    ASSERT_EQ(one->exact(), two->exact()) << i;
    for (std::uint64_t item = 0; item < one->items(); ++item) {
      if (!one->is_item(item)) continue;
      ASSERT_EQ(one->sphere(item).center, two->sphere(item).center) << i;
      ASSERT_EQ(one->sphere(item).radius, two->sphere(item).radius) << i;
      ASSERT_EQ(one->sphere(item).material, two->sphere(item).material) << i;
    }
  }
  // Places went through the columns that were named, and times the scale.
  const auto turned = dynamic_cast<const Spheres&>(*file.scene.room().parts[0]).set;
  EXPECT_NEAR(turned->bounds().high.y(), 2 * 19, 0.5);
}

TEST(SphereFiles, HaveTheirOwnColorsInPictures) {
  // Two balls side by side, unlit: what is seen is their color, whatever the material's is.
  StridedSpheres two;
  const float places[] = {-1, 5, 0, 1, 5, 0};
  const std::uint32_t colors[] = {0xff0000, 0x3380cc};
  two.count = 2;
  two.center = places;
  two.colors = colors;
  two.radius = 0.9;
  for (const SphereKeeping keeping : {SphereKeeping::exact, SphereKeeping::compact}) {
    Scene scene;
    scene.materials.push_back({.base = {0, 1, 0}, .glow = 1});
    scene.room().add(
        Spheres(SphereSet::make(two, {.keeping = keeping, .working_file = {}, .progress = {}}), 0));
    scene.room().fog = {.color = {0, 0, 0}, .start = 1e5, .end = 2e5};
    const World world = compile(scene);
    const Camera camera = Camera::look_at({0, 0, 0}, {0, 1, 0}, degrees(60));
    for (const Transport transport : {Transport::direct, Transport::paths}) {
      Budget budget;
      budget.frame = {.width = 81, .height = 41, .samples = 1};
      budget.light.transport = transport;
      const Layer layer = transport == Transport::paths ? Layer::radiance : Layer::color;
      const Frame frame = render(world, camera, budget, {.layers = {layer, Layer::cell}});
      // A little to either side.
      for (const int x : {35, 45}) {
        const std::uint32_t code = colors[x < 40 ? 0 : 1];
        EXPECT_EQ(frame.codes(Layer::cell)(x, 20), x < 40 ? 0u : 1u);
        // Without lamps surfaces are a little darker the less they face the eye.
        const auto blue = code & 255 ? 2 : 0;
        const auto level = [&](int channel) {
          return from_display(static_cast<float>(code >> (16 - 8 * channel) & 255) / 255);
        };
        const float seen = frame.values(layer, blue)(x, 20) / level(blue);
        EXPECT_LE(seen, 1.001f);
        EXPECT_GT(seen, transport == Transport::paths ? 0.999f : 0.5f);
        for (int channel = 0; channel < 3; ++channel) {
          EXPECT_NEAR(frame.values(layer, channel)(x, 20), seen * level(channel), 1e-3f)
              << x << " " << channel << " " << name_of(transport) << " " << name_of(keeping);
        }
      }
    }
  }
}

class MakeSpheres : public test::ToolRun {};

TEST_F(MakeSpheres, FromFilesAndFromPollen) {
  folder.write("a.ply", ply(many, "binary_big_endian", many, true));
  const test::Outcome made =
      tool("make spheres a.ply -o a.spheres --columns radius=size --keep exact");
  ASSERT_EQ(made.code, 0) << made.errors;
  EXPECT_THAT(made.output, HasSubstr("3000 spheres of radius"));
  expect_grains(*io::map_spheres(folder.path() + "/a.spheres"), many, true);
  const test::Outcome again =
      tool("make spheres a.spheres a.spheres -o b.spheres --json --scale 2");
  ASSERT_EQ(again.code, 0) << again.errors;
  EXPECT_THAT(again.output, HasSubstr("\"spheres\": 6000"));
  ASSERT_EQ(tool("make pollen -o p.ply --set count=5000").code, 0);
  ASSERT_EQ(tool("make spheres 'p*.ply' -o p.spheres --keep exact").code, 0);
  ASSERT_EQ(tool("make pollen -o q.spheres --set count=5000 --memory 1M").code, 0);
  const auto one = io::map_spheres(folder.path() + "/p.spheres");
  const auto two = io::map_spheres(folder.path() + "/q.spheres");
  EXPECT_EQ(one->size(), 5000u);
  EXPECT_NEAR(one->largest(), two->largest(), 1e-6);
  EXPECT_TRUE(one->has_colors() && two->has_colors());
  folder.write("s.yaml",
               "materials: {pearl: {}, gold: {}}\nroom:\n  solids:\n    - spheres: {files: "
               "p.spheres, material: gold}\n"
               "    - spheres: {files: [a.ply], columns: {radius: size}, materials: [pearl, gold, "
               "pearl, gold], scale: 0.01}\n"
               "    - spheres: {pollen: {count: 3000, seed: 4}, material: pearl}\n");
  const test::Outcome rendered = tool("render s.yaml -o s.png --size 32x20 --cost");
  ASSERT_EQ(rendered.code, 0) << rendered.errors;
  EXPECT_THAT(rendered.output, HasSubstr("5000 spheres of radius"));
  EXPECT_THAT(rendered.output, HasSubstr("put in order in"));
  const test::Outcome checked = tool("check s.yaml");
  EXPECT_THAT(checked.output, HasSubstr("3000 spheres of radius"));
}

TEST_F(MakeSpheres, RefuseWhatCannotBe) {
  folder.write("a.csv", "x,y,z\n1,2,3\n");
  EXPECT_THAT(refused("make spheres a.csv -o a.ply"), HasSubstr("ends in .spheres"));
  EXPECT_THAT(refused("make spheres b.csv -o a.spheres"), HasSubstr("b.csv: cannot be read"));
  EXPECT_THAT(refused("make spheres a.csv -o a.spheres --columns radios=x"),
              HasSubstr("--columns: no such quantity 'radios'"));
  EXPECT_THAT(refused("make spheres a.csv -o a.spheres --record x=0,type=float33"),
              HasSubstr("float32"));
  EXPECT_THAT(refused("make spheres a.csv -o a.spheres --memory lots"), HasSubstr("--memory lots"));
  EXPECT_THAT(refused("make spheres a.csv -o a.spheres --radius -1"), HasSubstr("--radius"));
  EXPECT_THAT(refused("make pollen -o a.spheres --set count=0"), HasSubstr("count"));
  EXPECT_THAT(refused("make pollen -o a.spheres --set cuont=5"), HasSubstr("count"));
}

TEST_F(MakeSpheres, KilledLeaveNothingThatLooksWhole) {
  int dead = 0;
  for (const char* moment : {"0.05", "0.2", "0.4", "0.6", "0.9"}) {
    const test::Outcome killed = test::run(
        fmt::format("timeout -s KILL {} '{}' make pollen -o k.spheres --set count=1500000 --quiet",
                    moment, PHOTONLANE_TOOL),
        folder);
    if (killed.code == 0) continue;
    ++dead;
    for (const std::string& name : folder.names()) {
      EXPECT_THROW(io::map_spheres(folder.path() + "/" + name), Error) << name;
      std::filesystem::remove(folder.path() + "/" + name);
    }
  }
  EXPECT_GT(dead, 0);
}

}  // namespace
}  // namespace photonlane
