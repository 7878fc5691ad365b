#include <atomic>
#include <cmath>
#include <mutex>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/spheres/spheres.hpp"
#include "spheres/pages.hpp"
#include "spheres/part_maker.hpp"
#include "spheres/sphere_cells.hpp"
#include "spheres/sphere_survey.hpp"

namespace photonlane {
namespace {

constexpr std::uint64_t exact_up_to = std::uint64_t{1} << 20;
// A part that samples made too large becomes several.
constexpr double fullness = 0.9;
constexpr std::size_t chunk_bytes = 8192;

class Build {
 public:
  Build(const SphereSource& source, const SphereSetOptions& options)
      : source_(source), options_(options) {}

  std::shared_ptr<const SphereStore> make() {
    const Stopwatch whole;
    survey_ = survey_spheres(source_, options_.threads, [&](double share) { told(0.2 * share); });
    decide();
    cost_.reading_s = whole.milliseconds() / 1000;
    divide();
    const Stopwatch sharing;
    share_out();
    cost_.sharing_s = sharing.milliseconds() / 1000;
    const Stopwatch ordering;
    lay_out();
    make_parts();
    make_top();
    place_wide();
    cost_.ordering_s = ordering.milliseconds() / 1000;
    cost_.whole_s = whole.milliseconds() / 1000;
    cost_.peak_bytes = static_cast<std::size_t>(most_held_.load());
    const std::size_t bytes = cost_.on_disk ? sizeof(SphereStore) : pages_->size();
    auto store = std::make_shared<SphereStore>(head_, Pages::shared(std::move(pages_)), bytes);
    store->cost = cost_;
    return store;
  }

 private:
  void told(double share) {
    if (!options_.progress) return;
    const std::lock_guard lock(mutex_);
    if (!options_.progress(share)) throw Error(ErrorKind::cancelled, "stopped by the caller");
  }
  /// So many bytes more are held, or less.
  void hold(std::int64_t bytes) {
    const std::int64_t now = held_ += bytes;
    std::int64_t most = most_held_;
    while (now > most && !most_held_.compare_exchange_weak(most, now)) {
    }
  }

  /// How the set is held.
  void decide() {
    head_.count = survey_.count;
    head_.smallest = survey_.smallest;
    head_.largest = survey_.largest;
    constexpr std::uint64_t most = (std::uint64_t{1} << 32) - (std::uint64_t{1} << 24);
    if (head_.count > most) {
      throw Error(ErrorKind::input,
                  fmt::format("{} spheres, expected {} at most", head_.count, most));
    }
    for (int axis = 0; axis < 3; ++axis) {
      head_.origin[axis] = 0.5 * (survey_.low[axis] + survey_.high[axis]);
      head_.low[axis] = survey_.surface_low[axis];
      head_.high[axis] = survey_.surface_high[axis];
    }
    const bool exact = options_.keeping == SphereKeeping::exact ||
                       (options_.keeping == SphereKeeping::automatic && head_.count <= exact_up_to);
    head_.exact = exact ? 1 : 0;
    head_.unit = head_.largest > 0 ? head_.largest : 1;
    form_.exact = exact;
    form_.own_radius = head_.smallest < head_.largest;
    form_.material_bytes = source_.has_materials() ? (survey_.materials > 255 ? 2 : 1) : 0;
    form_.color_bytes = source_.has_colors() ? 3 : 0;
    head_.material_bytes = static_cast<std::uint32_t>(form_.material_bytes);
    head_.color_bytes = static_cast<std::uint32_t>(form_.color_bytes);
    // Records, of which some become leaves (and, where exact, two indices each) at a time.
    const double needed = static_cast<double>(head_.count) *
                          (static_cast<double>(form_.bytes()) + (exact ? 12 : 1.5)) * 1.05;
    const auto allowed = static_cast<double>(options_.memory_limit);
    cost_.on_disk = needed > allowed && options_.working_file;
    if (needed > allowed && !cost_.on_disk) {
      throw Error(
          ErrorKind::memory,
          fmt::format("{} spheres take {:.2f} GiB of memory to be put in order, {:.2f} GiB are "
                      "allowed",
                      head_.count, std::ldexp(needed, -30), std::ldexp(allowed, -30)));
    }
  }

