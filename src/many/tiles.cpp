#include "photonlane/many/tiles.hpp"

#include <fmt/format.h>
#include <tbb/global_control.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <fstream>

#include "base/stopwatch.hpp"
#include "frame/parts.hpp"
#include "io/run_parts.hpp"
#include "many/part_exchange.hpp"
#include "many/tile_folder.hpp"
#include "measure/cost_map.hpp"

namespace photonlane::io {
namespace {

/// Pixels of the small frame that tells which tiles are dear.
constexpr double small_pixels = 4096;

using Bytes = Company::Bytes;

/// Bytes of memory that nobody uses on this machine, by the kernel's count.
std::uint64_t free_memory() {
  std::ifstream lines("/proc/meminfo");
  std::string word;
  while (lines >> word) {
    std::uint64_t kibibytes = 0;
    if (word == "MemAvailable:" && lines >> kibibytes) return 1024 * kibibytes;
  }
  return ~std::uint64_t{0};
}

void refuse_what_has_no_parts(const SceneFile& file, const World& world) {
  if (!file.views.empty()) {
    throw Error(ErrorKind::usage, "tiles of a scene with several views, expected one");
  }
  if (file.budget.light.transport != Transport::paths || world.plane() != nullptr) return;
  if (file.budget.light.metering != Metering::manual) {
    throw Error(ErrorKind::usage,
                "tiles of a frame whose exposure goes by all of it, expected "
                "light.metering=manual");
  }
  if (file.budget.frame.denoise > 0) {
    throw Error(ErrorKind::usage,
                "tiles of a frame that is denoised as a whole, expected frame.denoise=0");
  }
}

/// Throws on whoever has read something else than rank 0.
void compare_scenes(const Json& maker, Company& company) {
  const std::string own = maker.dump();
  Bytes bytes(own.size());
  std::memcpy(bytes.data(), own.data(), own.size());
  company.broadcast(bytes);
  const std::string first(reinterpret_cast<const char*>(bytes.data()), bytes.size());
  if (first == own) return;
  throw Error(ErrorKind::input,
              fmt::format("process {} reads something else than process 0, which is {}",
                          company.rank(), difference_of(parse_json(first), maker)));
}

/// Tiles of which more is expected before the others.
void put_dear_ones_first(const World& world, const SceneFile& file,
                         const std::vector<PixelPart>& parts, int threads,
                         std::vector<std::size_t>& pieces) {
  if (world.plane() != nullptr) return;
  const Size block = block_size(world, file.camera, file.budget);
  const CostMap map =
      map_cost(world, file.camera, file.budget, block, small_pixels, Layer::work, threads);
  std::vector<double> price(parts.size(), 0.0);
  for (std::size_t i = 0; i < parts.size(); ++i) {
    for (std::size_t k = 0; k < map.weights.size(); ++k) {
      const PixelPart common = overlap(parts[i], map.part(k, file.budget.frame.size()));
      if (common.size.width > 0 && common.size.height > 0) price[i] += map.weights[k];
    }
  }
  std::stable_sort(pieces.begin(), pieces.end(),
                   [&](std::size_t one, std::size_t other) { return price[one] > price[other]; });
}

}  // namespace

void remove_tiles(const std::string& folder) {
  std::error_code problem;
  std::vector<std::filesystem::path> ours;
  for (const auto& entry : std::filesystem::directory_iterator(folder, problem)) {
    const std::string name = entry.path().filename();
    if (name == "lock" || name.ends_with(".tile")) ours.push_back(entry.path());
  }
  for (const auto& path : ours) std::filesystem::remove(path, problem);
  std::filesystem::remove(folder, problem);
}

std::vector<PixelPart> tile_parts(Size frame, Size block, int tiles) {
  if (tiles < 1) {
    throw Error(ErrorKind::usage, fmt::format("{} tiles, expected at least 1", tiles));
  }
  const auto ceiling = [](int value, int by) { return (value + by - 1) / by; };
  const int across = ceiling(frame.width, block.width);
  const int down = ceiling(frame.height, block.height);
  // As many columns of tiles as make them about as wide as high.
  const double wide = std::sqrt(static_cast<double>(tiles) * frame.width / frame.height);
  const int columns = std::clamp(static_cast<int>(std::lround(wide)), 1, std::min(across, tiles));
  const int rows =
      std::clamp(static_cast<int>(std::lround(static_cast<double>(tiles) / columns)), 1, down);
  std::vector<PixelPart> parts;
  for (int row = 0; row < rows; ++row) {
    const int top = static_cast<int>(std::int64_t{down} * row / rows) * block.height;
    const int bottom = std::min(
        frame.height, static_cast<int>(std::int64_t{down} * (row + 1) / rows) * block.height);
    for (int column = 0; column < columns; ++column) {
      const int left = static_cast<int>(std::int64_t{across} * column / columns) * block.width;
      const int right =
          std::min(frame.width,
                   static_cast<int>(std::int64_t{across} * (column + 1) / columns) * block.width);
      parts.push_back({left, top, {right - left, bottom - top}});
    }
  }
  return parts;
}

namespace {

/// A frame that is put together of tiles, on rank 0; elsewhere what tiles it has.
class Mosaic {
 public:
  Mosaic(const SceneFile& file, const World& world, const TileRun& run, Company& company)
      : file_(file), world_(world), run_(run), company_(company), maker_(maker_of(file)) {
    RenderOptions trial;
    trial.layers = run.layers;
    check_frame(world, file.camera, file.budget, trial);
    compare_scenes(maker_, company);
    const Size size = file.budget.frame.size();
    Size block = block_size(world, file.camera, file.budget);
    // Where one lane a column is cast, it is cast once.
    if (world.plane() == nullptr && by_columns(world, file.camera, file.budget)) {
      block.height = size.height;
    }
    parts_ = tile_parts(size, block, run.tiles);
    made.tiles = parts_.size();
    if (company.leads()) find();
  }

