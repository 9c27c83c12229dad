// What an operation computes, on bits. One function for everyone: the evaluator runs it, folding folds with
// it, the simulator gives instructions their meaning with it, so they cannot disagree.
#pragma once

#include <span>

#include "porphyry/ir/operations.h"

namespace porphyry {

// The bits of one scalar, low bits first, all bits above the type's width zero.
using Word = unsigned __int128;

struct Computed {
  Word bits = 0;
  bool trapped = false;
};

// Computes a pure or trapping operation of Layout One, Two, Three, Pick or Convert. `operand` is the type of
// the operands (of the last two for Pick), `result` the result's. Arguments are masked to their widths.
// Widths up to 128 bits. Pointers compute as integers of their width. O(width) at most.
Computed compute(Op op, Type operand, Type result, std::span<const Word> arguments);

// All ones in the low `bits` bits.
constexpr Word mask_of(unsigned bits) { return bits >= 128 ? ~Word(0) : (Word(1) << bits) - 1; }

}  // namespace porphyry
