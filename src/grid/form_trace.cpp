#include "grid/form_trace.hpp"

#include <algorithm>
#include <limits>

namespace photonlane {
namespace {

constexpr float infinite = std::numeric_limits<float>::infinity();

/// A cell of the map as a lane comes to it.
struct Site {
  std::size_t id = 0;
  Cell cell = empty_cell;
  const CellForm* form = nullptr;

  bool block() const { return form == nullptr || form->shape == CellShape::block; }
  double height() const { return form == nullptr ? 0 : form->height; }
  /// True where one goes on into the other without a surface between them.
  bool same_body(const Site& other) const {
    if (cell != other.cell || height() != other.height()) return false;
    if (block() || other.block()) return block() && other.block();
    return form->shape == CellShape::pane && *form == *other.form;
  }
};

/// True where one thing begins as the other ends, in cells, but for rounding.
template <class Number>
bool adjoin(Number exit, Number enter) {
  return enter - exit <= Number(1e-5) * (1 + enter);
}

/// What lanes of one batch have in common.
template <class Number>
class Walker {
 public:
  Walker(const FormMap& map, const LaneBatch<Number>& lanes, const Budget& budget)
      : map_(map), lanes_(lanes), size_(static_cast<Number>(map.map.cell_size)), budget_(budget) {}

  CellLane<Number> lane(std::size_t i) const { return {lanes_, i, map_.map.cell_size}; }

  /// The cell a lane is in; false outside the map.
  bool site(const CellLane<Number>& lane, Site& site) const {
    std::int64_t x = lane.x.cell();
    std::int64_t y = lane.y.cell();
    const CellMap& map = map_.map;
    if (map.repeat) {
      x = ((x % map.width) + map.width) % map.width;
      y = ((y % map.height) + map.height) % map.height;
    } else if (x < 0 || y < 0 || x >= map.width || y >= map.height) {
      return false;
    }
    site.id = static_cast<std::size_t>(y) * map.width + static_cast<std::size_t>(x);
    site.cell = map.cells[site.id];
    site.form = map.form(site.id);
    return true;
  }

  /// Clips a lane to what stands in its cell; false where it misses it.
  bool content(const CellLane<Number>& lane, const Site& site, Content<Number>& content) const {
    if (site.cell == empty_cell) return false;
    if (site.block()) {
      content = {lane.t, lane.leaves(), lane.face()};
      return true;
    }
    return clip_to_panel(
        lane, map_.boxes[static_cast<std::size_t>(site.form - map_.map.forms.data())], content);
  }

  /// Meters above the floor where what stands there ends.
  Number top(const Site& site) const {
    return site.height() > 0 ? static_cast<Number>(site.height())
                             : std::numeric_limits<Number>::infinity();
  }

  Number size() const { return size_; }
  const FormMap& map() const { return map_; }
  const LaneBatch<Number>& lanes() const { return lanes_; }
  const CellBudget& budget() const { return budget_.cells; }
  bool by_increments() const { return budget_.cells.method == CellMethod::increment; }
  Number increment() const { return static_cast<Number>(budget_.cells.increment) / size_; }

 private:
  const FormMap& map_;
  const LaneBatch<Number>& lanes_;
  Number size_;
  const Budget& budget_;
};

/// Lanes of any direction, to the first surface.
template <class Number>
class Tracer {
 public:
  Tracer(const FormMap& map, const LaneBatch<Number>& lanes, const Budget& budget)
      : walker_(map, lanes, budget) {}

