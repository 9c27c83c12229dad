// Slices: all that a value depends on, or all that depends on it.
//
//   auto s = slice(module, function, "gap", SliceWay::Backward);
//   for (const SliceStep& step : s->steps) fmt::format("{} ({} of {})", step.text, step.why, step.from);
//
// M. Weiser, "Program Slicing", 1984; over the program dependence graph: K. Ottenstein, L. Ottenstein, 1984.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "porphyry/analyze/dependences.h"
#include "porphyry/base/diagnostics.h"
#include "porphyry/optimize/drawing.h"

namespace porphyry {

enum class SliceWay : uint8_t { Backward, Forward };

struct SliceStep {
  Dependences::Node node;
  std::string text;  // the instruction, or the parameter
  std::string name;  // of the value, or of the operation that gives none
  std::string block, position;
  std::string why;  // how it belongs to `from`: "operand", "memory", "decides whether it runs", …
  size_t from = 0;  // the step by which it was found; of the first one, itself
};

struct Slice {
  std::string function, value;
  SliceWay way = SliceWay::Backward;
  std::vector<SliceStep> steps;  // the value first, then by distance
  size_t instructions = 0;       // of the function, for comparison
  bool reaches_memory = false;   // of a backward slice: memory that callers hand in belongs to it
  std::vector<uint8_t> in;       // by node's code: whether it belongs to the slice
  bool holds(Dependences::Node n) const;
};

// Within one function; a call stands for all that it may do. Errors: there is no such value.
Result<Slice> slice(const Module& module, Symbol function, std::string_view value, SliceWay way);
std::string_view why_text(Dependences::Why why);
// Each step a node, with an edge from what it was found by.
Drawing drawing_of(const Slice& slice);

}  // namespace porphyry
