#include "many/part_exchange.hpp"

#include <fmt/format.h>

#include <cstring>
#include <type_traits>

#include "lane/hits.hpp"
#include "photonlane/base/error.hpp"

namespace photonlane {

/// Values one behind the other, as they lie in memory: all ranks are of one machine's kind.
class ByteWriter {
 public:
  template <class Value>
  void put(const Value& value) {
    put_all(&value, 1);
  }
  template <class Value>
  void put_all(const Value* values, std::size_t count) {
    static_assert(std::is_trivially_copyable_v<Value>);
    if (count == 0) return;
    const std::size_t at = bytes_.size();
    bytes_.resize(at + count * sizeof(Value));
    std::memcpy(bytes_.data() + at, values, count * sizeof(Value));
  }
  Company::Bytes take() { return std::move(bytes_); }

 private:
  Company::Bytes bytes_;
};

class ByteReader {
 public:
  explicit ByteReader(const Company::Bytes& bytes) : bytes_(bytes) {}
  template <class Value>
  Value get() {
    Value value{};
    get_all(&value, 1);
    return value;
  }
  template <class Value>
  void get_all(Value* values, std::size_t count) {
    static_assert(std::is_trivially_copyable_v<Value>);
    if (count == 0) return;
    if (bytes_.size() - at_ < count * sizeof(Value)) {
      throw Error(ErrorKind::input, "a message of another process is too short");
    }
    std::memcpy(values, bytes_.data() + at_, count * sizeof(Value));
    at_ += count * sizeof(Value);
  }
  Company::Bytes rest() const {
    return {bytes_.begin() + static_cast<std::ptrdiff_t>(at_), bytes_.end()};
  }
  bool empty() const { return at_ == bytes_.size(); }