  HitBatch<Number> run() {
    const LaneBatch<Number>& lanes = walker_.lanes();
    std::fill_n(hits_.steps, lanes.size, 0u);
    for (std::size_t i = 0; i < lanes.size; ++i) prepare(i);
    if (walker_.by_increments()) {
      for (std::size_t i = 0; i < lanes.size; ++i) sample(i);
      return hits_;
    }
    LaneBatch<Number> work;
    work.far_limit = lanes.far_limit;
    CellStates<Number> states;
    const auto wait = [&](std::size_t i, const CellLane<Number>& lane) {
      index_[work.size] = i;
      states.x[work.size] = lane.x.crossed;
      states.y[work.size] = lane.y.crossed;
      work.take(lanes, i);
    };
    if (lanes.any_start) {
      for (std::size_t i = 0; i < lanes.size; ++i) {
        CellLane<Number> lane = walker_.lane(i);
        lane.resume_at(start_[i] / walker_.size());
        if (!pass(lane, i)) wait(i, lane);
      }
    } else {
      for (std::size_t i = 0; i < lanes.size; ++i) {
        index_[i] = i;
        work.take(lanes, i);
      }
    }
    bool resume = lanes.any_start;
    while (work.size > 0) {
      const HitBatch<Number> met = walk_cells(walker_.map().distances, walker_.map().map, work,
                                              walker_.budget(), &states, resume);
      const std::size_t count = work.size;
      work.size = 0;
      for (std::size_t k = 0; k < count; ++k) {
        const std::size_t i = index_[k];
        hits_.steps[i] += met.steps[k];
        if (met.item[k] == no_item) {
          met.ending[k] == Ending::spent ? end_spent(i, met.t[k]) : end_open(i);
          continue;
        }
        CellLane<Number> lane = walker_.lane(i);
        lane.resume(states.x[k], states.y[k]);
        if (!pass(lane, i)) wait(i, lane);
      }
      resume = true;
    }
    return hits_;
  }

 private:
  void prepare(std::size_t i) {
    const LaneBatch<Number>& lanes = walker_.lanes();
    const Number rise = lanes.direction_z[i];
    const Number ceiling = static_cast<Number>(walker_.map().map.wall_height);
    level_[i] = rise == 0
                    ? std::numeric_limits<Number>::infinity()
                    : std::max(Number(0), (rise < 0 ? -lanes.z[i] : ceiling - lanes.z[i]) / rise);
    far_[i] = std::min(lanes.far_limit, level_[i]);
    // What is met at the start itself has been met before; a surface's t may be off by rounding.
    constexpr Number slack = 1 + 8 * std::numeric_limits<Number>::epsilon();
    start_[i] = lanes.any_start ? lanes.start[i] * slack : Number(-1);
  }

  /// Takes a lane through cells that are not empty. True where it ended there; else it stands in an
  /// empty cell.
  bool pass(CellLane<Number>& lane, std::size_t i) {
    Site site;
    Site body;
    Number body_exit = 0;
    bool within = false;  // in the body it started in, or that it started at
    for (;;) {
      if (!walker_.site(lane, site)) {
        end_open(i);
        return true;
      }
      if (lane.t * walker_.size() > far_[i]) {
        end_open(i);
        return true;
      }
      if (site.cell == empty_cell) return false;
      Content<Number> content;
      if (walker_.content(lane, site, content)) {
        const Number enter = content.enter * walker_.size();
        const bool passed = start_[i] >= 0 &&
                            (enter <= start_[i] ||
                             (within && site.same_body(body) && adjoin(body_exit, content.enter)));
        if (passed) {
          body = site;
          body_exit = content.exit;
          within = true;
        } else if (meet(i, site, content, enter)) {
          return true;
        }
        if (passed && over_top(i, site, content, start_[i])) return true;
      }
      if (hits_.steps[i] >= static_cast<std::uint64_t>(walker_.budget().steps)) {
        end_spent(i, lane.t * walker_.size());
        return true;
      }
      lane.step();
      ++hits_.steps[i];
    }
  }

  /// The side of what stands in a cell, or its top.
  bool meet(std::size_t i, const Site& site, const Content<Number>& content, Number enter) {
    if (enter > far_[i]) return false;
    const LaneBatch<Number>& lanes = walker_.lanes();
    const Number height = lanes.z[i] + lanes.direction_z[i] * enter;
    if (height < walker_.top(site)) {
      put(i, enter, content.face, site, material_of(site.cell));
      hits_.exit[i] = run_out(i, site, content);
      if (content.face == Face::panel) {
        const Number whole = site.height() > 0 ? static_cast<Number>(site.height())
                                               : static_cast<Number>(walker_.map().map.wall_height);
        hits_.panel_u[i] = content.u;
        hits_.panel_v[i] = static_cast<float>(height / whole);
        hits_.normal_x[i] = content.normal_x;
        hits_.normal_y[i] = content.normal_y;
      }
      return true;
    }
    return over_top(i, site, content, enter);
  }

