// Spheres in parts of space: against the same spheres in one set, and held by several processes,
// which stand here as threads, and as processes of mpirun.

#include <gmock/gmock.h>

#include <barrier>
#include <cmath>
#include <mutex>
#include <thread>

#include "many/with_mpi.hpp"
#include "photonlane/io.hpp"
#include "photonlane/many/tiles.hpp"
#include "photonlane/photonlane.hpp"
#include "support/effort.hpp"
#include "support/lanes.hpp"
#include "support/tool.hpp"

namespace photonlane {
namespace {

using namespace test;
using ::testing::HasSubstr;

std::vector<Sphere> grains(int count, std::uint64_t seed) {
  std::vector<Sphere> all;
  for (int i = 0; i < count; ++i) {
    const RandomKey key{.seed = seed, .pixel = static_cast<std::uint64_t>(i)};
    const auto draw = [&](std::uint32_t what) {
      return static_cast<double>(random_uniform(key, what));
    };
    Sphere one;
    one.center = Vec3d(8 * draw(0) - 4, 8 * draw(1) - 4, 0.2 + 2 * draw(2));
    one.radius = 0.01 + 0.05 * draw(3);
    all.push_back(one);
  }
  return all;
}

/// A source of a list.
class Listed final : public SphereSource {
 public:
  explicit Listed(std::vector<Sphere> all) : all_(std::move(all)) {}
  std::size_t stretches() const override { return 3; }
  void read(std::size_t stretch, const std::function<void(const SphereRun&)>& take) const override {
    SphereRun run;
    const std::size_t end = all_.size() * (stretch + 1) / 3;
    for (std::size_t i = all_.size() * stretch / 3; i < end; ++i) {
      const Sphere& one = all_[i];
      run.x[run.count] = one.center.x();
      run.y[run.count] = one.center.y();
      run.z[run.count] = one.center.z();
      run.radius[run.count] = one.radius;
      if (++run.count < SphereRun::capacity && i + 1 < end) continue;
      take(run);
      run.count = 0;
    }
  }