  /// Cells of about as many spheres each, by the samples.
  void divide() {
    head_.part_levels = 1;
    while (head_.part_levels < SphereTree::most_part_levels &&
           SphereTree::capacity(static_cast<int>(head_.part_levels)) < head_.count) {
      ++head_.part_levels;
    }
    std::size_t cells = 1;
    if (head_.count > SphereTree::most) {
      cells = static_cast<std::size_t>(
          std::ceil(static_cast<double>(head_.count) / (fullness * SphereTree::most)));
    }
    cells_.emplace(std::exchange(survey_.samples, {}), cells, survey_.low, survey_.high);
  }
  /// Meters of a step of the lattice on which the places of a cell are.
  double step_of(std::size_t cell) const {
    const double longest = ((*cells_)[cell].high - (*cells_)[cell].low).maxCoeff();
    const double steps = head_.exact == 1 ? 0x1p32 - 1025 : 0x1p24 - 2;
    return longest > 0 ? longest / steps : 1;
  }

  void share_out() {
    per_chunk_ = chunk_bytes / form_.bytes();
    const std::size_t chunks =
        head_.count / per_chunk_ + survey_.stretches.size() * cells_->size() + 1;
    raw_ = std::make_unique<Pages>(chunks * chunk_bytes, false, working_file());
    const std::size_t stretches = survey_.stretches.size();
    shared_.resize(stretches);
    std::vector<std::uint64_t> before(stretches + 1, 0);
    for (std::size_t i = 0; i < stretches; ++i) before[i + 1] = before[i] + survey_.stretches[i];
    std::atomic<std::size_t> done = 0;
    parallel_for(options_.threads, stretches, [&](std::size_t i) {
      share_stretch(i, before[i]);
      told(0.2 + 0.2 * static_cast<double>(++done) / static_cast<double>(stretches));
    });
    hold(static_cast<std::int64_t>(chunks_ * chunk_bytes));
  }
  struct Shared {
    std::vector<std::vector<std::uint32_t>> chunks;  ///< by cell
    std::vector<std::uint32_t> last;                 ///< spheres of the last of each
    std::vector<std::byte*> next;                    ///< where its next one goes
  };
  void share_stretch(std::size_t stretch, std::uint64_t first) {
    Shared& own = shared_[stretch];
    own.chunks.resize(cells_->size());
    own.last.assign(cells_->size(), static_cast<std::uint32_t>(per_chunk_));
    own.next.assign(cells_->size(), nullptr);
    std::vector<double> inverse;
    for (std::size_t cell = 0; cell < cells_->size(); ++cell) inverse.push_back(1 / step_of(cell));
    std::uint64_t count = 0;
    std::uint32_t cell_of_run[SphereRun::capacity];
    const std::size_t bytes = form_.bytes();
    source_.read(stretch, [&](const SphereRun& run) {
      if (count + run.count > survey_.stretches[stretch]) changed(stretch);
      cells_->find(run, cell_of_run);
      for (std::size_t i = 0; i < run.count; ++i) {
        const std::uint32_t cell = cell_of_run[i];
        if (own.last[cell] == per_chunk_) {
          own.last[cell] = 0;
          own.chunks[cell].push_back(static_cast<std::uint32_t>(chunks_++));
          own.next[cell] = raw_->data() + std::size_t{own.chunks[cell].back()} * chunk_bytes;
        }
        const SphereRecord record{own.next[cell]};
        own.next[cell] += bytes;
        ++own.last[cell];
        write(record, run, i, cell, inverse[cell], static_cast<std::uint32_t>(first + count + i));
      }
      count += run.count;
    });
    if (count != survey_.stretches[stretch]) changed(stretch);
  }
  void write(const SphereRecord& record, const SphereRun& run, std::size_t i, std::size_t cell,
             double inverse, std::uint32_t index) const {
    if (form_.exact) {
      record.put(0, run.x[i]);
      record.put(8, run.y[i]);
      record.put(16, run.z[i]);
      record.put(24, run.radius[i]);
      record.put(32, index);
    } else {
      const double at[3] = {run.x[i], run.y[i], run.z[i]};
      std::uint64_t steps[3];
      for (int axis = 0; axis < 3; ++axis) {
        const double place = (at[axis] - (*cells_)[cell].low[axis]) * inverse + 0.5;
        steps[axis] = static_cast<std::uint64_t>(
            static_cast<std::int64_t>(std::clamp(place, 0.0, 0x1p24 - 1)));
      }
      record.put(0, steps[0] | steps[1] << 24 | steps[2] << 48);
      record.put(8, static_cast<std::uint8_t>(steps[2] >> 16));
      if (form_.own_radius) record.put(9, SphereRadius::code(run.radius[i] / head_.unit));
    }
    if (form_.material_bytes == 1) {
      record.put(form_.material(), static_cast<std::uint8_t>(run.material[i]));
    } else if (form_.material_bytes == 2) {
      record.put(form_.material(), static_cast<std::uint16_t>(run.material[i]));
    }
    if (form_.color_bytes > 0) {
      for (std::size_t k = 0; k < 3; ++k) {
        record.put(form_.color() + k, static_cast<std::uint8_t>(run.color[i] >> (16 - 8 * k)));
      }
    }
  }
  [[noreturn]] void changed(std::size_t stretch) const {
    throw Error(ErrorKind::input, fmt::format("{}: not as many spheres the second time they were "
                                              "gone through",
                                              source_.name(stretch, 0)));
  }

