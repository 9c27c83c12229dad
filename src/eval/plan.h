// A function laid out for running: steps in a flat array, operands as frame slots, jumps as step numbers.
// A value takes a slot a lane. Constants come first in a frame, so that a new frame starts with one copy.
#pragma once

#include <memory>
#include <unordered_map>
#include <vector>

#include "porphyry/eval/evaluator.h"

namespace porphyry::eval {

struct Jump {
  uint32_t step = 0;
  uint32_t first = 0, count = 0;  // pairs (from slot, to slot) in `lists`
  Edge edge;
  bool overlaps = false;  // a slot is both read and written: values go by way of a copy
};

struct Step {
  Op op;
  bool quick = false;  // a scalar of up to 64 bits without promises: the run loop's own cases
  uint8_t spare = 0;   // 64 less the operand's bits
  uint8_t promises = 0, permits = 0;
  Type operand, result;  // of the operands that matter; of the first result
  uint32_t slots[3] = {0, 0, 0};
  uint32_t out = 0;  // first slot of the results
  struct SlotList {
    uint32_t first = 0, count = 0;
  } all;                             // slots of all operands in `lists`, lane by lane
  uint32_t jump = 0;                 // first of the jumps
  uint32_t extra = 0;                // reserve: its hidden slot; choose: row of `choices`
  uint64_t mask = 0;                 // of a quick step's result
  const Address* address = nullptr;  // accesses
  Instruction origin;
};

struct Plan {
  std::vector<Step> steps;
  std::vector<uint32_t> lists;
  std::vector<Jump> jumps;
  struct Choice {
    std::unordered_map<uint64_t, uint32_t> ways;  // by value: the edge; values up to 64 bits
    std::vector<std::pair<Bits, uint32_t>> wide;
    uint32_t otherwise;
  };
  std::vector<Choice> choices;
  std::vector<Datum> constants;      // slots 0 …
  std::vector<uint32_t> parameters;  // a slot a lane
  std::vector<uint32_t> places;      // by value: its first slot
  std::vector<uint32_t> reserves;    // hidden slots: the object that is live, if any
  std::vector<uint8_t> marks;        // of parameters, a byte a lane
  uint32_t slot_count = 0;
  bool makes_promises = false;  // has parameters that are sole or const, or `sole`
};

Plan make_plan(const Function& function, const FunctionFacts& facts);

}  // namespace porphyry::eval
