// Voxels in files: our own, and what they are made from; the commands that make them, and scenes
// that have them.

#include <cstring>

#include "photonlane/io.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/planes.hpp"
#include "support/tool.hpp"
#include "voxels/sources.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

void expect_same(const VoxelGrid& grid, const VoxelGrid& other) {
  ASSERT_EQ(grid.size(), other.size());
  ASSERT_EQ(grid.palette(), other.palette());
  ASSERT_EQ(grid.count(), other.count());
  const VoxelCell size = grid.size();
  for (int z = 0; z < size[2]; ++z) {
    for (int y = 0; y < size[1]; ++y) {
      for (int x = 0; x < size[0]; ++x) ASSERT_EQ(grid.at({x, y, z}), other.at({x, y, z}));
    }
  }
}

TEST(VoxelFiles, AreReadAsTheyWereWritten) {
  const TemporaryFolder folder;
  const std::string path = folder.path() + "/a.voxels";
  for (const std::size_t kinds : {0, 1, 12, 1000}) {
    for (const Filling filling : {Filling::ground, Filling::sparse, Filling::blocks}) {
      for (const bool shared : {false, true}) {
        const auto grid = VoxelGrid::make(filled({300, 70, 65}, filling, kinds, 5),
                                          {.shared = shared, .progress = {}});
        io::write_voxels(path, *grid);
        const auto mapped = io::map_voxels(path);
        expect_same(*mapped, *grid);
        EXPECT_EQ(mapped->bytes(), grid->bytes());
        // Edited, the file stays as it is.
        VoxelEditor editor(mapped);
        editor.fill({{0, 0, 0}, {100, 30, 30}}, 1);
        EXPECT_EQ(editor.grid()->at({50, 20, 20}), 1u);
        expect_same(*io::map_voxels(path), *grid);
      }
    }
  }
  const auto empty = VoxelEditor({70, 3, 3}, kinds_of(1)).grid();
  io::write_voxels(path, *empty);
  EXPECT_EQ(io::map_voxels(path)->count(), 0u);
}