  /// The top of what stands in a cell, met from above at or after `from`.
  bool over_top(std::size_t i, const Site& site, const Content<Number>& content, Number from) {
    const LaneBatch<Number>& lanes = walker_.lanes();
    const Number rise = lanes.direction_z[i];
    if (!(rise < 0) || site.height() == 0) return false;
    const Number t = (static_cast<Number>(site.height()) - lanes.z[i]) / rise;
    if (!(t >= from && t < content.exit * walker_.size())) return false;
    const std::uint32_t top =
        site.form->top >= 0 ? static_cast<std::uint32_t>(site.form->top) : material_of(site.cell);
    put(i, t, Face::floor, site, top);
    hits_.exit[i] = run_out(i, site, content);
    return true;
  }

  /// Where a lane leaves the body it has met: only bodies that can be looked through need it.
  Number run_out(std::size_t i, const Site& site, const Content<Number>& content) const {
    Number exit = content.exit * walker_.size();
    if (!walker_.map().surfaces.volume(material_of(site.cell))) return exit;
    CellLane<Number> lane = walker_.lane(i);
    lane.resume_at(content.enter);
    Site next = site;
    while (next.same_body(site) && lane.t * walker_.size() < far_[i]) {
      exit = lane.leaves() * walker_.size();
      lane.step();
      if (!walker_.site(lane, next)) break;
    }
    const LaneBatch<Number>& lanes = walker_.lanes();
    if (lanes.direction_z[i] > 0 && site.height() > 0) {
      exit =
          std::min(exit, (static_cast<Number>(site.height()) - lanes.z[i]) / lanes.direction_z[i]);
    }
    return std::min(exit, far_[i]);
  }

  /// Looks only where steps of equal length land.
  void sample(std::size_t i) {
    const LaneBatch<Number>& lanes = walker_.lanes();
    const Number increment = walker_.increment();
    CellLane<Number> lane = walker_.lane(i);
    Site body;
    bool within = false;
    for (std::int64_t k = 0;; ++k) {
      const Number t = static_cast<Number>(k) * increment;
      const Number way = t * walker_.size();
      if (way > far_[i]) return end_open(i);
      if (k >= walker_.budget().steps) return end_spent(i, way);
      hits_.steps[i] = static_cast<std::uint32_t>(k);
      while (lane.leaves() <= t) lane.step();
      Site site;
      if (!walker_.site(lane, site)) {
        // Steps that fall before the map find nothing; behind it there is nothing more.
        if (past_map(lane)) return end_open(i);
        continue;
      }
      Content<Number> content;
      const bool stands = walker_.content(lane, site, content) && t >= content.enter &&
                          t < content.exit &&
                          lanes.z[i] + lanes.direction_z[i] * way < walker_.top(site);
      if (!stands) {
        within = false;
        continue;
      }
      if (start_[i] >= 0 && (way <= start_[i] || (within && site.same_body(body)))) {
        within = true;
        body = site;
        continue;
      }
      meet(i, site, content, way);
      return;
    }
  }

  bool past_map(const CellLane<Number>& lane) const {
    const CellMap& map = walker_.map().map;
    const auto past = [](const auto& axis, int side) {
      const std::int64_t cell = axis.cell();
      return axis.direction == 0 ? cell < 0 || cell >= side
                                 : (axis.sign > 0 ? cell >= side : cell < 0);
    };
    return past(lane.x, map.width) || past(lane.y, map.height);
  }

  void put(std::size_t i, Number t, Face face, const Site& site, std::uint32_t material) {
    hits_.t[i] = t;
    hits_.ending[i] = Ending::hit;
    hits_.face[i] = face;
    hits_.item[i] = static_cast<std::uint32_t>(site.id);
    hits_.material[i] = material;
  }

  void end_open(std::size_t i) {
    const LaneBatch<Number>& lanes = walker_.lanes();
    const CellSurfaces& surfaces = walker_.map().surfaces;
    const bool floor = lanes.direction_z[i] < 0;
    const bool level =
        level_[i] <= lanes.far_limit && level_[i] > start_[i] && (floor || surfaces.has_ceiling);
    hits_.t[i] = far_[i];
    hits_.item[i] = no_item;
    hits_.exit[i] = far_[i];
    hits_.ending[i] = level ? Ending::hit : Ending::escaped;
    hits_.face[i] = !level ? Face::none : floor ? Face::floor : Face::ceiling;
    hits_.material[i] = !level  ? 0
                        : floor ? surfaces.floor_at(walker_.map().map,
                                                    lanes.x[i] + level_[i] * lanes.direction_x[i],
                                                    lanes.y[i] + level_[i] * lanes.direction_y[i])
                                : surfaces.ceiling;
  }

