#include "field/tape_steps.hpp"

#include <algorithm>
#include <initializer_list>
#include <utility>

namespace photonlane {
namespace {

class Registers {
 public:
  std::uint8_t take(int wanted = -1) {
    int index = wanted;
    if (index < 0 || used_[index]) {
      index = static_cast<int>(std::find(used_.begin(), used_.end(), false) - used_.begin());
    }
    if (index >= Tape::most_registers) {
      throw Error(ErrorKind::input, "a field of too many operations within one another");
    }
    used_[index] = true;
    count_ = std::max(count_, index + 1);
    return static_cast<std::uint8_t>(index);
  }
  void free(std::uint8_t index) { used_[index] = false; }
  int count() const { return count_; }

 private:
  std::vector<bool> used_ = std::vector<bool>(Tape::most_registers + 1, false);
  int count_ = 0;
};

/// The last step that needs what each step writes; -1: none does.
std::vector<int> last_uses(const TapeSteps& list) {
  const int count = static_cast<int>(list.steps.size());
  std::vector<int> last(count, -1);
  last[list.result] = count;
  // From the end, so that what only dead steps need is dead too.
  for (int i = count - 1; i > 0; --i) {
    if (last[i] < 0) continue;
    const TapeStep& step = list.steps[i];
    for (const int input : {step.a, step.b, step.whole}) {
      if (input >= 0) last[input] = std::max(last[input], i);
    }
  }
  // Groups may be evaluated in any order: what one of them needs from outside stays to the end.
  for (const Tape::Crowd& crowd : list.crowds) {
    const int begin = static_cast<int>(crowd.begin);
    const int end = static_cast<int>(crowd.end) - 1;
    for (int i = begin; i <= end; ++i) {
      if (last[i] < 0) continue;
      const TapeStep& step = list.steps[i];
      for (const int input : {step.a, step.b, step.whole}) {
        if (input >= 0 && input < begin) last[input] = std::max(last[input], end);
      }
    }
  }
  return last;
}

}  // namespace

Tape give_registers(TapeSteps list) {
  Tape tape;
  const std::vector<TapeStep>& steps = list.steps;
  const int count = static_cast<int>(steps.size());
  const std::vector<int> last = last_uses(list);
  std::vector<std::vector<int>> ending(count);
  for (int i = 1; i < count; ++i) {
    if (last[i] >= 0 && last[i] < count) ending[last[i]].push_back(i);
  }
  const auto is_point = [&](int i) { return i == 0 || writes_point(steps[i].op); };
  std::vector<std::uint8_t> in(count, Tape::no_register);
  // Where a step's instruction is, or the next one's.
  std::vector<std::uint32_t> instruction(count + 1, 0);
  Registers points;
  Registers values;
  in[0] = points.take();
  for (int i = 1; i < count; ++i) {
    instruction[i] = static_cast<std::uint32_t>(tape.instructions.size());
    if (last[i] < 0) continue;
    const TapeStep& step = steps[i];
    // Values only are written over: a point has three parts that are read after one another.
    for (const int done : ending[i]) {
      if (!is_point(done)) values.free(in[done]);
    }
    const bool reuse = reads_value(step.op) && last[step.a] == i;
    in[i] = is_point(i) ? points.take() : values.take(reuse ? in[step.a] : -1);
    for (const int done : ending[i]) {
      if (is_point(done)) points.free(in[done]);
    }
    tape.instructions.push_back(
        {.op = step.op,
         .out = in[i],
         .a = in[step.a],
         .b = step.b < 0 ? std::uint8_t{0} : in[step.b],
         .constants = step.constants,
         .material = step.material,
         .reach_a = static_cast<float>(steps[step.a].reach),
         .reach_b = step.b < 0 ? 1.0f : static_cast<float>(steps[step.b].reach),
         .reach = static_cast<float>(step.reach),
         .whole = step.whole < 0 ? Tape::no_register : in[step.whole],
         .shift = step.shift,
         .box = step.box});
  }
  instruction[count] = static_cast<std::uint32_t>(tape.instructions.size());
  for (const TapeSteps::Group& group : list.groups) {
    tape.groups.push_back({.begin = instruction[group.begin],
                           .end = instruction[group.end],
                           .join = group.join < 0 ? Tape::no_join : instruction[group.join],
                           .point = in[group.point],
                           .value = in[group.value],
                           .bounds = group.bounds,
                           .looseness = group.looseness,
                           .reach = static_cast<float>(group.reach)});
  }
  for (const Tape::Crowd& crowd : list.crowds) {
    tape.crowds.push_back({.begin = instruction[crowd.begin],
                           .end = instruction[crowd.end],
                           .first_group = crowd.first_group,
                           .last_group = crowd.last_group});
  }
  tape.sources = std::move(list.sources);
  tape.constants = std::move(list.constants);
  tape.constants_float.assign(tape.constants.begin(), tape.constants.end());
  tape.points = points.count();
  tape.values = values.count();
  tape.result = in[list.result];
  return tape;
}

}  // namespace photonlane