 private:
  std::vector<Sphere> all_;
};

TEST(SphereParts, AreRegionsThatHoldEveryPlaceOnce) {
  for (const int parts : {1, 2, 3, 7, 16}) {
    const int count = effort(20000);
    const Listed source(grains(count, 4));
    const std::vector<SphereRegion> regions = split_space(source, parts);
    ASSERT_EQ(std::ssize(regions), parts);
    std::vector<int> held(regions.size());
    for (const Sphere& one : grains(count, 4)) {
      int found = 0;
      for (std::size_t k = 0; k < regions.size(); ++k) {
        const bool within = (one.center.array() >= regions[k].low.array()).all() &&
                            (one.center.array() < regions[k].high.array()).all();
        found += within ? 1 : 0;
        held[k] += within ? 1 : 0;
      }
      ASSERT_EQ(found, 1);
    }
    for (const int one : held) EXPECT_NEAR(one, count / parts, 0.05 * count);
    // So do places far from all of them.
    for (int i = 0; i < 100; ++i) {
      const RandomKey key{.seed = 9, .pixel = static_cast<std::uint64_t>(i)};
      const Vec3d place = 1e5 * Vec3d(random_uniform(key, 0) - 0.5, random_uniform(key, 1) - 0.5,
                                      random_uniform(key, 2) - 0.5);
      int found = 0;
      for (const SphereRegion& region : regions) {
        found += (place.array() >= region.low.array()).all() &&
                         (place.array() < region.high.array()).all()
                     ? 1
                     : 0;
      }
      EXPECT_EQ(found, 1);
    }
  }
  EXPECT_THROW(split_space(Listed(grains(3, 1)), 4), Error);
  EXPECT_THROW(split_space(Listed(std::vector<Sphere>(100)), 2), Error) << "all in one place";
  EXPECT_THROW(split_space(Listed(grains(3, 1)), 0), Error);
  // What is no place is told by whoever makes a set, and is in no way of the others.
  for (const double wrong : {std::nan(""), HUGE_VAL, -HUGE_VAL}) {
    std::vector<Sphere> some = grains(500, 4);
    some[333].center.y() = wrong;
    const Listed source(some);
    for (const SphereRegion& region : split_space(source, 4)) {
      EXPECT_THROW(SphereSet::make(SpheresInRegion(source, region)), Error) << wrong;
    }
  }
}

class Parted : public ToolRun {
 protected:
  std::shared_ptr<const SphereParts> parts_of(int count, int parts, SphereKeeping keeping) {
    return io::write_sphere_parts(fmt::format("{}/p{}.parts", folder.path(), parts),
                                  Listed(grains(count, 4)), parts,
                                  {.keeping = keeping, .working_file = {}, .progress = {}});
  }
  /// A scene of such a list, with all that asks spheres: lanes, shadows, mirrors, occlusion.
  io::SceneFile scene_of(const std::string& list) {
    return io::parse_scene(
        "materials: {pearl: {base: \"#d0c8e0\", specular: 0.3}, floor: {base: \"#607060\"}}\n"
        "camera: {eye: [-7, -6, 3], look_at: [0, 0, 1]}\n"
        "budget: {frame: {width: 130, height: 70}, light: {corners: sampled, corner_samples: 2}}\n"
        "room:\n  sky: {}\n  light: {sun: {heading: 200, elevation: 40}}\n  solids:\n"
        "    - spheres: {files: " +
            list +
            ", material: pearl}\n"
            "    - field: {plane: {}, material: floor}\n",
        folder.path() + "/scene.yaml");
  }
};

TEST_F(Parted, AreMetAsTheSameSpheresInOneSet) {
  const int count = effort(4000);
  const auto parts = parts_of(count, 5, SphereKeeping::exact);
  const auto whole = Spheres(grains(count, 4)).compile({});
  const auto parted = Spheres(parts).compile({});
  std::uint64_t items = 0;
  std::uint64_t there = 0;
  for (const SpherePart& part : parts->parts) {
    items += part.items;
    there += part.count;
  }
  EXPECT_GE(items, there);
  EXPECT_EQ(there, static_cast<std::uint64_t>(count));
  EXPECT_EQ(parted->bounds().low, whole->bounds().low);
  EXPECT_EQ(parted->bounds().high, whole->bounds().high);
  LaneBatch<double> lanes;
  lanes.size = 128;
  lanes.far_limit = 100;
  int met = 0;
  for (std::uint64_t round = 0; round < static_cast<std::uint64_t>(effort(40)); ++round) {
    for (std::size_t i = 0; i < lanes.size; ++i) {
      const RandomKey key{.seed = round, .pixel = i};
      const Vec3d from(-9, 10 * random_uniform(key, 0) - 5.0, 5.0 * random_uniform(key, 1));
      const Vec3d to(4, 8 * random_uniform(key, 2) - 4.0, 2.0 * random_uniform(key, 3));
      const Vec3d way = (to - from).normalized();
      aim(lanes, i, from, way);
    }
    const HitBatch<double> one = whole->nearest_hit(lanes, {});
    const HitBatch<double> other = parted->nearest_hit(lanes, {});
    for (std::size_t i = 0; i < lanes.size; ++i) {
      ASSERT_EQ(one.ending[i], other.ending[i]);
      if (one.ending[i] != Ending::hit) continue;
      ++met;
      ASSERT_EQ(one.t[i], other.t[i]);
      ASSERT_EQ(one.normal_x[i], other.normal_x[i]);
      // Its item is the sphere of that part.
      std::uint64_t item = other.item[i];
      std::size_t k = 0;
      while (item >= parts->parts[k].items) item -= parts->parts[k++].items;
      const auto set = parts->parts[k].open();
      ASSERT_TRUE(set->is_item(item));
      EXPECT_EQ(set->sphere(item).center, grains(count, 4)[one.item[i]].center);
      if (met > 200) break;
    }
  }
  EXPECT_GT(met, 100);
  std::vector<double> values(3 * 64);
  double one[64];
  double other[64];
  for (std::size_t i = 0; i < values.size(); ++i) {
    values[i] = 9.0 * random_uniform({.seed = 6, .pixel = i}, 0) - 4.5;
  }
  DistanceBatch batch{
      .count = 64, .x = &values[0], .y = &values[64], .z = &values[128], .value = one};
  whole->measure(batch);
  batch.value = other;
  parted->measure(batch);
  for (std::size_t i = 0; i < 64; ++i) EXPECT_EQ(one[i], other[i]);
  for (std::size_t i = 0; i < 16; ++i) {
    const Vec3d place(values[i], values[64 + i], values[128 + i]);
    EXPECT_EQ(whole->closest(place)->distance, parted->closest(place)->distance);
    EXPECT_EQ(whole->closest(place)->least, parted->closest(place)->least);
  }
}

/// Processes that are threads of this one.
class Threads {
 public:
  explicit Threads(int count)
      : count_(static_cast<std::size_t>(count)), all_(count_), barrier_(count) {}

