#include <atomic>
#include <bit>
#include <cmath>
#include <limits>
#include <mutex>

#include "base/parallel.hpp"
#include "base/stopwatch.hpp"
#include "photonlane/base/error.hpp"
#include "photonlane/base/random.hpp"
#include "photonlane/spheres/spheres.hpp"
#include "spheres/node_box.hpp"
#include "spheres/pages.hpp"
#include "spheres/sphere_order.hpp"
#include "spheres/sphere_store.hpp"

namespace photonlane {
namespace {

constexpr double largest_place = 1e6;  // meters
constexpr std::uint64_t exact_up_to = std::uint64_t{1} << 20;
constexpr std::size_t samples_asked = std::size_t{1} << 20;
// A part that samples made too large becomes two.
constexpr double fullness = 0.9;
constexpr std::size_t chunk_bytes = 8192;
constexpr std::size_t radius_bytes = 2;

/// What is known of a stretch after the first time through.
struct Survey {
  std::uint64_t count = 0;
  double low[3], high[3];  ///< of centers
  double surface_low[3], surface_high[3];
  double smallest = std::numeric_limits<double>::infinity();
  double largest = 0;
  std::uint32_t materials = 0;
  std::uint64_t every = 1;  ///< how many spheres there are to a sample
  std::vector<Eigen::Vector3f> samples;
  std::vector<std::uint64_t> sampled;  ///< their indices
};

/// How space is shared out among parts: cut in two again and again where half of the samples lie on
/// either side.
struct Cut {
  double at = 0;
  std::int32_t axis = 0;
  std::int32_t cell = -1;           ///< which, where this is one
  std::uint32_t low = 0, high = 0;  ///< cuts on either side; of a cell, itself
};

struct Cell {
  Vec3d low, high;
};

/// What a record holds.
struct RecordForm {
  bool exact = false;
  bool own_radius = false;
  std::size_t material_bytes = 0;
  std::size_t color_bytes = 0;

  std::size_t bytes() const {
    return (exact ? 4 * sizeof(double) + sizeof(std::uint32_t)
                  : 9 + (own_radius ? radius_bytes : 0)) +
           material_bytes + color_bytes;
  }
  std::size_t per_chunk() const { return chunk_bytes / bytes(); }
  std::size_t material() const { return bytes() - material_bytes - color_bytes; }
  std::size_t color() const { return bytes() - color_bytes; }
};

/// A sphere's record: in doubles with its index, or three times 24 bits and the radius' code; then
/// its material and color.
struct Record {
  std::byte* at;

  template <class Value>
  void put(std::size_t offset, Value value) const {
    std::memcpy(at + offset, &value, sizeof(Value));
  }
  template <class Value>
  Value get(std::size_t offset) const {
    Value value;
    std::memcpy(&value, at + offset, sizeof(Value));
    return value;
  }
};

/// A part's spheres while it is made.
struct PartSpheres {
  std::vector<SphereKey> keys;
  std::vector<double> wide[4];
  std::vector<std::uint32_t> original;
  std::vector<std::uint16_t> radius;
  std::vector<std::uint8_t> material, color;
};

struct Made {
  std::vector<SphereWide> wide;
  std::vector<std::uint64_t> of;  ///< blocks
  double moved = 0;
};

class Build {
 public:
  Build(const SphereSource& source, const SphereSetOptions& options)
      : source_(source), options_(options) {}