  /// Parts get their numbers, and all arrays their places.
  void lay_out() {
    std::vector<std::uint64_t> left(cells_->size(), 0);
    for (const Shared& shared : shared_) {
      for (std::size_t cell = 0; cell < cells_->size(); ++cell) {
        const std::size_t chunks = shared.chunks[cell].size();
        if (chunks > 0) left[cell] += (chunks - 1) * per_chunk_ + shared.last[cell];
      }
    }
    // In the order in which nodes above will find them. A cell may have several.
    std::vector<SphereKey> keys;
    std::vector<std::size_t> cell_of;
    const double longest = std::max((survey_.high - survey_.low).maxCoeff(), 1e-300);
    for (std::size_t cell = 0; cell < cells_->size(); ++cell) {
      const Vec3d middle = 0.5 * ((*cells_)[cell].low + (*cells_)[cell].high) - survey_.low;
      for (std::uint64_t there = 0; there < left[cell]; there += SphereTree::most) {
        SphereKey key{};
        for (int axis = 0; axis < 3; ++axis) {
          key.at[axis] = static_cast<std::uint32_t>(middle[axis] / longest * 0x1p30);
        }
        key.index = static_cast<std::uint32_t>(keys.size());
        keys.push_back(key);
        cell_of.push_back(cell);
      }
    }
    head_.parts = keys.size();
    const int above = head_.levels() - static_cast<int>(head_.part_levels);
    top_axes_.resize(static_cast<std::size_t>(above));
    SphereOrder().order(keys, above, 1, top_axes_.data());
    part_of_.assign(cells_->size(), {});
    std::vector<std::uint32_t> held;
    std::vector<std::uint32_t> first{0};
    for (const SphereKey& key : keys) {
      const std::size_t cell = cell_of[key.index];
      part_of_[cell].push_back(static_cast<std::uint32_t>(held.size()));
      held.push_back(static_cast<std::uint32_t>(std::min(left[cell], SphereTree::most)));
      left[cell] -= held.back();
      first.push_back(first.back() + (held.back() + 7) / 8);
    }
    head_.blocks = first.back();
    head_.wide = head_.exact == 1 ? head_.blocks : 0;
    arrays_ = arrays_of(head_);
    pages_ = std::make_unique<Pages>(arrays_.bytes, head_.blocks > 65536, working_file());
    std::copy(first.begin(), first.end(), array<std::uint32_t>(arrays_.first_block));
    std::copy(held.begin(), held.end(), array<std::uint32_t>(arrays_.held));
    part_boxes_.resize(head_.parts);
  }
  int working_file() const { return cost_.on_disk ? options_.working_file() : -1; }
  template <class Value>
  Value* array(std::uint64_t at) const {
    return reinterpret_cast<Value*>(pages_->data() + at);
  }

  /// What one thread makes parts with, one after the other.
  struct Bench {
    PartSpheres spheres;
    SphereOrder order;
    std::int64_t bytes = 0;
  };