  /// Runs work(company) on each; gives what each threw, or "".
  std::vector<std::string> run(const std::function<void(Company&)>& work) {
    std::vector<std::string> errors(count_);
    std::vector<std::thread> threads;
    for (std::size_t rank = 0; rank < count_; ++rank) {
      threads.emplace_back([&, rank] {
        One one(*this, static_cast<int>(rank));
        try {
          work(one);
        } catch (const Error& error) {
          errors[rank] = error.what();
        }
      });
    }
    for (std::thread& thread : threads) thread.join();
    return errors;
  }

 private:
  class One final : public Company {
   public:
    One(Threads& threads, int rank) : threads_(threads), rank_(rank) {}
    int rank() const override { return rank_; }
    int size() const override { return static_cast<int>(threads_.count_); }
    void broadcast(Bytes& bytes) override { bytes = gather(bytes).front(); }
    std::vector<Bytes> gather(const Bytes& own) override {
      std::vector<Bytes> all;
      threads_.all_[static_cast<std::size_t>(rank_)] = {own};
      threads_.barrier_.arrive_and_wait();
      for (const auto& one : threads_.all_) all.push_back(one.front());
      threads_.barrier_.arrive_and_wait();
      return all;
    }
    std::vector<Bytes> swap(const std::vector<Bytes>& own) override {
      std::vector<Bytes> all;
      threads_.all_[static_cast<std::size_t>(rank_)] = own;
      threads_.barrier_.arrive_and_wait();
      for (const auto& one : threads_.all_) all.push_back(one[static_cast<std::size_t>(rank_)]);
      threads_.barrier_.arrive_and_wait();
      return all;
    }
    void give_up(int) override { std::abort(); }
    void share_out(std::span<const std::size_t>, const std::function<Bytes(std::size_t)>&,
                   const std::function<void(std::size_t, Bytes)>&,
                   const std::function<bool()>&) override {
      FAIL() << "parted frames are not shared out";
    }

   private:
    Threads& threads_;
    int rank_;
  };

