#pragma once

#include <cstdint>
#include <vector>

#include "field/tape.hpp"

namespace photonlane {

/// An operation before registers are given: each writes a place of its own. Inputs are the numbers
/// of earlier steps; step 0 is the place where the field is asked.
struct TapeStep {
  TapeOp op = TapeOp::move;
  int a = 0;
  int b = -1;
  int whole = -1;
  std::uint32_t constants = 0;
  std::uint32_t shift = Tape::no_shift;
  std::uint32_t box = Tape::no_box;
  std::int32_t material = -1;
  double reach = 1;  ///< by how much what it writes changes at most for a meter
};

/// A tape before registers are given. Groups and crowds are as the tape's, of steps.
struct TapeSteps {
  struct Group {
    std::uint32_t begin = 0, end = 0;
    int join = -1;
    int point = 0;
    int value = -1;
    Bounds bounds;
    double looseness = 1;
    double reach = 1;
  };

  std::vector<TapeStep> steps{TapeStep{}};
  std::vector<double> constants;
  std::vector<Group> groups;
  std::vector<Tape::Crowd> crowds;
  std::vector<std::shared_ptr<const FieldSource>> sources;

  int result = 0;
};

/// Gives every step that matters the lowest registers that are free. Throws Error (input) where
/// there are too few.
Tape give_registers(TapeSteps list);

}  // namespace photonlane