  std::shared_ptr<const SphereStore> make() {
    const Stopwatch whole;
    survey();
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

  void survey() {
    surveys_.resize(source_.stretches());
    std::atomic<std::size_t> done = 0;
    parallel_for(options_.threads, surveys_.size(), [&](std::size_t i) {
      survey_stretch(i);
      told(0.2 * static_cast<double>(++done) / static_cast<double>(surveys_.size()));
    });
    for (int axis = 0; axis < 3; ++axis) {
      low_[axis] = std::numeric_limits<double>::infinity();
      high_[axis] = -low_[axis];
    }
    head_.smallest = std::numeric_limits<double>::infinity();
    std::uint32_t materials = 0;
    for (const Survey& one : surveys_) {
      head_.count += one.count;
      for (int axis = 0; axis < 3; ++axis) {
        low_[axis] = std::min(low_[axis], one.low[axis]);
        high_[axis] = std::max(high_[axis], one.high[axis]);
      }
      head_.smallest = std::min(head_.smallest, one.smallest);
      head_.largest = std::max(head_.largest, one.largest);
      materials = std::max(materials, one.materials);
    }
    if (head_.count == 0)
      throw Error(ErrorKind::input, "a set of no spheres, expected one at least");
    constexpr std::uint64_t most = (std::uint64_t{1} << 32) - (std::uint64_t{1} << 24);
    if (head_.count > most) {
      throw Error(ErrorKind::input,
                  fmt::format("{} spheres, expected {} at most", head_.count, most));
    }
    for (int axis = 0; axis < 3; ++axis) {
      head_.origin[axis] = 0.5 * (low_[axis] + high_[axis]);
      head_.low[axis] = std::numeric_limits<double>::infinity();
      head_.high[axis] = -head_.low[axis];
      for (const Survey& one : surveys_) {
        head_.low[axis] = std::min(head_.low[axis], one.surface_low[axis]);
        head_.high[axis] = std::max(head_.high[axis], one.surface_high[axis]);
      }
    }
    const bool exact = options_.keeping == SphereKeeping::exact ||
                       (options_.keeping == SphereKeeping::automatic && head_.count <= exact_up_to);
    head_.exact = exact ? 1 : 0;
    head_.unit = head_.largest > 0 ? head_.largest : 1;
    form_.exact = exact;
    form_.own_radius = head_.smallest < head_.largest;
    form_.material_bytes = source_.has_materials() ? (materials > 255 ? 2 : 1) : 0;
    form_.color_bytes = source_.has_colors() ? 3 : 0;
    head_.material_bytes = static_cast<std::uint32_t>(form_.material_bytes);
    head_.color_bytes = static_cast<std::uint32_t>(form_.color_bytes);
    const double needed = static_cast<double>(head_.count) *
                          (static_cast<double>(form_.bytes()) + (exact ? 12 : 1.5)) * 1.05;
    cost_.on_disk = needed > static_cast<double>(options_.memory_limit) && options_.working_file;
    if (needed > static_cast<double>(options_.memory_limit) && !cost_.on_disk) {
      throw Error(
          ErrorKind::memory,
          fmt::format("{} spheres take {:.2f} GiB of memory to be put in order, {:.2f} GiB are "
                      "allowed",
                      head_.count, std::ldexp(needed, -30),
                      std::ldexp(static_cast<double>(options_.memory_limit), -30)));
    }
  }

  void survey_stretch(std::size_t stretch) {
    Survey& own = surveys_[stretch];
    std::fill_n(own.low, 3, std::numeric_limits<double>::infinity());
    std::fill_n(own.high, 3, -std::numeric_limits<double>::infinity());
    std::copy_n(own.low, 3, own.surface_low);
    std::copy_n(own.high, 3, own.surface_high);
    const std::size_t most_samples =
        std::max<std::size_t>(1024, 2 * samples_asked / surveys_.size());
    source_.read(stretch, [&](const SphereRun& run) {
      check(stretch, own.count, run);
      const double* const at[3] = {run.x, run.y, run.z};
      for (int axis = 0; axis < 3; ++axis) {
        double low = own.low[axis];
        double high = own.high[axis];
        double surface_low = own.surface_low[axis];
        double surface_high = own.surface_high[axis];
        for (std::size_t i = 0; i < run.count; ++i) {
          low = std::min(low, at[axis][i]);
          high = std::max(high, at[axis][i]);
          surface_low = std::min(surface_low, at[axis][i] - run.radius[i]);
          surface_high = std::max(surface_high, at[axis][i] + run.radius[i]);
        }
        own.low[axis] = low;
        own.high[axis] = high;
        own.surface_low[axis] = surface_low;
        own.surface_high[axis] = surface_high;
      }
      for (std::size_t i = 0; i < run.count; ++i) {
        own.smallest = run.radius[i] < own.smallest ? run.radius[i] : own.smallest;
        own.largest = run.radius[i] > own.largest ? run.radius[i] : own.largest;
      }
      if (source_.has_materials()) {
        for (std::size_t i = 0; i < run.count; ++i) {
          own.materials = std::max(own.materials, run.material[i]);
        }
      }
      // Which ones are samples goes by a mixed index: places may repeat in step with it.
      for (std::size_t i = 0; i < run.count; ++i) {
        const std::uint64_t drawn = mix(own.count + i + 1);
        if ((drawn & (own.every - 1)) != 0) continue;
        own.samples.emplace_back(static_cast<float>(run.x[i]), static_cast<float>(run.y[i]),
                                 static_cast<float>(run.z[i]));
        own.sampled.push_back(drawn);
        if (own.samples.size() > most_samples) thin(own, own.every * 2);
      }
      own.count += run.count;
    });
  }
  static void thin(Survey& survey, std::uint64_t every) {
    survey.every = every;
    std::size_t kept = 0;
    for (std::size_t i = 0; i < survey.samples.size(); ++i) {
      if ((survey.sampled[i] & (every - 1)) != 0) continue;
      survey.samples[kept] = survey.samples[i];
      survey.sampled[kept++] = survey.sampled[i];
    }
    survey.samples.resize(kept);
    survey.sampled.resize(kept);
  }
  void check(std::size_t stretch, std::uint64_t first, const SphereRun& run) const {
    bool fine = true;
    for (std::size_t i = 0; i < run.count; ++i) {
      const double far =
          std::max({std::abs(run.x[i]), std::abs(run.y[i]), std::abs(run.z[i]), run.radius[i]});
      // Comparisons with what is no number are false.
      const bool sum = run.x[i] + run.y[i] + run.z[i] + run.radius[i] <= 4 * largest_place;
      fine = fine && far <= largest_place && run.radius[i] >= 0 && sum;
    }
    if (source_.has_materials()) {
      for (std::size_t i = 0; i < run.count; ++i) fine = fine && run.material[i] <= 0xffff;
    }
    if (fine) return;
    for (std::size_t i = 0; i < run.count; ++i) {
      const std::string name = source_.name(stretch, first + i);
      const double at[3] = {run.x[i], run.y[i], run.z[i]};
      for (int axis = 0; axis < 3; ++axis) {
        if (std::abs(at[axis]) <= largest_place) continue;
        throw Error(ErrorKind::input, fmt::format("{}: {} is {}, expected -1e6 to 1e6 meters", name,
                                                  "xyz"[axis], at[axis]));
      }
      if (!(run.radius[i] >= 0 && run.radius[i] <= largest_place)) {
        throw Error(ErrorKind::input, fmt::format("{}: a radius of {}, expected 0 to 1e6 meters",
                                                  name, run.radius[i]));
      }
      if (source_.has_materials() && run.material[i] > 0xffff) {
        throw Error(ErrorKind::input,
                    fmt::format("{}: material {}, expected 0 to 65535", name, run.material[i]));
      }
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
    std::uint64_t every = 1;
    for (const Survey& one : surveys_) every = std::max(every, one.every);
    std::vector<Eigen::Vector3f> samples;
    for (Survey& one : surveys_) {
      if (cells > 1) {
        if (one.every < every) thin(one, every);
        samples.insert(samples.end(), one.samples.begin(), one.samples.end());
      }
      one.samples = {};
      one.sampled = {};
    }
    cut(samples.data(), samples.data() + samples.size(), cells, low_, high_);
  }
  std::uint32_t cut(Eigen::Vector3f* first, Eigen::Vector3f* last, std::size_t cells, Vec3d low,
                    Vec3d high) {
    const auto own = static_cast<std::uint32_t>(cuts_.size());
    cuts_.emplace_back();
    if (cells <= 1 || last - first < 16) {
      cuts_[own] = {0, 0, static_cast<std::int32_t>(cells_.size()), own, own};
      cells_.push_back({low, high});
      return own;
    }
    Eigen::Vector3f least = *first;
    Eigen::Vector3f most = *first;
    for (const Eigen::Vector3f* one = first; one != last; ++one) {
      least = least.cwiseMin(*one);
      most = most.cwiseMax(*one);
    }
    int axis = 0;
    (most - least).maxCoeff(&axis);
    const std::size_t left = cells / 2;
    Eigen::Vector3f* const middle =
        first + static_cast<std::ptrdiff_t>(static_cast<double>(last - first) *
                                            static_cast<double>(left) / static_cast<double>(cells));
    std::nth_element(
        first, middle, last,
        [axis](const Eigen::Vector3f& a, const Eigen::Vector3f& b) { return a[axis] < b[axis]; });
    const double at = static_cast<double>((*middle)[axis]);
    Vec3d below = high;
    Vec3d above = low;
    below[axis] = at;
    above[axis] = at;
    const std::uint32_t one = cut(first, middle, left, low, below);
    const std::uint32_t two = cut(middle, last, cells - left, above, high);
    cuts_[own] = {at, axis, -1, one, two};
    return own;
  }
  /// Several ways down are followed at a time, so that none waits for memory, and without branches
  /// that nobody can foresee.
  void find_cells(const SphereRun& run, std::uint32_t* cells) const {
    constexpr std::size_t at_once = 8;
    const Cut* const cuts = cuts_.data();
    for (std::size_t first = 0; first < run.count; first += at_once) {
      double at[3][at_once];
      const Cut* now[at_once];
      for (std::size_t k = 0; k < at_once; ++k) {
        const std::size_t i = std::min(first + k, run.count - 1);
        at[0][k] = run.x[i];
        at[1][k] = run.y[i];
        at[2][k] = run.z[i];
        now[k] = cuts;
      }
      for (bool on = true; on;) {
        on = false;
        for (std::size_t k = 0; k < at_once; ++k) {
          // A cell leads to itself.
          const std::uint32_t next[2] = {now[k]->low, now[k]->high};
          now[k] = cuts + next[at[now[k]->axis][k] < now[k]->at ? 0 : 1];
          on = on || now[k]->cell < 0;
        }
      }
      const std::size_t there = std::min(at_once, run.count - first);
      for (std::size_t k = 0; k < there; ++k) {
        cells[first + k] = static_cast<std::uint32_t>(now[k]->cell);
      }
    }
  }
  /// Meters of a step of the lattice on which the places of a cell are.
  double step_of(const Cell& cell) const {
    const double longest = (cell.high - cell.low).maxCoeff();
    const double steps = head_.exact == 1 ? 0x1p32 - 1025 : 0x1p24 - 2;
    return longest > 0 ? longest / steps : 1;
  }

  void share_out() {
    per_chunk_ = form_.per_chunk();
    const std::size_t chunks = head_.count / per_chunk_ + surveys_.size() * cells_.size() + 1;
    raw_ = std::make_unique<Pages>(chunks * chunk_bytes, false, working_file());
    shared_.resize(surveys_.size());
    std::vector<std::uint64_t> before(surveys_.size() + 1, 0);
    for (std::size_t i = 0; i < surveys_.size(); ++i) before[i + 1] = before[i] + surveys_[i].count;
    std::atomic<std::size_t> done = 0;
    parallel_for(options_.threads, surveys_.size(), [&](std::size_t i) {
      share_stretch(i, before[i]);
      told(0.2 + 0.2 * static_cast<double>(++done) / static_cast<double>(surveys_.size()));
    });
    cost_.peak_bytes = chunks_ * chunk_bytes;
  }
  struct Shared {
    std::vector<std::vector<std::uint32_t>> chunks;  ///< by cell
    std::vector<std::uint32_t> last;                 ///< spheres of the last of each
    std::vector<std::byte*> next;                    ///< where its next one goes
  };
  void share_stretch(std::size_t stretch, std::uint64_t first) {
    Shared& own = shared_[stretch];
    own.chunks.resize(cells_.size());
    own.last.assign(cells_.size(), static_cast<std::uint32_t>(per_chunk_));
    own.next.assign(cells_.size(), nullptr);
    std::vector<double> inverse;
    for (const Cell& cell : cells_) inverse.push_back(1 / step_of(cell));
    std::uint64_t count = 0;
    std::uint32_t cell_of_run[SphereRun::capacity];
    const std::size_t bytes = form_.bytes();
    source_.read(stretch, [&](const SphereRun& run) {
      if (count + run.count > surveys_[stretch].count) changed(stretch);
      find_cells(run, cell_of_run);
      for (std::size_t i = 0; i < run.count; ++i) {
        const std::uint32_t cell = cell_of_run[i];
        if (own.last[cell] == per_chunk_) {
          own.last[cell] = 0;
          own.chunks[cell].push_back(static_cast<std::uint32_t>(chunks_++));
          own.next[cell] = raw_->data() + std::size_t{own.chunks[cell].back()} * chunk_bytes;
        }
        const Record record{own.next[cell]};
        own.next[cell] += bytes;
        ++own.last[cell];
        if (form_.exact) {
          record.put(0, run.x[i]);
          record.put(8, run.y[i]);
          record.put(16, run.z[i]);
          record.put(24, run.radius[i]);
          record.put(32, static_cast<std::uint32_t>(first + count + i));
        } else {
          const double at[3] = {run.x[i], run.y[i], run.z[i]};
          std::uint64_t steps[3];
          for (int axis = 0; axis < 3; ++axis) {
            const double place = (at[axis] - cells_[cell].low[axis]) * inverse[cell] + 0.5;
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
      count += run.count;
    });
    if (count != surveys_[stretch].count) changed(stretch);
  }
  [[noreturn]] void changed(std::size_t stretch) const {
    throw Error(ErrorKind::input, fmt::format("{}: not as many spheres the second time they were "
                                              "gone through",
                                              source_.name(stretch, 0)));
  }

  /// Parts get their numbers, and all arrays their places.
  void lay_out() {
    std::vector<std::uint64_t> count(cells_.size(), 0);
    for (const Shared& shared : shared_) {
      for (std::size_t cell = 0; cell < cells_.size(); ++cell) {
        const std::size_t chunks = shared.chunks[cell].size();
        if (chunks > 0) count[cell] += (chunks - 1) * per_chunk_ + shared.last[cell];
      }
    }
    // Cells in the order in which nodes above will find them.
    std::vector<SphereKey> keys;
    const double longest = std::max((high_ - low_).maxCoeff(), 1e-300);
    for (std::size_t cell = 0; cell < cells_.size(); ++cell) {
      for (std::uint64_t there = 0; there < count[cell]; there += SphereTree::most) {
        const Vec3d middle = 0.5 * (cells_[cell].low + cells_[cell].high) - low_;
        SphereKey key{};
        for (int axis = 0; axis < 3; ++axis) {
          key.at[axis] = static_cast<std::uint32_t>(middle[axis] / longest * 0x1p30);
        }
        key.index = static_cast<std::uint32_t>(cell);
        keys.push_back(key);
      }
    }
    head_.parts = keys.size();
    const int above = head_.levels() - static_cast<int>(head_.part_levels);
    top_axes_.resize(static_cast<std::size_t>(above));
    SphereOrder().order(keys, above, 1, top_axes_.data());
    part_of_.assign(cells_.size(), {});
    std::vector<std::uint32_t> held(keys.size());
    std::vector<std::uint64_t> left = count;
    for (std::size_t part = 0; part < keys.size(); ++part) {
      const std::size_t cell = keys[part].index;
      part_of_[cell].push_back(static_cast<std::uint32_t>(part));
      held[part] = static_cast<std::uint32_t>(std::min(left[cell], SphereTree::most));
      left[cell] -= held[part];
    }
    std::vector<std::uint32_t> first{0};
    for (const std::uint32_t spheres : held) {
      first.push_back(first.back() + (spheres + 7) / 8);
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

  void make_parts() {
    made_.resize(cells_.size());
    std::atomic<std::uint64_t> done = 0;
    std::mutex mutex;
    std::vector<std::unique_ptr<PartSpheres>> kept;
    std::vector<std::unique_ptr<SphereOrder>> orders;
    parallel_for(options_.threads, cells_.size(), [&](std::size_t cell) {
      std::unique_ptr<PartSpheres> spheres;
      std::unique_ptr<SphereOrder> order;
      {
        const std::lock_guard lock(mutex);
        if (!kept.empty()) {
          spheres = std::move(kept.back());
          order = std::move(orders.back());
          kept.pop_back();
          orders.pop_back();
        }
      }
      if (!spheres) spheres = std::make_unique<PartSpheres>();
      if (!order) order = std::make_unique<SphereOrder>();
      gather(cell, *spheres);
      const auto levels = static_cast<int>(head_.part_levels);
      std::vector<std::uint8_t> axes[SphereTree::most_part_levels + 2];
      int above = 0;
      while (SphereTree::capacity(levels + above) < spheres->keys.size()) ++above;
      if (above > 1) too_alike();
      order->order(spheres->keys, levels + above, SphereTree::block, axes);
      for (std::size_t k = 0; k < part_of_[cell].size(); ++k) {
        make_part(cell, k, *spheres, axes);
      }
      put_aside(cell);
      const std::uint64_t so_far = done += spheres->keys.size();
      const std::lock_guard lock(mutex);
      kept.push_back(std::move(spheres));
      orders.push_back(std::move(order));
      (void)so_far;
      told(0.4 + 0.6 * static_cast<double>(so_far) / static_cast<double>(head_.count));
    });
    raw_.reset();
  }
  /// What was made of a cell, where that is in a file.
  void put_aside(std::size_t cell) {
    if (!cost_.on_disk) return;
    for (const std::uint32_t part : part_of_[cell]) {
      const auto* const first = array<std::uint32_t>(arrays_.first_block) + part;
      const std::uint64_t blocks = first[1] - first[0];
      const std::size_t bytes = form_.exact ? sizeof(SphereWide) : sizeof(SphereLeaf);
      pages_->put_aside((form_.exact ? arrays_.wide : arrays_.leaves) + first[0] * bytes,
                        blocks * bytes);
    }
  }
  [[noreturn]] static void too_alike() {
    throw Error(ErrorKind::input, "more than two million spheres at one place");
  }

  /// A cell's spheres, out of their chunks, which are given back.
  void gather(std::size_t cell, PartSpheres& to) {
    to.keys.clear();
    for (auto& one : to.wide) one.clear();
    to.original.clear();
    to.radius.clear();
    to.material.clear();
    to.color.clear();
    const Vec3d low = cells_[cell].low;
    const double inverse = 1 / step_of(cells_[cell]);
    const std::size_t bytes = form_.bytes();
    for (const Shared& shared : shared_) {
      const std::vector<std::uint32_t>& chunks = shared.chunks[cell];
      for (std::size_t c = 0; c < chunks.size(); ++c) {
        std::byte* const begin = raw_->data() + std::size_t{chunks[c]} * chunk_bytes;
        const std::size_t count = c + 1 < chunks.size() ? per_chunk_ : shared.last[cell];
        const std::size_t first = to.keys.size();
        to.keys.resize(first + count);
        for (std::size_t k = 0; k < count; ++k) {
          const Record record{begin + k * bytes};
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
      }
    }
  }

  void make_part(std::size_t cell, std::size_t which, const PartSpheres& spheres,
                 const std::vector<std::uint8_t>* axes) {
    const std::uint32_t part = part_of_[cell][which];
    const std::uint64_t first_block = array<std::uint32_t>(arrays_.first_block)[part];
    const std::uint64_t blocks = array<std::uint32_t>(arrays_.first_block)[part + 1] - first_block;
    const std::uint64_t count = array<std::uint32_t>(arrays_.held)[part];
    const SphereKey* const keys = spheres.keys.data() + which * SphereTree::most;
    const Vec3d origin(head_.origin[0], head_.origin[1], head_.origin[2]);
    const Vec3d low = cells_[cell].low - origin;
    const double step = step_of(cells_[cell]);
    const auto levels = static_cast<int>(head_.part_levels);
    std::vector<NodeBox> boxes(blocks);
    std::vector<SphereEight> eights(8);
    double moved = 0;
    const std::uint64_t nodes = std::uint64_t{1} << (3 * (levels - 1));
    SphereNode* const bottom = array<SphereNode>(arrays_.nodes[0]) + part * nodes;
    for (std::uint64_t node = 0; node < nodes; ++node) {
      const std::uint64_t first = 8 * node;
      const int there =
          static_cast<int>(std::min<std::uint64_t>(8, first < blocks ? blocks - first : 0));
      for (int child = 0; child < there; ++child) {
        const std::uint64_t block = first + static_cast<unsigned>(child);
        SphereEight& eight = eights[static_cast<std::size_t>(child)];
        NodeBox box;
        for (std::size_t k = 0; k < 8; ++k) {
          const SphereKey& key = keys[std::min(8 * block + k, count - 1)];
          double* const to[3] = {eight.x, eight.y, eight.z};
          for (int axis = 0; axis < 3; ++axis) {
            to[axis][k] = form_.exact ? spheres.wide[axis][key.index] - origin[axis]
                                      : low[axis] + key.at[axis] * step;
          }
          eight.radius[k] = form_.exact ? spheres.wide[3][key.index]
                            : form_.own_radius
                                ? SphereRadius::share(spheres.radius[key.index]) * head_.unit
                                : head_.unit * (head_.largest > 0 ? 1 : 0);
          box.add(eight.x[k], eight.y[k], eight.z[k], eight.radius[k]);
          place_attributes(spheres, key.index, 8 * (first_block + block) + k);
        }
        boxes[block] = box;
      }
      enclose(boxes.data() + std::min(first, blocks), there, bottom[node]);
      bottom[node].axes = axes[0][which * nodes + node];
      for (int child = 0; child < there; ++child) {
        const std::uint64_t block = first_block + first + static_cast<unsigned>(child);
        const SphereEight& eight = eights[static_cast<std::size_t>(child)];
        if (form_.exact) {
          SphereWide& wide = array<SphereWide>(arrays_.wide)[block];
          for (std::size_t k = 0; k < 8; ++k) {
            const std::uint64_t at = 8 * (first + static_cast<unsigned>(child)) + k;
            const std::uint32_t index = keys[std::min(at, count - 1)].index;
            wide.x[k] = spheres.wide[0][index];
            wide.y[k] = spheres.wide[1][index];
            wide.z[k] = spheres.wide[2][index];
            wide.radius[k] = spheres.wide[3][index];
          }
        } else if (!fit(bottom[node], child, eight, head_.unit,
                        array<SphereLeaf>(arrays_.leaves)[block], moved)) {
          SphereWide wide;
          for (std::size_t k = 0; k < 8; ++k) {
            wide.x[k] = eight.x[k] + origin.x();
            wide.y[k] = eight.y[k] + origin.y();
            wide.z[k] = eight.z[k] + origin.z();
            wide.radius[k] = eight.radius[k];
          }
          made_[cell].wide.push_back(wide);
          made_[cell].of.push_back(block);
        }
      }
    }
    if (!form_.exact) moved += 0.5 * std::sqrt(3.0) * step;
    made_[cell].moved = std::max(made_[cell].moved, moved);
    for (int level = 1; level < levels; ++level) {
      join_boxes(boxes);
      const std::uint64_t here = std::uint64_t{1} << (3 * (levels - 1 - level));
      SphereNode* const to = array<SphereNode>(arrays_.nodes[level]) + part * here;
      for (std::uint64_t node = 0; node < here; ++node) {
        const std::uint64_t first = std::min<std::uint64_t>(8 * node, boxes.size());
        enclose(boxes.data() + first,
                static_cast<int>(std::min<std::uint64_t>(8, boxes.size() - first)), to[node]);
        to[node].axes = axes[level][which * here + node];
      }
    }
    join_boxes(boxes);
    part_boxes_[part] = boxes.front();
  }
  /// Each eight of them become one.
  static void join_boxes(std::vector<NodeBox>& boxes) {
    const std::size_t count = (boxes.size() + 7) / 8;
    for (std::size_t i = 0; i < count; ++i) {
      NodeBox all;
      for (std::size_t k = 8 * i; k < std::min(8 * i + 8, boxes.size()); ++k) all.add(boxes[k]);
      boxes[i] = all;
    }
    boxes.resize(count);
  }
  void place_attributes(const PartSpheres& spheres, std::uint32_t index, std::uint64_t slot) {
    if (form_.exact) {
      array<std::uint32_t>(arrays_.original)[slot] = spheres.original[index];
      std::uint32_t& of = array<std::uint32_t>(arrays_.slot_of)[spheres.original[index]];
      const std::uint64_t within = slot % 8;
      // Of the times that the last sphere is there the first one counts.
      if (within == 0 ||
          array<std::uint32_t>(arrays_.original)[slot - 1] != spheres.original[index]) {
        of = static_cast<std::uint32_t>(slot);
      }
    }
    const auto copy = [&](std::uint64_t to, const std::vector<std::uint8_t>& from,
                          std::size_t bytes) {
      for (std::size_t k = 0; k < bytes; ++k) {
        array<std::uint8_t>(to)[bytes * slot + k] = from[bytes * index + k];
      }
    };
    copy(arrays_.materials, spheres.material, form_.material_bytes);
    copy(arrays_.colors, spheres.color, form_.color_bytes);
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
    for (const Made& made : made_) head_.moved = std::max(head_.moved, made.moved);
    double square = 0;
    for (int axis = 0; axis < 3; ++axis) {
      head_.low[axis] -= head_.moved;
      head_.high[axis] += head_.moved;
      square += std::pow(0.5 * (head_.high[axis] - head_.low[axis]), 2);
    }
    head_.reach = std::sqrt(square);
    if (form_.exact) {
      cost_.peak_bytes = std::max(cost_.peak_bytes, static_cast<std::size_t>(arrays_.bytes));
      return;
    }
    for (const Made& made : made_) head_.wide += made.wide.size();
    pages_->grow(arrays_of(head_).bytes);
    std::uint64_t at = 0;
    for (Made& made : made_) {
      for (std::size_t i = 0; i < made.wide.size(); ++i) {
        array<SphereWide>(arrays_.wide)[at] = made.wide[i];
        SphereLeaf& leaf = array<SphereLeaf>(arrays_.leaves)[made.of[i]];
        leaf = {};
        leaf.radius[0] = SphereLeaf::wide;
        leaf.x[0] = static_cast<std::uint16_t>(at);
        leaf.x[1] = static_cast<std::uint16_t>(at >> 16);
        ++at;
      }
      made = {};
    }
    cost_.peak_bytes = std::max(cost_.peak_bytes, static_cast<std::size_t>(pages_->size()));
  }

  const SphereSource& source_;
  const SphereSetOptions& options_;
  std::mutex mutex_;
  SphereHead head_;
  SphereSetCost cost_;
  RecordForm form_;
  Vec3d low_, high_;  ///< of centers
  std::vector<Survey> surveys_;
  std::vector<Cut> cuts_;
  std::vector<Cell> cells_;
  std::size_t per_chunk_ = 0;
  std::unique_ptr<Pages> raw_;
  std::atomic<std::size_t> chunks_ = 0;
  std::vector<Shared> shared_;
  std::vector<std::vector<std::uint32_t>> part_of_;  ///< by cell
  std::vector<std::vector<std::uint8_t>> top_axes_;
  SphereArrays arrays_{};
  std::unique_ptr<Pages> pages_;
  std::vector<NodeBox> part_boxes_;
  std::vector<Made> made_;
};

}  // namespace

std::shared_ptr<const SphereSet> SphereSet::make(const SphereSource& source,
                                                 const SphereSetOptions& options) {
  return std::make_shared<const SphereSet>(Build(source, options).make());
}

}  // namespace photonlane