  std::size_t count_;
  std::vector<std::vector<Company::Bytes>> all_;
  std::barrier<> barrier_;
};

TEST_F(Parted, GiveTheSameBytesWhoeverHoldsThem) {
  parts_of(effort(3000), 5, SphereKeeping::compact);
  using Knobs = std::vector<std::pair<std::string, std::string>>;
  const Knobs cases[] = {{{"number", "float"}},
                         {{"number", "double"}, {"spheres.detail", "1"}},
                         {{"light.transport", "paths"}, {"frame.samples", "2"}}};
  for (const Knobs& knobs : cases) {
    const std::string more = knobs.front().second;
    io::SceneFile file = scene_of("p5.parts");
    for (const auto& [name, value] : knobs) io::set_by_name(file, name, value);
    const bool paths = file.budget.light.transport == Transport::paths;
    LayerSet layers{Layer::color, Layer::display};
    if (!paths) {
      layers.add(Layer::depth);
      layers.add(Layer::steps);
    }
    const Frame whole = render(compile(file.scene), file.camera, file.budget, {.layers = layers});
    EXPECT_GT(whole.tally.hits, 1000u);
    for (const int processes : {2, 3, 7}) {
      const std::string kept = fmt::format("{}/{}-{}", folder.path(), more, processes);
      io::TiledFrame made;
      const auto errors = Threads(processes).run([&](Company& company) {
        io::TileRun run{.tiles = 6, .folder = kept, .layers = layers};
        io::TiledFrame own = io::make_tiles_parted(file, run, company);
        if (company.leads()) made = std::move(own);
      });
      for (const std::string& error : errors) EXPECT_EQ(error, "");
      EXPECT_GT(made.rounds, 10u);
      ASSERT_EQ(made.frame.size(), whole.size());
      for (const auto& [one, other] :
           {std::pair{whole.tally.lanes, made.frame.tally.lanes},
            std::pair{whole.tally.steps, made.frame.tally.steps},
            std::pair{whole.tally.secondary_steps, made.frame.tally.secondary_steps},
            std::pair{whole.tally.evaluations, made.frame.tally.evaluations}}) {
        EXPECT_EQ(one, other) << more << processes;
      }
      int differ = 0;
      for (int y = 0; y < whole.size().height; ++y) {
        for (int x = 0; x < whole.size().width; ++x) {
          differ += whole.codes(Layer::display)(x, y) != made.frame.codes(Layer::display)(x, y);
          for (int channel = 0; channel < 3; ++channel) {
            differ += whole.values(Layer::color, channel)(x, y) !=
                      made.frame.values(Layer::color, channel)(x, y);
          }
          if (!paths) {
            differ += whole.codes(Layer::steps)(x, y) != made.frame.codes(Layer::steps)(x, y);
            differ += whole.values(Layer::depth)(x, y) != made.frame.values(Layer::depth)(x, y);
          }
        }
      }
      EXPECT_EQ(differ, 0) << more << processes;
    }
  }
}

TEST_F(Parted, AreHeldWhereThereIsMemory) {
  const auto parts = parts_of(effort(3000), 4, SphereKeeping::compact);
  std::uint64_t bytes = 0;
  for (const SpherePart& part : parts->parts) bytes += part.bytes;
  const io::SceneFile file = scene_of("p4.parts");
  const auto tried = [&](std::uint64_t memory) {
    return Threads(2).run([&](Company& company) {
      io::TileRun run{.tiles = 2, .folder = folder.path() + "/t", .memory = memory};
      io::make_tiles_parted(file, run, company);
    });
  };
  // Both are on this machine.
  for (const std::string& error : tried(bytes - 1)) {
    EXPECT_THAT(error, HasSubstr("expected 2 machines of so much"));
  }
  for (const std::string& error : tried(1000)) {
    EXPECT_THAT(error, HasSubstr("the largest part alone does not fit"));
  }
  for (const std::string& error : tried(bytes)) EXPECT_EQ(error, "");
  // One that holds no part opens none.
  std::filesystem::remove(folder.path() + "/p4-2of4.spheres");
  Spheres held(parts);
  held.held = {.process = 0, .processes = 2};
  EXPECT_THAT(held.compile({})->summary(), HasSubstr("2 of them here"));
  held.held.process = 1;
  EXPECT_THROW(held.compile({}), Error);
}

TEST_F(Parted, RefuseListsThatAreDamaged) {
  parts_of(effort(2000), 3, SphereKeeping::compact);
  const std::string list = folder.read("p3.parts");
  const auto message = [&](const std::string& text) -> std::string {
    folder.write("x.parts", text);
    try {
      compile(scene_of("x.parts").scene);
    } catch (const Error& error) {
      return error.what();
    }
    return "nothing";
  };
  const auto changed = [&](const std::string& from, const std::string& to) {
    std::string text = list;
    const auto at = text.find(from);
    EXPECT_NE(at, text.npos) << from;
    return text.replace(at, from.size(), to);
  };
  EXPECT_EQ(message(list), "nothing");
  EXPECT_THAT(message(""), HasSubstr("no list of parts of spheres"));
  EXPECT_THAT(message("{}"), HasSubstr("no list of parts of spheres"));
  EXPECT_THAT(message(list.substr(0, list.size() / 2)), HasSubstr("no list of parts"));
  EXPECT_THAT(message(changed("spheres 1", "spheres 2")), HasSubstr("no list of parts"));
  EXPECT_THAT(message(changed("\"p3-1of3", "\"../p3-1of3")), HasSubstr("a file beside it"));
  EXPECT_THAT(message(changed("p3-1of3", "p3-2of3")), HasSubstr("another set than the list"));
  EXPECT_THAT(message(changed("p3-1of3", "p9-1of3")), HasSubstr("p9-1of3"));
  EXPECT_THAT(message(changed("\"spheres\": ", "\"spheres\": 1")), HasSubstr("spheres"));
  EXPECT_THAT(message(changed("\"items\": ", "\"items\": -")), HasSubstr("x.parts"));
  EXPECT_THAT(message(changed("\"low\": [\n", "\"low\": [\n1e3, ")), HasSubstr("x.parts"));
  std::string part = folder.read("p3-1of3.spheres");
  part[4096 + (part.size() - 4096) / 2] ^= 1;  // behind the head
  folder.write("p3-1of3.spheres", part);
  EXPECT_THAT(message(list), HasSubstr("p3-1of3.spheres"));
  // Nothing of this is for one set of a process's own.
  EXPECT_THAT(refused("make spheres p3-2of3.spheres --parts 2 -o a.spheres"), HasSubstr(".parts"));
  EXPECT_THAT(refused("make pollen --parts -1 -o a.parts"), HasSubstr("1 at least"));
  EXPECT_THAT(refused(fmt::format("render {}/demo/glasshouse-urn.yaml -o x.png --tiles 2 --parted "
                                  "--size 32x20",
                                  PHOTONLANE_SOURCE)),
              HasSubstr("a scene without parts of spheres"));
}

TEST_F(Parted, AreMadeAndHeldByProcesses) {
  if (const std::string why = without_mpi(); !why.empty()) GTEST_SKIP() << why;
  const Outcome pollen = tool("make pollen --parts 4 -o pollen.parts --set count=200000");
  ASSERT_EQ(pollen.code, 0) << pollen.errors;
  EXPECT_THAT(pollen.output, HasSubstr("200000 spheres in 4 parts"));
  // The same from a file of them.
  ASSERT_EQ(tool("make pollen -o pollen.ply --set count=200000").code, 0);
  ASSERT_EQ(tool("make spheres pollen.ply --parts 4 -o again.parts").code, 0);
  folder.write("scene.yaml",
               "materials: {gold: {base: \"#e0b040\"}}\n"
               "camera: {eye: [4, -6, 3], look_at: [0, 20, 4]}\n"
               "room:\n  sky: {}\n  light: {sun: {heading: 200, elevation: 30}}\n  solids:\n"
               "    - spheres: {files: pollen.parts, material: gold}\n");
  ASSERT_EQ(tool("render scene.yaml -o whole.exr --size 200x120").code, 0);
  const std::string whole = folder.read("whole.exr");
  for (const int processes : {1, 2, 3, 4}) {
    const Outcome made = test::run(
        with_mpi(processes,
                 fmt::format("'{}' render scene.yaml -o made.exr --size 200x120 --tiles 8 "
                             "--parted",
                             PHOTONLANE_TOOL)),
        folder);
    ASSERT_EQ(made.code, 0) << made.errors;
    EXPECT_EQ(folder.read("made.exr") == whole, true) << processes;
    EXPECT_THAT(made.output, HasSubstr("rounds of answers"));
  }
}

}  // namespace
}  // namespace photonlane