TEST(VoxelFiles, ThatAreDamagedAreRefused) {
  const TemporaryFolder folder;
  const std::string path = folder.path() + "/a.voxels";
  io::write_voxels(path, *VoxelGrid::make(filled({70, 70, 70}, Filling::ground, 30, 5)));
  const std::string bytes = folder.read("a.voxels");
  const auto refused = [&](const std::string& text) {
    folder.write("b.voxels", text);
    try {
      io::map_voxels(folder.path() + "/b.voxels");
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string("accepted");
  };
  EXPECT_EQ(refused(bytes), "accepted");
  const std::size_t every = std::max<std::size_t>(1, bytes.size() / effort(400));
  for (std::size_t at = 0; at < bytes.size(); at += at < 200 ? 1 : every) {
    // Between the head and the arrays nothing is said.
    if (at >= 104 && at < 4096) continue;
    std::string damaged = bytes;
    damaged[at] = static_cast<char>(damaged[at] ^ 0x41);
    EXPECT_THAT(refused(damaged), HasSubstr("b.voxels")) << at;
  }
  for (const std::size_t length :
       {std::size_t{0}, std::size_t{100}, std::size_t{4096}, bytes.size() / 2, bytes.size() - 1}) {
    EXPECT_THAT(refused(bytes.substr(0, length)), HasSubstr("b.voxels")) << length;
  }
  EXPECT_THAT(refused(bytes + "x"), HasSubstr("do not fit"));
  std::string later = bytes;
  later[24] = 9;
  EXPECT_THAT(refused(later), HasSubstr("version 9, expected 1"));
  EXPECT_THAT(refused("photonlane"), HasSubstr("too short"));
}

/// The checksum of such files, another time.
std::uint64_t checksum(const char* bytes, std::size_t count) {
  std::uint64_t rows[4] = {1, 2, 3, 4};
  const auto step = [&](std::uint64_t& row, std::size_t at) {
    std::uint64_t word = 0;
    std::memcpy(&word, bytes + at, std::min<std::size_t>(8, count - at));
    row = (row ^ word) * 0x9e3779b97f4a7c15u;
    row = row << 29 | row >> 35;
  };
  std::size_t at = 0;
  for (; at + 32 <= count; at += 32) {
    for (std::size_t k = 0; k < 4; ++k) step(rows[k], at + 8 * k);
  }
  for (; at < count; at += 8) step(rows[0], at);
  return mix(mix(rows[0] + mix(rows[1])) + mix(rows[2] + mix(rows[3])) + count);
}

/// A file whose checksums say that it is whole, whatever was done to it.
void seal(std::string& bytes) {
  std::uint64_t arrays = 0;
  std::memcpy(&arrays, bytes.data() + 80, 8);
  ASSERT_LT(arrays, std::uint64_t{1} << 20);
  const std::uint64_t sum = checksum(bytes.data() + 4096, arrays);
  std::memcpy(bytes.data() + 4096 + arrays, &sum, 8);
  const std::uint64_t sums = checksum(bytes.data() + 4096 + arrays, 8);
  std::memcpy(bytes.data() + 88, &sums, 8);
  const std::uint64_t head = checksum(bytes.data(), 96);
  std::memcpy(bytes.data() + 96, &head, 8);
}

TEST(VoxelFiles, ThatLieUnderTheirChecksumsLeadNowhere) {
  const TemporaryFolder folder;
  const std::string path = folder.path() + "/a.voxels";
  // All ways to tell the values of a brick.
  io::write_voxels(path, *VoxelGrid::make(filled({140, 70, 70}, Filling::ground, 30, 5)));
  const std::string bytes = folder.read("a.voxels");
  std::string whole = bytes;
  seal(whole);
  ASSERT_EQ(whole, bytes);
  std::size_t refused = 0;
  std::size_t taken = 0;
  const auto tries = static_cast<std::size_t>(little_effort(1200));
  for (std::size_t k = 0; k < tries; ++k) {
    const auto draw = [&](std::uint32_t what, std::size_t below) {
      return static_cast<std::size_t>(
          random_below({.seed = 9, .pixel = k}, what, static_cast<std::uint32_t>(below)));
    };
    std::string damaged = bytes;
    // The tables at the front are tried more often than what cells have.
    const std::size_t within = k % 3 == 0 ? bytes.size() - 4096 - 8 : 3000;
    const std::size_t at = k % 5 == 0 ? 32 + draw(0, 48) : 4096 + draw(1, within);
    const char to[] = {'\x00', '\xff', static_cast<char>(draw(2, 256)),
                       static_cast<char>(damaged[at] + 1)};
    damaged[at] = to[draw(3, 4)];
    seal(damaged);
    folder.write("b.voxels", damaged);
    try {
      const auto grid = io::map_voxels(folder.path() + "/b.voxels");
      ++taken;
      const auto solid = Voxels(grid).compile({});
      LaneBatch<float> lanes;
      lanes.size = lanes.capacity;
      lanes.far_limit = 1000;
      for (std::size_t i = 0; i < lanes.size; ++i) {
        lanes.x[i] = static_cast<float>(i);
        lanes.y[i] = static_cast<float>(i % 70);
        lanes.z[i] = 69.5f;
        lanes.direction_z[i] = -1;
      }
      const HitBatch<float> hits = solid->nearest_hit(lanes, {});
      (void)hits;
      solid->closest({30, 30, 30});
      for (int z = 0; z < 70; z += 5) {
        for (int y = 0; y < 70; y += 5) {
          for (int x = 0; x < 140; x += 5) grid->at({x, y, z});
        }
      }
    } catch (const Error&) {
      ++refused;
    }
  }
  EXPECT_GT(refused, tries / 10);
  EXPECT_GT(taken, tries / 10);
}

TEST(VoxelFiles, OfNumbersHaveTheirCells) {
  const TemporaryFolder folder;
  const DenseVoxels dense = filled({20, 33, 18}, Filling::half, 200, 8);
  std::string bytes = "head";
  std::string words;
  for (const std::uint32_t cell : dense.cells) {
    bytes += static_cast<char>(cell);
    const std::uint32_t large = cell == 0 ? 0 : cell + 1000;
    words += static_cast<char>(large & 255);
    words += static_cast<char>(large >> 8);
  }
  io::RawVoxels raw{.path = folder.write("a.raw", bytes), .size = {20, 33, 18}, .offset = 4};
  raw.kinds = dense.palette().kinds;
  expect_same(*VoxelGrid::make(*io::open_raw_voxels(raw)), *VoxelGrid::make(dense));
  io::RawVoxels wide{.path = folder.write("b.raw", words), .size = {20, 33, 18}, .bytes = 2};
  const auto grid = VoxelGrid::make(*io::open_raw_voxels(wide));
  EXPECT_EQ(grid->at({3, 4, 5}), dense.at(3, 4, 5) == 0 ? 0 : dense.at(3, 4, 5) + 1000);
  raw.kinds.resize(10);
  EXPECT_THAT(refusal([&] { VoxelGrid::make(*io::open_raw_voxels(raw)); }),
              HasSubstr("expected 0 to 10"));
  raw.size[2] = 19;
  EXPECT_THAT(refusal([&] { io::open_raw_voxels(raw); }), HasSubstr("bytes, expected"));
}

TEST(VoxelFiles, OfPicturesAndPointsHaveTheirCells) {
  const TemporaryFolder folder;
  io::Picture picture({5, 4});
  picture.pixel(1, 0)[0] = 200;  // the upper row is the last
  picture.pixel(4, 3)[2] = 90;
  io::write_png(folder.path() + "/s1.png", picture);
  io::write_png(folder.path() + "/s2.png", io::Picture({5, 4}));
  picture.pixel(1, 0)[1] = 7;
  io::write_png(folder.path() + "/s3.png", picture);
  const auto slices = VoxelGrid::make(*io::open_voxel_slices({{folder.path() + "/s*.png"}}));
  EXPECT_EQ(slices->size(), (VoxelCell{5, 4, 3}));
  EXPECT_EQ(slices->count(), 4u);
  EXPECT_EQ(slices->at({1, 3, 0}), 1u + 0xc80000);
  EXPECT_EQ(slices->at({4, 0, 0}), 1u + 0x00005a);
  EXPECT_EQ(slices->at({1, 3, 2}), 1u + 0xc80700);
  io::write_png(folder.path() + "/s4.png", io::Picture({5, 5}));
  EXPECT_THAT(
      refusal([&] { VoxelGrid::make(*io::open_voxel_slices({{folder.path() + "/s*.png"}})); }),
      HasSubstr("5 x 5 pixels, expected 5 x 4"));

  io::Picture hill({20, 30});
  for (int y = 0; y < 30; ++y) {
    for (int x = 0; x < 20; ++x) {
      std::memset(hill.pixel(x, y), 5 * x + y, 3);
    }
  }
  io::VoxelHeights heights{.path = folder.path() + "/h.png", .height = 100};
  io::write_png(heights.path, hill);
  heights.layers = {{{-1, 0x00ff00}, 1}, {{-1, 0x804000}, 3}, {{-1, 0x808080}, 0}};
  const auto ground = VoxelGrid::make(*io::open_voxel_heights(heights));
  ASSERT_EQ(ground->size(), (VoxelCell{20, 30, 100}));
  for (int x = 0; x < 20; ++x) {
    const int top = static_cast<int>(std::lround((5 * x + 10) * 100 / 255.0));
    for (int z = 0; z < 100; ++z) {
      const int depth = top - 1 - z;
      const std::uint32_t expected = depth < 0 ? 0 : depth < 1 ? 1 : depth < 4 ? 2 : 3;
      EXPECT_EQ(ground->at({x, 19, z}), expected) << x << " " << z;
    }
  }

  io::SphereFiles files;
  files.paths = {folder.write("p.csv",
                              "x,y,z,red,green,blue\n-0.3,0,0,10,20,30\n0.9,0.1,2.2,1,2,3\n"
                              "0.95,0.2,2.3,4,5,6\n")};
  const io::VoxelPoints points(files, 0.5);
  const auto cells = VoxelGrid::make(points);
  EXPECT_EQ(points.corner(), Vec3d(-0.5, 0, 0));
  EXPECT_EQ(cells->size(), (VoxelCell{3, 1, 5}));
  EXPECT_EQ(cells->count(), 2u);
  EXPECT_EQ(cells->at({0, 0, 0}), 1u + 0x0a141e);
  EXPECT_EQ(cells->at({2, 0, 4}), 1u + 0x040506);  // the last of two
  EXPECT_THAT(refusal([&] { io::VoxelPoints(files, 1e-6); }), HasSubstr("expected 65536"));
}

TEST(VoxelFiles, OfPointsAndHeightsMayBeAsLargeAsThereAre) {
  // Most of it is known to be empty without a look at every cube of it.
  const TemporaryFolder folder;
  io::SphereFiles files;
  files.paths = {folder.write("far.csv",
                              "x,y,z\n0.05,0.05,0.05\n6553.55,6553.55,6553.55\n"
                              "3000.05,10.05,6000.05\n")};
  const auto far = VoxelGrid::make(io::VoxelPoints(files, 0.1));
  EXPECT_EQ(far->size(), (VoxelCell{65536, 65536, 65536}));
  EXPECT_EQ(far->count(), 3u);
  EXPECT_EQ(far->at({65535, 65535, 65535}), 1u);
  EXPECT_EQ(far->at({30000, 100, 60000}), 1u);
  const int rows = little_effort(200);
  io::Picture slope({300, rows});
  for (int y = 0; y < rows; ++y) {
    for (int x = 0; x < 300; ++x) std::memset(slope.pixel(x, y), x / 2, 3);
  }
  io::VoxelHeights heights{.path = folder.path() + "/h.png", .height = 65536};
  io::write_png(heights.path, slope);
  heights.layers = {{{-1, 0x00ff00}, 2}, {{-1, 0x808080}, 0}};
  const auto ground = VoxelGrid::make(*io::open_voxel_heights(heights));
  std::uint64_t expected = 0;
  for (int x = 0; x < 300; ++x) {
    expected += static_cast<std::uint64_t>(rows * std::lround(x / 2 * 65536 / 255.0));
  }
  EXPECT_NEAR(static_cast<double>(ground->count()), static_cast<double>(expected), 300 * rows);
  const int top = static_cast<int>(std::lround(100 * 65536 / 255.0));
  EXPECT_EQ(ground->at({200, 5, top + 2}), 0u);
  EXPECT_EQ(ground->at({200, 5, 3}), 2u);
}

TEST(VoxelScenes, ComeBackFromTheirOwnText) {
  const TemporaryFolder folder;
  const DenseVoxels dense = filled({20, 20, 20}, Filling::half, 3, 8);
  std::string bytes;
  for (const std::uint32_t cell : dense.cells) bytes += static_cast<char>(cell);
  folder.write("a.raw", bytes);
  io::write_voxels(folder.path() + "/a.voxels", *VoxelGrid::make(dense));
  io::Picture picture({5, 4});
  picture.pixel(1, 0)[0] = 200;
  io::write_png(folder.path() + "/s1.png", picture);
  folder.write("p.csv", "x,y,z\n1,2,3\n4,5,6\n");
  const std::string path = folder.write(
      "s.yaml",
      "materials: {moss: {}, slate: {}}\nroom:\n  solids:\n"
      "    - voxels: {file: a.voxels, cell: 0.5, place: [1, 2, 3], turn: [0, 0, 30], normals: "
      "smooth}\n"
      "    - voxels: {terraces: {side: 32, height: 40}, material: moss, copies: [2, 1, 1]}\n"
      "    - voxels: {raw: {file: a.raw, size: [20, 20, 20], kinds: [{material: moss}, {color: "
      "'#102030'}, {material: slate, color: '#ffffff'}]}, shared: true}\n"
      "    - voxels: {slices: 's*.png'}\n"
      "    - voxels: {heights: {file: s1.png, height: 20, layers: [{material: moss, depth: 2}, "
      "{material: slate}]}}\n"
      "    - voxels: {points: {files: p.csv, scale: 2}, cell: 0.25}\n"
      "    - voxels: {field: {points: 20, of: {material: slate, sphere: {radius: 2}}}}\n");
  const io::SceneFile file = io::read_scene(path);
  const std::string text = io::scene_text(file);
  const io::SceneFile again = io::read_scene(folder.write("again.yaml", text));
  EXPECT_EQ(io::scene_text(again), text);
  ASSERT_EQ(again.scene.room().parts.size(), 7u);
  for (std::size_t k = 0; k < 7; ++k) {
    const auto& one = dynamic_cast<const Voxels&>(*file.scene.room().parts[k]);
    const auto& other = dynamic_cast<const Voxels&>(*again.scene.room().parts[k]);
    expect_same(*one.grid, *other.grid);
    EXPECT_EQ(one.at, other.at) << k;
    EXPECT_EQ(one.cell, other.cell) << k;
    EXPECT_EQ(one.turn, other.turn) << k;
    EXPECT_EQ(one.copies, other.copies) << k;
    EXPECT_EQ(one.materials, other.materials) << k;
  }
}

TEST(VoxelScenes, RefuseWhatIsNone) {
  const auto refused = [](const std::string& voxels) -> std::string {
    try {
      io::parse_scene("materials: {moss: {}}\nroom:\n  solids:\n    - voxels: " + voxels + "\n",
                      "s.yaml");
    } catch (const Error& error) {
      return error.what();
    }
    return "accepted";
  };
  EXPECT_EQ(refused("{terraces: {side: 16, height: 32}}"), "accepted");
  EXPECT_THAT(refused("{}"), HasSubstr("s.yaml:4:15: expected where voxels are from once"));
  EXPECT_THAT(refused("{terraces: {}, file: a.voxels}"), HasSubstr("once"));
  EXPECT_THAT(refused("{file: none.voxels}"), HasSubstr("s.yaml:4:22: none.voxels: "));
  EXPECT_THAT(refused("{terraces: {side: 4096}}"), HasSubstr("make terraces"));
  EXPECT_THAT(refused("{field: {points: 5000, of: {sphere: {}}}}"), HasSubstr("2048 at most"));
  EXPECT_THAT(refused("{field: {points: 300, of: {bulb: {}}}}"), HasSubstr("256 at most"));
  EXPECT_THAT(refused("{terraces: {plants: 2}}"), HasSubstr("0 to 1"));
  EXPECT_THAT(refused("{terraces: {}, cell: 0}"), HasSubstr("more than 0"));
  EXPECT_THAT(refused("{terraces: {}, material: mos}"), HasSubstr("moss"));
  EXPECT_THAT(refused("{raw: {file: a.raw, size: [1, 2]}}"), HasSubstr("expected [x, y, z]"));
  EXPECT_THAT(refused("{raw: {file: a.raw}}"), HasSubstr("size"));
  EXPECT_THAT(refused("{raw: {file: a.raw, size: [1, 2, 70000]}}"), HasSubstr("65536"));
  EXPECT_THAT(refused("{points: {files: a.csv}}"), HasSubstr("cell: METERS"));
  EXPECT_THAT(refused("{field: {of: {plane: {}}}}"), HasSubstr("without end"));
  EXPECT_THAT(refused("{field: {points: 30}}"), HasSubstr("without `of`"));
  EXPECT_THAT(refused("{field: {of: {sphere: {}}}, place: [1, 2, 3]}"), HasSubstr("place"));
  EXPECT_THAT(refused("{heights: {file: a.png, layers: [{color: red}]}}"), HasSubstr("red"));
}

class MakeVoxels : public ToolRun {};

TEST_F(MakeVoxels, OfFieldsAndGardensForScenes) {
  const std::string begin =
      "materials: {stone: {base: '#999080'}}\ncamera: {eye: [3, -6, 3], look_at: [0, 0, 0]}\n"
      "room:\n  light: {sun: {heading: 200, elevation: 40}}\n  solids:\n    - ";
  folder.write("s.yaml", begin + "field: {material: stone, torus: {radius: 2, tube: 0.7}}\n");
  const Outcome made = tool("make voxels s.yaml -o t.voxels --set points=300");
  ASSERT_EQ(made.code, 0) << made.errors;
  EXPECT_THAT(made.output, HasSubstr("voxels in 300 x 300 x 78 cells"));
  EXPECT_THAT(made.output, HasSubstr("of all cells"));
  const auto grid = io::map_voxels(folder.path() + "/t.voxels");
  // 2 pi^2 R r^2 over the volume of a cell.
  const double cell = 5.4 / 300;
  EXPECT_NEAR(static_cast<double>(grid->count()), 2 * pi * pi * 2 * 0.49 / (cell * cell * cell),
              0.002 * static_cast<double>(grid->count()));
  const auto from = made.output.find("{voxels");
  ASSERT_NE(from, made.output.npos);
  // As it says itself: in a scene.
  folder.write(
      "v.yaml",
      begin + made.output.substr(from + 1, made.output.find('\n', from) - from - 2) + "\n");
  const Outcome checked = tool("check v.yaml");
  EXPECT_EQ(checked.code, 0) << checked.errors;
  EXPECT_THAT(checked.output, HasSubstr("voxels of 0.018 m in 300 x 300 x 78 cells"));
  for (const char* name : {"s", "v"}) {
    const Outcome drawn = tool(
        fmt::format("render {0}.yaml --size 64x40 -o {0}.exr --set light.sun_shadows=none", name));
    ASSERT_EQ(drawn.code, 0) << drawn.errors;
  }
  const Frame field = io::read_frame(folder.path() + "/s.exr");
  const Frame voxels = io::read_frame(folder.path() + "/v.exr");
  int apart = 0;
  for (int y = 0; y < 40; ++y) {
    for (int x = 0; x < 64; ++x) {
      const float one = field.values(Layer::ray_distance)(x, y);
      const float other = voxels.values(Layer::ray_distance)(x, y);
      if (std::isfinite(one) != std::isfinite(other) || std::abs(one - other) > 0.1f) ++apart;
    }
  }
  EXPECT_LT(apart, 64 * 40 / 30);
  const Outcome terraces =
      tool("make terraces -o g.voxels --set side=96 --set height=64 --json --shared");
  ASSERT_EQ(terraces.code, 0) << terraces.errors;
  EXPECT_THAT(terraces.output, HasSubstr("\"voxels\""));
  EXPECT_EQ(io::map_voxels(folder.path() + "/g.voxels")->size(), (VoxelCell{96, 96, 64}));
  // What a scene makes itself.
  folder.write("g.yaml",
               "materials: {lantern: {}, water: {}}\nroom:\n  solids:\n    - voxels: {terraces: "
               "{side: 96, height: 64}, materials: [lantern, water]}\n");
  ASSERT_EQ(tool("make voxels g.yaml -o h.voxels").code, 0);
  expect_same(*io::map_voxels(folder.path() + "/g.voxels"),
              *io::map_voxels(folder.path() + "/h.voxels"));
  const Outcome lane = tool(
      "lane g.yaml --size 32x20 --pixel 16,15 --tree way.png --march --set camera.eye=[48,-10,40] "
      "--set camera.heading=90");
  EXPECT_EQ(lane.code, 0) << lane.errors;
  EXPECT_THAT(lane.output, HasSubstr("voxels on the lane from the eye:"));
  EXPECT_THAT(lane.output, HasSubstr("looks into 256 cells at 0, 0, 0"));
  EXPECT_THAT(lane.output, HasSubstr("meets 1 cell"));
  EXPECT_EQ(io::read_png(folder.path() + "/way.png").size, (Size{1280, 800}));
  EXPECT_THAT(refused("lane s.yaml --size 32x20 --pixel 16,15 --tree none.png"),
              HasSubstr("no voxels"));
  const Outcome drawn = tool("render g.yaml -o g.png --size 32x20 --cost");
  EXPECT_EQ(drawn.code, 0) << drawn.errors;
  EXPECT_THAT(drawn.output + drawn.errors, HasSubstr("bytes each"));
}

TEST_F(MakeVoxels, RefuseWhatCannotBe) {
  folder.write("s.yaml", "room:\n  solids:\n    - field: {sphere: {}}\n");
  EXPECT_THAT(refused("make terraces -o g.vox"), HasSubstr(".voxels"));
  EXPECT_THAT(refused("make voxels s.yaml -o t.voxels --field 3"), HasSubstr("has 1 fields"));
  EXPECT_THAT(refused("make voxels s.yaml -o t.voxels --set pionts=3"), HasSubstr("points"));
  EXPECT_THAT(refused("make terraces -o g.voxels --set sde=3"), HasSubstr("side"));
  EXPECT_THAT(refused("make terraces -o g.voxels --memory lots"), HasSubstr("--memory lots"));
}

}  // namespace
}  // namespace photonlane
