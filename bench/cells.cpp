// One thread casting 1920 columns through maps of different openness, by each method: how the time
// of a lane goes with the steps it takes. photonlane_bench_cells --benchmark_filter=leap

#include <benchmark/benchmark.h>

#include "maps.hpp"
#include "photonlane/photonlane.hpp"

namespace {

using namespace photonlane;

void cast_columns(benchmark::State& state, CellMethod method) {
  Scene scene;
  for (int i = 0; i < 4; ++i) scene.wall({});
  const int side = static_cast<int>(state.range(0));
  scene.room().add(bench::scattered(side, 1.0 / static_cast<double>(state.range(1))));
  const World world = compile(scene);
  const Camera camera{.eye = {side / 2 + 0.37, side / 2 + 0.61, 1.6}, .heading = 0.4};
  Budget budget{.frame = {1920, 1080, 1}, .cells = {.method = method}};
  budget.far_limit = 20000;
  Tally tally;
  for (auto _ : state) {
    const Frame frame =
        render(world, camera, budget, {.layers = {}, .threads = 1, .progress = {}, .recycle = {}});
    tally += frame.tally;
  }
  state.counters["steps/lane"] = tally.steps_per_lane();
  state.counters["lanes/s"] =
      benchmark::Counter(static_cast<double>(tally.lanes), benchmark::Counter::kIsRate);
}

void sizes(benchmark::internal::Benchmark* bench) {
  for (const int side : {256, 1024, 4096}) {
    for (const int one_in : {4, 50, 5000}) bench->Args({side, one_in});
  }
}

BENCHMARK_CAPTURE(cast_columns, leap, CellMethod::leap)->Apply(sizes);
BENCHMARK_CAPTURE(cast_columns, boundary, CellMethod::boundary)->Apply(sizes);
BENCHMARK_CAPTURE(cast_columns, increment, CellMethod::increment)->Args({256, 50});

}  // namespace

BENCHMARK_MAIN();