  void end_spent(std::size_t i, Number t) {
    hits_.t[i] = t;
    hits_.item[i] = no_item;
    hits_.exit[i] = t;
    hits_.ending[i] = Ending::spent;
    hits_.face[i] = Face::none;
    hits_.material[i] = 0;
  }

  Walker<Number> walker_;
  HitBatch<Number> hits_;
  Number level_[LaneBatch<Number>::capacity];
  Number far_[LaneBatch<Number>::capacity];
  Number start_[LaneBatch<Number>::capacity];
  std::size_t index_[LaneBatch<Number>::capacity];
};

/// Level lanes, to the last thing that can be seen.
template <class Number>
class EventFinder {
 public:
  EventFinder(const FormMap& map, const LaneBatch<Number>& lanes, const Number* length,
              const Budget& budget, const OpenMaterials& open, double eye_height,
              ColumnEvents& events)
      : walker_(map, lanes, budget),
        length_(length),
        open_(open),
        eye_(static_cast<float>(eye_height)),
        events_(events) {}

  void run() {
    const LaneBatch<Number>& lanes = walker_.lanes();
    events_.size = lanes.size;
    events_.ranks.clear();
    std::fill_n(events_.steps, lanes.size, 0u);
    if (walker_.by_increments()) {
      for (std::size_t i = 0; i < lanes.size; ++i) sample(i);
      return;
    }
    LaneBatch<Number> work = lanes;
    CellStates<Number> states;
    std::size_t index[LaneBatch<Number>::capacity];
    for (std::size_t i = 0; i < lanes.size; ++i) index[i] = i;
    bool resume = false;
    while (work.size > 0) {
      const HitBatch<Number> met = walk_cells(walker_.map().distances, walker_.map().map, work,
                                              walker_.budget(), &states, resume);
      const std::size_t count = work.size;
      work.size = 0;
      for (std::size_t k = 0; k < count; ++k) {
        const std::size_t i = index[k];
        events_.steps[i] += met.steps[k];
        if (met.item[k] == no_item) {
          end(i, met.ending[k], met.t[k]);
          continue;
        }
        CellLane<Number> lane = walker_.lane(i);
        lane.resume(states.x[k], states.y[k]);
        if (pass(lane, i)) continue;
        index[work.size] = i;
        states.x[work.size] = lane.x.crossed;
        states.y[work.size] = lane.y.crossed;
        work.take(lanes, i);
      }
      resume = true;
    }
  }

 private:
  /// Notes what stands in cells that are not empty. True where nothing behind can be seen.
  bool pass(CellLane<Number>& lane, std::size_t i) {
    const Number far = walker_.lanes().far_limit;
    for (;;) {
      Site site;
      if (lane.t * walker_.size() > far || !walker_.site(lane, site)) {
        end(i, Ending::escaped, far);
        return true;
      }
      if (site.cell == empty_cell) return false;
      Content<Number> content;
      if (walker_.content(lane, site, content) &&
          add(i, site, content, content.enter, content.exit)) {
        return true;
      }
      if (events_.steps[i] >= static_cast<std::uint64_t>(walker_.budget().steps)) {
        end(i, Ending::spent, lane.t * walker_.size());
        return true;
      }
      lane.step();
      ++events_.steps[i];
    }
  }

  /// The next rank of a column.
  ColumnEvents::Rank& next(std::size_t i) {
    if (count_[i] == events_.ranks.size()) {
      ColumnEvents::Rank& rank = events_.ranks.emplace_back();
      std::fill_n(rank.enter, ColumnEvents::capacity, infinite);
    }
    return events_.ranks[count_[i]++];
  }

  float reach(std::size_t i, Number meters) const {
    return static_cast<float>(meters / length_[i]);
  }