  void make_parts() {
    made_.resize(cells_->size());
    std::atomic<std::uint64_t> done = 0;
    std::vector<std::unique_ptr<Bench>> free;
    parallel_for(options_.threads, cells_->size(), [&](std::size_t cell) {
      std::unique_ptr<Bench> bench;
      {
        const std::lock_guard lock(mutex_);
        if (!free.empty()) {
          bench = std::move(free.back());
          free.pop_back();
        }
      }
      if (!bench) bench = std::make_unique<Bench>();
      make_cell(cell, *bench);
      const std::uint64_t so_far = done += bench->spheres.keys.size();
      told(0.4 + 0.6 * static_cast<double>(so_far) / static_cast<double>(head_.count));
      const std::lock_guard lock(mutex_);
      free.push_back(std::move(bench));
    });
    raw_.reset();
  }
  void make_cell(std::size_t cell, Bench& bench) {
    gather(cell, bench.spheres);
    const std::vector<SphereKey>& keys = bench.spheres.keys;
    // Keys twice, as they are ordered, and what goes with them.
    const auto bytes = static_cast<std::int64_t>(
        keys.capacity() * (2 * sizeof(SphereKey) + form_.bytes() - (form_.exact ? 0 : 9)));
    hold(bytes - std::exchange(bench.bytes, bytes));
    int levels = static_cast<int>(head_.part_levels);
    while (SphereTree::capacity(levels) < keys.size()) ++levels;
    std::vector<std::vector<std::uint8_t>> axes(static_cast<std::size_t>(levels));
    bench.order.order(bench.spheres.keys, levels, SphereTree::block, axes.data());
    const PartMaker maker(head_, arrays_, form_, pages_->data());
    const Vec3d origin(head_.origin[0], head_.origin[1], head_.origin[2]);
    for (std::size_t k = 0; k < part_of_[cell].size(); ++k) {
      part_boxes_[part_of_[cell][k]] =
          maker.make(part_of_[cell][k], k, bench.spheres, axes, (*cells_)[cell].low - origin,
                     step_of(cell), made_[cell]);
    }
    hold(static_cast<std::int64_t>(static_cast<double>(arrays_.bytes) *
                                   static_cast<double>(keys.size()) /
                                   static_cast<double>(head_.count)));
    put_aside(cell);
  }
  /// What was made of a cell, where that is in a file.
  void put_aside(std::size_t cell) {
    if (!cost_.on_disk) return;
    for (const std::uint32_t part : part_of_[cell]) {
      const auto* const first = array<std::uint32_t>(arrays_.first_block) + part;
      const std::uint64_t blocks = first[1] - first[0];
      const std::size_t bytes = form_.exact ? sizeof(SphereEight) : sizeof(SphereLeaf);
      pages_->put_aside((form_.exact ? arrays_.wide : arrays_.leaves) + first[0] * bytes,
                        blocks * bytes);
    }
  }
  /// A cell's spheres, out of their chunks, which are given back.
  void gather(std::size_t cell, PartSpheres& to) {
    to.keys.clear();
    for (auto& one : to.wide) one.clear();
    to.original.clear();
    to.radius.clear();
    to.material.clear();
    to.color.clear();
    const Vec3d low = (*cells_)[cell].low;
    const double inverse = 1 / step_of(cell);
    const std::size_t bytes = form_.bytes();
    for (const Shared& shared : shared_) {
      const std::vector<std::uint32_t>& chunks = shared.chunks[cell];
      for (std::size_t c = 0; c < chunks.size(); ++c) {
        std::byte* const begin = raw_->data() + std::size_t{chunks[c]} * chunk_bytes;
        const std::size_t count = c + 1 < chunks.size() ? per_chunk_ : shared.last[cell];
        const std::size_t first = to.keys.size();
        to.keys.resize(first + count);
        for (std::size_t k = 0; k < count; ++k) {
          const SphereRecord record{begin + k * bytes};
          SphereKey& key = to.keys[first + k];
          key.index = static_cast<std::uint32_t>(first + k);
          if (form_.exact) {
            for (int which = 0; which < 4; ++which) {
              const auto value = record.get<double>(8 * static_cast<std::size_t>(which));
              to.wide[which].push_back(value);
              if (which == 3) continue;
              key.at[which] = static_cast<std::uint32_t>(
                  std::clamp((value - low[which]) * inverse, 0.0, 4294967295.0));
            }
            to.original.push_back(record.get<std::uint32_t>(32));
          } else {
            const auto word = record.get<std::uint64_t>(0);
            key.at[0] = static_cast<std::uint32_t>(word & 0xffffff);
            key.at[1] = static_cast<std::uint32_t>(word >> 24 & 0xffffff);
            key.at[2] = static_cast<std::uint32_t>(word >> 48) |
                        std::uint32_t{record.get<std::uint8_t>(8)} << 16;
            if (form_.own_radius) to.radius.push_back(record.get<std::uint16_t>(9));
          }
          for (std::size_t b = 0; b < form_.material_bytes; ++b) {
            to.material.push_back(record.get<std::uint8_t>(form_.material() + b));
          }
          for (std::size_t b = 0; b < form_.color_bytes; ++b) {
            to.color.push_back(record.get<std::uint8_t>(form_.color() + b));
          }
        }
        raw_->give_back(std::size_t{chunks[c]} * chunk_bytes, chunk_bytes);
        hold(-static_cast<std::int64_t>(chunk_bytes));
      }
    }
  }

