// Makes programs: for tests of whatever reads, changes or lowers the IR. From one seed always the same
// program.
//
// Programs are valid and end. They never fault: accesses stay in bounds, promises and kinds hold, `sole` and
// `const` are kept; a few trap. What they compute depends on no open choice: fresh bytes are written before
// they are read, addresses and the bits of NaNs stay hidden. So two runs that differ show a mistake.
#pragma once

#include <array>
#include <memory>
#include <optional>
#include <vector>

#include "porphyry/ir/module.h"

namespace porphyry {

struct SampleOptions {
  uint64_t seed = 1;
  unsigned functions = 3;    // that call one another; a few helpers come on top
  unsigned statements = 14;  // at most, in a row; control flow nests three deep
  // What a target wants that is to run them; else any.
  std::optional<MemoryLayout> layout = {};
  unsigned lanes = 0;  // so many of a hundred new types have lanes of the widths that registers are made for
};

struct Sample {
  static constexpr size_t piece_bytes = 256;

  std::unique_ptr<Module> module;
  Symbol main;                      // takes the address of a piece of memory first
  Symbol store;                     // data that it may leave changed
  std::vector<uint64_t> arguments;  // of the other parameters: the words of each, see Type::words
  static std::array<uint8_t, piece_bytes> fresh_piece();  // what the piece holds at first
};

// O(size of the program).
Sample make_sample(Realm& realm, const SampleOptions& options = {});

// How much of the language programs touch.
struct SampleCoverage {
  std::array<uint64_t, operation_count> uses{};  // instructions, by operation
  uint64_t programs = 0, instructions = 0;

  void add(const Module& module);
  // Share of the table's operations that came up, from 0 to 1.
  double share() const;
  std::vector<Op> missing() const;
};

}  // namespace porphyry