  /// True where nothing behind can be seen.
  bool add(std::size_t i, const Site& site, const Content<Number>& content, Number enter,
           Number exit) {
    const bool clear = walker_.map().surfaces.clear(material_of(site.cell));
    // Bodies that can be looked through have no surfaces inside.
    if (clear && count_[i] > 0 && last_[i].same_body(site) && adjoin(last_exit_[i], enter)) {
      events_.ranks[count_[i] - 1].exit[i] = reach(i, exit * walker_.size());
      last_exit_[i] = exit;
      return false;
    }
    last_[i] = site;
    last_exit_[i] = exit;
    ColumnEvents::Rank& event = next(i);
    event.enter[i] = reach(i, enter * walker_.size());
    event.exit[i] = reach(i, exit * walker_.size());
    const Number top = walker_.top(site);
    event.top[i] = std::isfinite(top) ? static_cast<float>(top) - eye_ : infinite;
    event.whole[i] = site.height() > 0 ? static_cast<float>(site.height())
                                       : static_cast<float>(walker_.map().map.wall_height);
    event.u[i] = content.u;
    event.normal_x[i] = content.normal_x;
    event.normal_y[i] = content.normal_y;
    event.face[i] = content.face;
    event.ending[i] = Ending::hit;
    event.side[i] = material_of(site.cell);
    event.upper[i] = site.form != nullptr && site.form->top >= 0
                         ? static_cast<std::uint32_t>(site.form->top)
                         : material_of(site.cell);
    event.item[i] = static_cast<std::uint32_t>(site.id);
    return !std::isfinite(top) && !clear;
  }

  void end(std::size_t i, Ending ending, Number t) {
    ColumnEvents::Rank& event = next(i);
    event.enter[i] = reach(i, t);
    event.exit[i] = infinite;
    event.top[i] = infinite;
    event.face[i] = Face::none;
    event.ending[i] = ending;
    event.side[i] = event.upper[i] = open_.of(ending, 0);
    event.item[i] = no_item;
  }

  /// Looks only where steps of equal length land.
  void sample(std::size_t i) {
    const Number far = walker_.lanes().far_limit;
    const Number increment = walker_.increment();
    CellLane<Number> lane = walker_.lane(i);
    std::size_t inside = no_item;  // the cell whose content the step before was in
    for (std::int64_t k = 0;; ++k) {
      const Number t = static_cast<Number>(k) * increment;
      if (t * walker_.size() > far) return end(i, Ending::escaped, far);
      if (k >= walker_.budget().steps) return end(i, Ending::spent, t * walker_.size());
      events_.steps[i] = static_cast<std::uint32_t>(k);
      while (lane.leaves() <= t) lane.step();
      Site site;
      Content<Number> content;
      const bool stands = walker_.site(lane, site) && walker_.content(lane, site, content) &&
                          t >= content.enter && t < content.exit;
      if (inside != no_item) {
        events_.ranks[count_[i] - 1].exit[i] = reach(i, t * walker_.size());
        last_exit_[i] = t;
      }
      if (!stands) {
        inside = no_item;
      } else if (inside != site.id) {
        inside = site.id;
        if (add(i, site, content, t, t + increment)) return;
      }
    }
  }

  Walker<Number> walker_;
  const Number* length_;
  OpenMaterials open_;
  float eye_;
  ColumnEvents& events_;
  std::size_t count_[ColumnEvents::capacity] = {};
  Site last_[ColumnEvents::capacity];
  Number last_exit_[ColumnEvents::capacity];
};

}  // namespace

template <class Number>
HitBatch<Number> trace_forms(const FormMap& map, const LaneBatch<Number>& lanes,
                             const Budget& budget) {
  return Tracer<Number>(map, lanes, budget).run();
}

template <class Number>
void find_form_events(const FormMap& map, const LaneBatch<Number>& lanes, const Number* length,
                      const Budget& budget, const OpenMaterials& open, double eye_height,
                      ColumnEvents& events) {
  EventFinder<Number>(map, lanes, length, budget, open, eye_height, events).run();
}

template HitBatch<float> trace_forms(const FormMap&, const LaneBatch<float>&, const Budget&);
template HitBatch<double> trace_forms(const FormMap&, const LaneBatch<double>&, const Budget&);
template void find_form_events(const FormMap&, const LaneBatch<float>&, const float*, const Budget&,
                               const OpenMaterials&, double, ColumnEvents&);
template void find_form_events(const FormMap&, const LaneBatch<double>&, const double*,
                               const Budget&, const OpenMaterials&, double, ColumnEvents&);

}  // namespace photonlane
