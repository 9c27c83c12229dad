// A run step by step: each value as it was made, in the IR; and two forms of a program in step.
//
//   auto t = trace(module, read_call("average 3 4"));
//   for (const TraceLine& l : t->lines) fmt::format("{} is {}", l.value, number_forms(l.type,
//   l.words)[0].decimal);
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "porphyry/ask/inputs.h"

namespace porphyry {

// What an instruction of machine code wrote; see ask/trace_code.h.
struct RegisterWrite {
  std::string place;            // the register
  Type type;                    // of the value that it carries, else integers as wide as it
  std::vector<uint64_t> words;  // by the type, as constants have them
  std::string value;            // the program's value that it now holds; empty when unknown, or not yet whole
};

struct TraceLine {
  std::string function, block;
  size_t depth = 1;             // calls inside calls
  std::string text;             // the instruction; of a parameter, where its value came from
  std::string value;            // that it made; empty when it made none
  Type type;                    // of the value
  std::vector<uint64_t> words;  // as constants have them; without a value, of all operands but addresses
  std::string position;         // in the source
  std::string key;              // the same in other forms of the program: function and value, or operation
  // Of machine code: the registers that were written, and the flags that changed.
  std::vector<RegisterWrite> writes = {};
  std::vector<std::pair<std::string, bool>> flags = {};
};

struct TraceOptions {
  std::string function, value;    // only of this function, only this value
  size_t skip = 0, most = 2'000;  // lines left out at the beginning, and kept
  RunLimits limits = {};
};

struct Trace {
  bool of_code = false;  // of machine code
  std::vector<TraceLine> lines;
  size_t before = 0, behind = 0;  // lines that were left out
  Seen seen;
};

// Errors: words that do not fit the function.
Result<Trace> trace(const Module& module, const WrittenCall& call, const TraceOptions& options = {});

// One line of either run, or one of both that made the same value of the program.
struct TracePair {
  static constexpr size_t none = ~size_t(0);
  size_t left = none, right = none;  // lines of the two traces
  bool differs = false;              // of both, and with other bits
};
struct TraceComparison {
  Trace left, right;
  std::vector<TracePair> pairs;               // in the order of both
  size_t first_difference = TracePair::none;  // among them
  std::string deviation;                      // between what the two runs show; empty when they agree
};
// Two forms of a program, one behind passes that the other did not see, or two files with functions of the
// same names. O((lines left + right) * lines that only one has).
TraceComparison compare_traces(Trace left, Trace right);
Result<TraceComparison> trace_against(const Module& left, const Module& right, const WrittenCall& call,
                                      const TraceOptions& options = {});

// A number in all its forms, one a lane.
struct NumberForms {
  std::string decimal;  // of integers as a signed number, too, where that is another: "253 (-3)"
  std::string hex, bits;
  std::string parts;  // of floats: "+1.25 * 2^3", "-0", "a NaN with payload 0x1"; empty for others
};
std::vector<NumberForms> number_forms(Type type, std::span<const uint64_t> words);

}  // namespace porphyry