  TiledFrame made;
  std::vector<std::size_t> missing;  ///< on rank 0

  const std::vector<PixelPart>& parts() const { return parts_; }
  bool goes_on() const { return !run_.go_on || run_.go_on(); }

  Bytes make(std::size_t piece, int threads) const {
    RenderOptions options;
    options.layers = run_.layers;
    options.threads = threads;
    options.part = parts_[piece];
    options.progress = [this](double) { return goes_on(); };
    Frame tile = render(world_, file_.camera, file_.budget, std::move(options));
    return tile_bytes(tile, parts_[piece], maker_);
  }

  void take(std::size_t piece, const Bytes& bytes) {
    if (piece >= parts_.size()) throw Error(ErrorKind::file, "a tile that is none");
    const std::string_view all(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    if (folder_->take(all, parts_[piece], spare_) != TileFolder::Found::whole) {
      throw Error(ErrorKind::file, "a tile came otherwise than it was sent");
    }
    folder_->write(parts_[piece], bytes);
    add(parts_[piece], spare_);
  }

  TiledFrame end() {
    made.frame.cost.cast_ms = watch_.milliseconds();
    made.traffic = company_.traffic();
    return std::move(made);
  }

 private:
  void find() {
    folder_.emplace(run_.folder, maker_, run_.layers);
    made.frame = Frame(file_.budget.frame.size(), run_.layers);
    made.frame.budget = file_.budget;
    made.frame.cost.compile_ms = world_.compile_ms();
    for (std::size_t i = 0; i < parts_.size(); ++i) {
      const TileFolder::Found found = folder_->read(parts_[i], spare_);
      if (found == TileFolder::Found::whole) {
        ++made.found;
        add(parts_[i], spare_);
      } else {
        missing.push_back(i);
        if (found == TileFolder::Found::damaged) ++made.damaged;
      }
    }
  }

  void add(const PixelPart& part, const Frame& tile) {
    paste(tile, {0, 0, part.size}, part.x, part.y, made.frame);
    made.frame.tally += tile.tally;
    if (tile.plane_report) made.frame.plane_report = tile.plane_report;
    ++done_;
    if (run_.progress) {
      run_.progress(static_cast<double>(done_) / static_cast<double>(parts_.size()));
    }
  }

  const SceneFile& file_;
  const World& world_;
  const TileRun& run_;
  Company& company_;
  Json maker_;
  std::vector<PixelPart> parts_;
  std::optional<TileFolder> folder_;
  Frame spare_;
  std::size_t done_ = 0;
  Stopwatch watch_;
};

template <class Value>
Bytes bytes_of(const std::vector<Value>& values) {
  Bytes bytes(values.size() * sizeof(Value));
  if (!bytes.empty()) std::memcpy(bytes.data(), values.data(), bytes.size());
  return bytes;
}

/// Whether the machine of each process has the memory for the parts that its processes hold.
void admit(const Scene& scene, const TileRun& run, Company& company) {
  std::uint64_t need = 0;
  std::uint64_t all = 0;
  std::uint64_t largest = 0;
  for (const Room& room : scene.rooms) {
    for (const auto& part : room.parts) {
      const auto* const spheres = dynamic_cast<const Spheres*>(part.get());
      if (spheres == nullptr || spheres->parts == nullptr) continue;
      for (std::size_t k = 0; k < spheres->parts->parts.size(); ++k) {
        const std::uint64_t bytes = spheres->parts->parts[k].bytes;
        all += bytes;
        largest = std::max(largest, bytes);
        if (spheres->held.holds(k)) need += bytes;
      }
    }
  }
  if (all == 0) {
    throw Error(ErrorKind::usage,
                "a scene without parts of spheres that processes could hold, expected files: "
                "NAME.parts");
  }
  struct Machine {
    char name[64];
    std::uint64_t need, free;
  } own{};
  gethostname(own.name, sizeof own.name - 1);
  own.need = need;
  own.free = run.memory > 0 ? run.memory : free_memory();
  Bytes bytes(sizeof own);
  std::memcpy(bytes.data(), &own, sizeof own);
  std::vector<Machine> machines;
  for (const Bytes& one : company.gather(bytes)) {
    if (one.size() != sizeof own) throw Error(ErrorKind::input, "a process of another version");
    std::memcpy(&machines.emplace_back(), one.data(), sizeof own);
  }
  for (const Machine& machine : machines) {
    std::uint64_t sum = 0;
    std::uint64_t least = machine.free;
    for (const Machine& other : machines) {
      if (std::strncmp(other.name, machine.name, sizeof own.name) != 0) continue;
      sum += other.need;
      least = std::min(least, other.free);
    }
    if (sum <= least) continue;
    const std::uint64_t each = std::max<std::uint64_t>(1, least);
    const std::string how =
        largest > least ? std::string("the largest part alone does not fit")
                        : fmt::format("expected {} machines of so much", (all + each - 1) / each);
    throw Error(
        ErrorKind::usage,
        fmt::format("parts on {} take {:.3g} GB, of which {:.3g} GB are free; {}", machine.name,
                    static_cast<double>(sum) / 1e9, static_cast<double>(least) / 1e9, how));
  }
}

}  // namespace

TiledFrame make_tiles(const SceneFile& file, const World& given, const TileRun& run,
                      Company& company) {
  refuse_what_has_no_parts(file, given);
  const World world = seen_by(given, file.camera, true, run.go_on);
  Mosaic mosaic(file, world, run, company);
  std::vector<std::size_t>& missing = mosaic.missing;
  if (company.size() > 1 && missing.size() > static_cast<std::size_t>(company.size())) {
    put_dear_ones_first(world, file, mosaic.parts(), run.threads, missing);
  }
  company.share_out(
      missing, [&](std::size_t piece) { return mosaic.make(piece, run.threads); },
      [&](std::size_t piece, Bytes bytes) { mosaic.take(piece, bytes); },
      [&] { return mosaic.goes_on(); });
  return mosaic.end();
}

TiledFrame make_tiles_parted(const SceneFile& file, const TileRun& run, Company& company) {
  // All that asks does so from one thread, and in the same order on every process.
  const tbb::global_control alone(tbb::global_control::max_allowed_parallelism, 1);
  Mosaic* taker = nullptr;
  const auto exchange = std::make_shared<PartExchange>(
      company, [&](std::size_t piece, const Bytes& bytes) { taker->take(piece, bytes); });
  Scene scene = file.scene;
  std::size_t number = 0;
  for (Room& room : scene.rooms) {
    for (auto& part : room.parts) {
      const auto* const spheres = dynamic_cast<const Spheres*>(part.get());
      if (spheres == nullptr || spheres->parts == nullptr) continue;
      Spheres own = *spheres;
      own.held = {company.rank(), company.size(), number++,
                  company.size() > 1 ? exchange : nullptr};
      part = std::make_shared<const Spheres>(std::move(own));
    }
  }
  admit(scene, run, company);
  const World compiled = compile(scene);
  refuse_what_has_no_parts(file, compiled);
  const World world = seen_by(compiled, file.camera, true, run.go_on);
  Mosaic mosaic(file, world, run, company);
  taker = &mosaic;
  // All know what is missing, and each makes its share: a rank's rounds are those of all.
  Bytes list = bytes_of(mosaic.missing);
  company.broadcast(list);
  std::vector<std::size_t> missing(list.size() / sizeof(std::size_t));
  if (!missing.empty()) std::memcpy(missing.data(), list.data(), list.size());
  for (auto k = static_cast<std::size_t>(company.rank()); k < missing.size();
       k += static_cast<std::size_t>(company.size())) {
    if (!mosaic.goes_on()) throw Error(ErrorKind::cancelled, "stopped by the caller");
    exchange->hand_in(missing[k], mosaic.make(missing[k], 1));
  }
  exchange->finish();
  mosaic.made.rounds = exchange->rounds();
  return mosaic.end();
}

}  // namespace photonlane::io