 private:
  const Company::Bytes& bytes_;
  std::size_t at_ = 0;
};

namespace {

enum class Asked : std::uint32_t {
  nothing,
  nearest_float,
  nearest_double,
  hidden,
  distances,
  piece
};

/// What goes along with lanes.
struct LanesHead {
  std::uint32_t size;
  std::uint8_t any_start, any_limit, together, ending_only;
  double far_limit, spread;
};

template <class Number>
void put_lanes(const LaneBatch<Number>& lanes, ByteWriter& to) {
  to.put(LanesHead{static_cast<std::uint32_t>(lanes.size), lanes.any_start, lanes.any_limit,
                   lanes.together, lanes.ending_only, static_cast<double>(lanes.far_limit),
                   lanes.spread});
  for (const Number* const values :
       {lanes.x, lanes.y, lanes.z, lanes.direction_x, lanes.direction_y, lanes.direction_z}) {
    to.put_all(values, lanes.size);
  }
  if (lanes.any_start) to.put_all(lanes.start, lanes.size);
  if (lanes.any_limit) to.put_all(lanes.limit, lanes.size);
}

template <class Number>
void get_lanes(ByteReader& from, LaneBatch<Number>& lanes) {
  const auto head = from.get<LanesHead>();
  if (head.size > LaneBatch<Number>::capacity) {
    throw Error(ErrorKind::input, "a message of another process has too many lanes");
  }
  lanes.size = head.size;
  lanes.any_start = head.any_start != 0;
  lanes.any_limit = head.any_limit != 0;
  lanes.together = head.together != 0;
  lanes.ending_only = head.ending_only != 0;
  lanes.far_limit = static_cast<Number>(head.far_limit);
  lanes.spread = head.spread;
  for (Number* const values :
       {lanes.x, lanes.y, lanes.z, lanes.direction_x, lanes.direction_y, lanes.direction_z}) {
    from.get_all(values, lanes.size);
  }
  if (lanes.any_start) from.get_all(lanes.start, lanes.size);
  if (lanes.any_limit) from.get_all(lanes.limit, lanes.size);
}

/// What is told of a lane that met something.
template <class Number>
struct Met {
  Number t;
  std::uint32_t item, material, other;
  float share, normal[3];
};

template <class Number>
void put_hits(const HitBatch<Number>& hits, std::size_t size, bool normals, ByteWriter& to) {
  to.put_all(hits.steps, size);
  for (std::size_t i = 0; i < size; ++i) {
    const bool met = hits.ending[i] == Ending::hit;
    to.put(static_cast<std::uint8_t>(met));
    if (!met) continue;
    Met<Number> one{hits.t[i], hits.item[i], hits.material[i], hits.other[i], hits.share[i], {}};
    if (normals) {
      one.normal[0] = hits.normal_x[i];
      one.normal[1] = hits.normal_y[i];
      one.normal[2] = hits.normal_z[i];
    }
    to.put(one);
  }
}

/// Takes over what is nearer.
template <class Number>
void get_hits(ByteReader& from, std::size_t size, bool normals, HitBatch<Number>& hits) {
  std::uint32_t steps[HitBatch<Number>::capacity];
  from.get_all(steps, size);
  HitBatch<Number> other;
  for (std::size_t i = 0; i < size; ++i) {
    hits.steps[i] += steps[i];
    if (from.get<std::uint8_t>() == 0) continue;
    const auto one = from.get<Met<Number>>();
    other.t[i] = one.t;
    other.ending[i] = Ending::hit;
    other.face[i] = Face::curved;
    other.item[i] = one.item;
    other.material[i] = one.material;
    other.other[i] = one.other;
    other.share[i] = one.share;
    if (normals) {
      other.normal_x[i] = one.normal[0];
      other.normal_y[i] = one.normal[1];
      other.normal_z[i] = one.normal[2];
    } else {
      other.normal_x[i] = other.normal_y[i] = other.normal_z[i] = 0;
    }
    keep_nearer_lane(other, i, hits);
  }
}

}  // namespace

void PartExchange::join(std::size_t number, const PartedSolid& solid) {
  if (solids_.size() <= number) solids_.resize(number + 1);
  solids_[number] = &solid;
}

const PartedSolid& PartExchange::solid(std::size_t number) const {
  if (number >= solids_.size() || solids_[number] == nullptr) {
    throw Error(ErrorKind::usage, "parts of spheres were asked for before all were there");
  }
  return *solids_[number];
}

std::vector<Company::Bytes> PartExchange::round(const Company::Bytes& asked) {
  ++rounds_;
  const std::vector<Company::Bytes> all = company_.gather(asked);
  std::vector<Company::Bytes> answers;
  over_ = 0;
  answers.reserve(all.size());
  for (const Company::Bytes& one : all) answers.push_back(answer(one));
  return company_.swap(answers);
}

Company::Bytes PartExchange::answer(const Company::Bytes& asked) {
  ByteReader from(asked);
  ByteWriter to;
  switch (from.get<Asked>()) {
    case Asked::nothing:
      ++over_;
      break;
    case Asked::nearest_float:
      answer_nearest<float>(from, to);
      break;
    case Asked::nearest_double:
      answer_nearest<double>(from, to);
      break;
    case Asked::hidden:
      answer_hide(from, to);
      break;
    case Asked::distances:
      answer_measure(from, to);
      break;
    case Asked::piece: {
      const auto piece = from.get<std::uint64_t>();
      if (company_.leads() && take_) take_(piece, from.rest());
      break;
    }
  }
  return to.take();
}

template <class Number>
void PartExchange::answer_nearest(ByteReader& from, ByteWriter& to) const {
  const PartedSolid& own = solid(from.get<std::uint64_t>());
  Budget budget;
  budget.spheres.detail = from.get<double>();
  LaneBatch<Number> lanes;
  for (auto left = from.get<std::uint64_t>(); left > 0; --left) {
    get_lanes(from, lanes);
    put_hits(own.own_hits(lanes, budget), lanes.size, !lanes.ending_only, to);
  }
}

template <class Number>
void PartExchange::ask_nearest(std::size_t number, std::span<const LaneBatch<Number>* const> lanes,
                               const Budget& budget, std::span<HitBatch<Number>* const> hits) {
  ByteWriter asked;
  asked.put(std::is_same_v<Number, float> ? Asked::nearest_float : Asked::nearest_double);
  asked.put(std::uint64_t{number});
  asked.put(budget.spheres.detail);
  asked.put(std::uint64_t{lanes.size()});
  for (const LaneBatch<Number>* const batch : lanes) put_lanes(*batch, asked);
  for (std::size_t k = 0; k < lanes.size(); ++k) let_escape(*lanes[k], *hits[k]);
  for (const Company::Bytes& answered : round(asked.take())) {
    ByteReader from(answered);
    for (std::size_t k = 0; k < lanes.size(); ++k) {
      get_hits(from, lanes[k]->size, !lanes[k]->ending_only, *hits[k]);
    }
  }
}

void PartExchange::nearest_hits(std::size_t number, std::span<const LaneBatch<float>* const> lanes,
                                const Budget& budget, std::span<HitBatch<float>* const> hits) {
  ask_nearest(number, lanes, budget, hits);
}
void PartExchange::nearest_hits(std::size_t number, std::span<const LaneBatch<double>* const> lanes,
                                const Budget& budget, std::span<HitBatch<double>* const> hits) {
  ask_nearest(number, lanes, budget, hits);
}

void PartExchange::answer_hide(ByteReader& from, ByteWriter& to) const {
  const PartedSolid& own = solid(from.get<std::uint64_t>());
  LaneBatch<float> lanes;
  get_lanes(from, lanes);
  bool hidden[LaneBatch<float>::capacity];
  from.get_all(hidden, lanes.size);
  to.put(own.own_hide(lanes, Budget(), hidden));
  to.put_all(hidden, lanes.size);
}

std::uint64_t PartExchange::hide(std::size_t number, const LaneBatch<float>& lanes, const Budget&,
                                 bool* hidden) {
  ByteWriter asked;
  asked.put(Asked::hidden);
  asked.put(std::uint64_t{number});
  put_lanes(lanes, asked);
  asked.put_all(hidden, lanes.size);
  std::uint64_t steps = 0;
  for (const Company::Bytes& answered : round(asked.take())) {
    ByteReader from(answered);
    steps += from.get<std::uint64_t>();
    bool one[LaneBatch<float>::capacity];
    from.get_all(one, lanes.size);
    for (std::size_t i = 0; i < lanes.size; ++i) hidden[i] = hidden[i] || one[i];
  }
  return steps;
}

namespace {

/// The arrays that answers to distances have.
std::vector<double*> told_of(const DistanceBatch& batch) {
  if (batch.slope_x == nullptr) return {batch.value};
  return {batch.value, batch.slope_x, batch.slope_y, batch.slope_z};
}

/// A batch with arrays of its own.
struct OwnDistances {
  std::vector<double> numbers;
  std::vector<std::uint32_t> materials;
  DistanceBatch batch;
  OwnDistances(std::size_t count, bool slopes, bool of_what, bool opaque_only)
      : numbers(7 * count), materials(count) {
    batch.count = count;
    batch.x = numbers.data();
    batch.y = numbers.data() + count;
    batch.z = numbers.data() + 2 * count;
    batch.value = numbers.data() + 3 * count;
    if (slopes) {
      batch.slope_x = numbers.data() + 4 * count;
      batch.slope_y = numbers.data() + 5 * count;
      batch.slope_z = numbers.data() + 6 * count;
    }
    if (of_what) batch.material = materials.data();
    batch.opaque_only = opaque_only;
  }
};

}  // namespace

void PartExchange::answer_measure(ByteReader& from, ByteWriter& to) const {
  const PartedSolid& own = solid(from.get<std::uint64_t>());
  const auto count = from.get<std::uint64_t>();
  const auto slopes = from.get<std::uint8_t>();
  const auto of_what = from.get<std::uint8_t>();
  const auto opaque_only = from.get<std::uint8_t>();
  if (count > (std::uint64_t{1} << 24)) {
    throw Error(ErrorKind::input, "a message of another process has too many places");
  }
  OwnDistances all(count, slopes != 0, of_what != 0, opaque_only != 0);
  from.get_all(all.numbers.data(), 3 * count);
  const bool any = own.own_measure(all.batch);
  to.put(static_cast<std::uint8_t>(any));
  if (!any) return;
  for (const double* const values : told_of(all.batch)) to.put_all(values, count);
  if (of_what != 0) to.put_all(all.materials.data(), count);
}

void PartExchange::measure(std::size_t number, const DistanceBatch& batch) {
  ByteWriter asked;
  asked.put(Asked::distances);
  asked.put(std::uint64_t{number});
  asked.put(std::uint64_t{batch.count});
  asked.put(static_cast<std::uint8_t>(batch.slope_x != nullptr));
  asked.put(static_cast<std::uint8_t>(batch.material != nullptr));
  asked.put(static_cast<std::uint8_t>(batch.opaque_only));
  for (const double* const places : {batch.x, batch.y, batch.z}) asked.put_all(places, batch.count);
  bool first = true;
  OwnDistances one(batch.count, batch.slope_x != nullptr, batch.material != nullptr, false);
  const std::vector<double*> to = told_of(batch);
  const std::vector<double*> from_values = told_of(one.batch);
  for (const Company::Bytes& answered : round(asked.take())) {
    ByteReader from(answered);
    if (from.get<std::uint8_t>() == 0) continue;
    for (double* const values : from_values) from.get_all(values, batch.count);
    if (batch.material != nullptr) from.get_all(one.materials.data(), batch.count);
    for (std::size_t i = 0; i < batch.count; ++i) {
      if (!first && !(one.batch.value[i] < batch.value[i])) continue;
      for (std::size_t k = 0; k < to.size(); ++k) to[k][i] = from_values[k][i];
      if (batch.material != nullptr) batch.material[i] = one.materials[i];
    }
    first = false;
  }
}

void PartExchange::hand_in(std::size_t piece, const Company::Bytes& made) {
  ByteWriter asked;
  asked.put(Asked::piece);
  asked.put(std::uint64_t{piece});
  asked.put_all(made.data(), made.size());
  round(asked.take());
}

void PartExchange::finish() {
  ByteWriter nothing;
  nothing.put(Asked::nothing);
  const Company::Bytes asked = nothing.take();
  do {
    round(asked);
  } while (over_ < static_cast<std::size_t>(company_.size()));
}

}  // namespace photonlane
