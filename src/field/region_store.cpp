#include "field/region_store.hpp"

#include <algorithm>

#include "base/lent_pool.hpp"

namespace photonlane {

template class Lent<RegionStore>;

void RegionStore::start(std::size_t count) {
  drop_first.assign(count, 0);
  drop_second.assign(count, 0);
  joins.resize(count);
  passed.clear();
  parts.clear();
  instructions.clear();
  crowd_depth = 0;
}

void RegionStore::turn_instructions(std::size_t begin) {
  std::reverse(instructions.begin() + static_cast<std::ptrdiff_t>(begin), instructions.end());
}
void RegionStore::add(const Tape::Instruction& instruction) { instructions.push_back(instruction); }
void RegionStore::add(const Part& part) { parts.push_back(part); }
void RegionStore::pass(std::uint32_t begin, std::uint32_t end) { passed.emplace_back(begin, end); }
void RegionStore::sort_passed(std::size_t from) {
  std::sort(passed.begin() + static_cast<std::ptrdiff_t>(from), passed.end());
}

double* RegionStore::next_join(std::uint64_t sound) {
  const std::size_t first = join_count++ * join_size;
  if (join_values.size() < first + join_size) join_values.resize(2 * (first + join_size));
  if (join_sounds.size() < join_count) join_sounds.resize(2 * join_count);
  join_sounds[join_count - 1] = sound;
  return join_values.data() + first;
}

RegionStore::Crowd& RegionStore::hold_crowd(std::size_t values, std::size_t groups) {
  if (crowds.size() == crowd_depth) crowds.push_back(std::make_unique<Crowd>());
  Crowd& crowd = *crowds[crowd_depth++];
  crowd.values.resize(values);
  crowd.order.resize(groups);
  crowd.sound.resize(groups);
  crowd.low.resize(groups);
  return crowd;
}

void RegionStore::sort(Crowd& crowd) { std::sort(crowd.order.begin(), crowd.order.end()); }

}  // namespace photonlane
