// A function laid out for running: steps in a flat array, operands as frame slots, jumps as step numbers.
// Constants come first in a frame, so that a new frame starts with one copy.
#pragma once

#include <vector>

#include "porphyry/eval/evaluator.h"

namespace porphyry::eval {

struct Jump {
  uint32_t step = 0;
  uint32_t first = 0, count = 0;  // pairs (from slot, to slot) in `lists`
};

struct Step {
  Op op;
  bool simple = false;  // integers, bools or pointers of up to 64 bits: the run loop's own cases
  Type operand, result;
  uint32_t slots[3] = {0, 0, 0};
  uint32_t out = 0;              // first result slot
  uint32_t list = 0, count = 0;  // calls and returns: operand slots in `lists`
  uint32_t jump = 0;             // first of the jumps
  Instruction origin;
};

struct Plan {
  std::vector<Step> steps;
  std::vector<uint32_t> lists;
  std::vector<Jump> jumps;
  std::vector<Datum> constants;  // slots 0 …
  std::vector<uint32_t> parameters;
  uint32_t slot_count = 0;
};

Plan make_plan(const Function& function);

}  // namespace porphyry::eval
