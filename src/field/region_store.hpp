#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <utility>
#include <vector>

#include "base/lent.hpp"
#include "field/tape.hpp"

namespace photonlane {

/// Memory of Regions, which is lent, since regions are found for every batch of lanes. Its
/// functions are compiled once, for every machine.
struct RegionStore {
  struct Part {
    std::size_t from, to;    ///< balls
    std::size_t begin, end;  ///< of `instructions`
  };
  /// Memory for one crowd.
  struct Crowd {
    std::vector<double> values;
    std::vector<std::pair<double, std::uint32_t>> order;
    std::vector<std::uint64_t> sound, low;  ///< of the groups' values
  };

  std::vector<std::uint64_t> drop_first, drop_second;           ///< bits: balls
  std::vector<std::pair<std::uint32_t, std::uint32_t>> passed;  ///< begin and end of groups
  std::vector<Part> parts;
  std::vector<Tape::Instruction> instructions;
  std::vector<std::unique_ptr<Crowd>> crowds;  ///< by how deep they are within one another
  std::size_t crowd_depth = 0;
  /// Of sharp joins, by instruction: which record. A record holds `join_size` numbers.
  std::vector<std::uint32_t> joins;
  std::size_t join_count = 0;
  std::size_t join_size = 0;
  std::vector<double> join_values;
  std::vector<std::uint64_t> join_sounds;

  /// For regions of that many instructions.
  void start(std::size_t count);
  void add(const Tape::Instruction& instruction);
  /// Those from `begin` on were found from the last to the first.
  void turn_instructions(std::size_t begin);
  void add(const Part& part);
  void pass(std::uint32_t begin, std::uint32_t end);
  void sort_passed(std::size_t from);
  double* next_join(std::uint64_t sound);
  const double* join(std::size_t which) const { return join_values.data() + which * join_size; }
  std::uint64_t join_sound(std::size_t which) const { return join_sounds[which]; }
  /// Memory of a crowd within those that are held: `values` numbers, and an order of `groups`.
  Crowd& hold_crowd(std::size_t values, std::size_t groups);
  void sort(Crowd& crowd);
  void let_crowd_go() { --crowd_depth; }
};

}  // namespace photonlane