  void make_top() {
    std::vector<NodeBox> boxes = part_boxes_;
    for (int level = static_cast<int>(head_.part_levels); level < head_.levels(); ++level) {
      const std::uint64_t here = head_.nodes(level);
      const std::size_t above = static_cast<std::size_t>(level) - head_.part_levels;
      for (std::uint64_t node = 0; node < here; ++node) {
        SphereNode& to = array<SphereNode>(arrays_.nodes[level])[node];
        enclose(boxes.data() + 8 * node,
                static_cast<int>(std::min<std::uint64_t>(8, boxes.size() - 8 * node)), to);
        to.axes = top_axes_[above][node];
      }
      join_boxes(boxes);
    }
  }

  void place_wide() {
    for (const PartRest& made : made_) head_.moved = std::max(head_.moved, made.moved);
    double square = 0;
    for (int axis = 0; axis < 3; ++axis) {
      head_.low[axis] -= head_.moved;
      head_.high[axis] += head_.moved;
      square += std::pow(0.5 * (head_.high[axis] - head_.low[axis]), 2);
    }
    head_.reach = std::sqrt(square);
    if (form_.exact) return;
    for (const PartRest& made : made_) head_.wide += made.wide.size();
    pages_->grow(arrays_of(head_).bytes);
    std::uint64_t at = 0;
    for (PartRest& made : made_) {
      for (std::size_t i = 0; i < made.wide.size(); ++i) {
        array<SphereEight>(arrays_.wide)[at] = made.wide[i];
        SphereLeaf& leaf = array<SphereLeaf>(arrays_.leaves)[made.of[i]];
        leaf = {};
        leaf.radius[0] = SphereLeaf::wide;
        leaf.x[0] = static_cast<std::uint16_t>(at);
        leaf.x[1] = static_cast<std::uint16_t>(at >> 16);
        ++at;
      }
      made = {};
    }
    hold(static_cast<std::int64_t>(head_.wide * sizeof(SphereEight)));
  }

  const SphereSource& source_;
  const SphereSetOptions& options_;
  std::mutex mutex_;
  std::atomic<std::int64_t> held_ = 0, most_held_ = 0;
  SphereSurvey survey_;
  SphereHead head_;
  SphereSetCost cost_;
  SphereForm form_;
  std::optional<SphereCells> cells_;
  std::size_t per_chunk_ = 0;
  std::unique_ptr<Pages> raw_;
  std::atomic<std::size_t> chunks_ = 0;
  std::vector<Shared> shared_;
  std::vector<std::vector<std::uint32_t>> part_of_;  ///< by cell
  std::vector<std::vector<std::uint8_t>> top_axes_;
  SphereArrays arrays_{};
  std::unique_ptr<Pages> pages_;
  std::vector<NodeBox> part_boxes_;
  std::vector<PartRest> made_;  ///< by cell
};

}  // namespace

std::shared_ptr<const SphereSet> SphereSet::make(const SphereSource& source,
                                                 const SphereSetOptions& options) {
  return std::make_shared<const SphereSet>(Build(source, options).make());
}

}  // namespace photonlane
