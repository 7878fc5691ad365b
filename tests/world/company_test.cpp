// Solids are asked for the lanes of many batches at once, whatever those are for.

#include <gtest/gtest.h>

#include <atomic>
#include <mutex>

#include "photonlane/photonlane.hpp"
#include "support/scenes.hpp"

namespace photonlane {
namespace {

/// What was asked of a floor of one's own.
struct Asked {
  std::mutex lock;
  std::size_t calls = 0;
  std::size_t lanes = 0;
  std::size_t shadow_calls = 0;
  std::size_t shadow_lanes = 0;
  std::size_t fails_after = 1'000'000;
};

struct FloorSolid final : Solid {
  std::shared_ptr<Asked> asked;
  bool counts;
  FloorSolid(std::shared_ptr<Asked> to, bool many) : asked(std::move(to)), counts(many) {}

  template <class Number>
  HitBatch<Number> trace(const LaneBatch<Number>& lanes) const {
    HitBatch<Number> hits{};
    for (std::size_t i = 0; i < lanes.size; ++i) {
      hits.t[i] = lanes.far_limit;
      hits.ending[i] = Ending::escaped;
      const Number t = -lanes.z[i] / lanes.direction_z[i];
      const Number start = lanes.any_start ? lanes.start[i] : Number(0);
      const Number limit = lanes.any_limit ? lanes.limit[i] : lanes.far_limit;
      if (!(t > start && t < limit)) continue;
      hits.t[i] = t;
      hits.ending[i] = Ending::hit;
      hits.face[i] = Face::curved;
      hits.normal_z[i] = 1;
    }
    return hits;
  }
  HitBatch<float> nearest_hit(const LaneBatch<float>& lanes, const Budget&) const override {
    return trace(lanes);
  }
  HitBatch<double> nearest_hit(const LaneBatch<double>& lanes, const Budget&) const override {
    return trace(lanes);
  }
  void nearest_hits(std::span<const LaneBatch<float>* const> lanes, const Budget& budget,
                    std::span<HitBatch<float>* const> hits) const override {
    if (counts) {
      const std::lock_guard hold(asked->lock);
      std::size_t count = 0;
      for (const LaneBatch<float>* one : lanes) count += one->size;
      if (++asked->calls > asked->fails_after) throw Error(ErrorKind::memory, "no more of this");
      asked->lanes += count;
      if (lanes.front()->ending_only) {
        ++asked->shadow_calls;
        asked->shadow_lanes += count;
      }
    }
    Solid::nearest_hits(lanes, budget, hits);
  }
  bool gains_by_company() const override { return true; }
  Bounds bounds() const override { return {{-1e9, -1e9, 0}, {1e9, 1e9, 0}}; }
  std::string summary() const override { return "floor"; }
  std::size_t memory_bytes() const override { return sizeof(*this); }
};

struct Floor final : SolidPart {
  std::shared_ptr<Asked> asked = std::make_shared<Asked>();
  bool counts = true;
  std::string_view kind() const override { return "floor"; }
  std::shared_ptr<const Solid> compile(const SolidContext&) const override {
    return std::make_shared<const FloorSolid>(asked, counts);
  }
};

/// A floor of one's own, mirror balls and panes over it, two lamps and a sun.
Scene scene_with(const Floor& floor) {
  Scene scene;
  scene.wall({.base = {0.5f, 0.4f, 0.3f}});
  scene.wall({.base = {0.7f, 0.7f, 0.7f}, .roughness = 0.3, .metal = 1});
  scene.wall({.base = {0.4f, 0.6f, 0.5f}, .opacity = 0.4});
  Room& room = scene.room();
  room.light.ambient = {0.2f, 0.2f, 0.2f};
  room.light.sun = Sun{.heading = 1, .elevation = 0.7};
  room.light.lamps.push_back({.place = {1, 1, 3}, .range = 20});
  room.light.lamps.push_back({.place = {-2, 3, 2}, .range = 20});
  room.add(floor);
  for (int i = 0; i < 4; ++i) {
    room.add(field::place({i - 1.5, 3.0 + i, 0.6}, field::sphere(0.5)).made_of(1));
    room.add(field::place({i - 1.5, 2, 0.8}, field::box({0.5, 0.05, 1})).made_of(2));
  }
  return scene;
}

const Camera camera = Camera::look_at({0, -2, 1.6}, {0, 3, 0.4}, 1);

TEST(Company, SolidsAreAskedForTheLanesOfManyBatchesAtOnce) {
  const Floor floor;
  Budget budget{.frame = {128, 64, 1}};
  budget.light.corners = Corners::none;
  const Frame frame =
      render(compile(scene_with(floor)), camera, budget, test::with_layers({Layer::color}, 1));
  EXPECT_GT(frame.tally.bounces, 200u);
  // 64 batches from the eye, and shadows of three lights: alone each would be a call.
  EXPECT_LT(floor.asked->shadow_calls * 8 * LaneBatch<float>::capacity,
            16 * floor.asked->shadow_lanes);
  EXPECT_GT(floor.asked->shadow_lanes / floor.asked->shadow_calls, 200u);
  EXPECT_GT(floor.asked->lanes / floor.asked->calls, 300u);
}

TEST(Company, PicturesAreTheSameOnAnyNumberOfThreads) {
  const Floor floor;
  const World world = compile(scene_with(floor));
  Budget budget{.frame = {300, 120, 2}};
  const LayerSet layers{Layer::color, Layer::depth, Layer::evaluations, Layer::steps};
  const Frame one = render(world, camera, budget, test::with_layers(layers, 1));
  for (const int threads : {1, 2, 5}) {
    const Frame other = render(world, camera, budget, test::with_layers(layers, threads));
    for (const Layer layer : {Layer::color, Layer::depth, Layer::evaluations, Layer::steps}) {
      EXPECT_EQ(test::hash_of(one, layer), test::hash_of(other, layer)) << threads;
    }
    EXPECT_EQ(one.tally.evaluations, other.tally.evaluations);
    EXPECT_EQ(one.tally.bounces, other.tally.bounces);
  }
}

TEST(Company, WhatASolidThrowsEndsTheFrameAndTheNextIsFine) {
  for (const int threads : {1, 2}) {
    for (const std::size_t calls : {0u, 1u, 7u, 40u}) {
      const Floor floor;
      floor.asked->fails_after = calls;
      const World world = compile(scene_with(floor));
      const Budget budget{.frame = {160, 96, 1}};
      try {
        render(world, camera, budget, test::with_layers({Layer::color}, threads));
        ADD_FAILURE() << "nothing was thrown";
      } catch (const Error& error) {
        EXPECT_EQ(error.kind(), ErrorKind::memory);
        EXPECT_STREQ(error.what(), "no more of this");
      }
      floor.asked->fails_after = 1'000'000;
      const Frame after = render(world, camera, budget, test::with_layers({Layer::color}, threads));
      const Floor fresh;
      const Frame expected = render(compile(scene_with(fresh)), camera, budget,
                                    test::with_layers({Layer::color}, threads));
      EXPECT_EQ(test::hash_of(after, Layer::color), test::hash_of(expected, Layer::color));
    }
  }
}

}  // namespace
}  // namespace photonlane
