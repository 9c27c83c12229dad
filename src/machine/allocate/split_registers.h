// What the rounds of allocation remember of the registers that splitting made.
//
// A value that finds no register for all of its range is split: into one piece for each outermost loop that
// uses it and one for each run of uses close together; a loop's piece that finds none is split into pieces
// for the loops inside and runs, from the fourth time on for loops twice as far inside as the last time; a
// run's into brief ones, which live for one instruction. Outside its pieces the value lies in its slot, or
// nowhere when it is a constant that is made again.
#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

enum class Scope : uint8_t { Whole, Loop, Run, Brief };

struct Piece {
  static constexpr uint32_t none = 0xffffffff;
  Scope scope = Scope::Whole;
  uint32_t loop = no_loop;   // Loop: which
  uint32_t slot = none;      // where the value lies outside of it
  uint32_t constant = none;  // row of Pieces::constants: how it is made again
  uint8_t generation = 0;    // how often a piece was split, from the whole register to this one
};

struct Pieces {
  explicit Pieces(std::pmr::memory_resource* memory) : of(memory), constants(memory) {}
  std::pmr::vector<Piece> of;            // by virtual register
  std::pmr::vector<CodeLine> constants;  // as the program makes them
};

}  // namespace porphyry::machine
