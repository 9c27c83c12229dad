// What an operation computes, on bits. One function for everyone: the evaluator runs it, folding folds with
// it, the simulator gives instructions their meaning with it, so they cannot disagree.
#pragma once

#include <span>

#include "porphyry/ir/operations.h"

namespace porphyry {

// The bits of one scalar, low bits first, all bits above the type's width zero.
using Bits = unsigned __int128;

struct Computed {
  Bits bits = 0;
  bool trapped = false;
  Bits second = 0;  // of operations with two results
};

// Computes a pure or trapping operation of Layout One, Two, Three, Pick, Convert, Pair or Carry on scalars,
// or on one lane. `operand` is the type of the operands (of the last two for Pick, of the first for Carry),
// `result` the first result's. Arguments are masked to their widths. Widths up to 128 bits. Pointers compute
// as integers of their width. O(width) at most.
Computed compute(Op op, Type operand, Type result, std::span<const Bits> arguments);

// The operation that puts two lanes together, for a reduction: add for sum, and so on.
Op joining_op(Op reduction);

// All plain operations (OperationInfo::is_plain), lanes included: operands stand one behind the other in
// `in`, one word a lane; results in `out`. `lanes` are a shuffle's. False: it traps. O(lanes).
bool compute_lanes(Op op, std::span<const Type> operands, std::span<const Type> results,
                   std::span<const Bits> in, std::span<Bits> out, std::span<const uint16_t> lanes = {});

// Which of the promises (bits of promise::) do not hold for these operands, of one scalar or lane.
uint8_t broken_promises(Op op, uint8_t promises, Type operand, Type result, std::span<const Bits> arguments);

// All ones in the low `bits` bits.
constexpr Bits mask_of(unsigned bits) { return bits >= 128 ? ~Bits(0) : (Bits(1) << bits) - 1; }

// The number that `width` bits stand for as a signed integer, spread to all 128.
constexpr Bits sign_extended(Bits bits, unsigned width) {
  return static_cast<Bits>(static_cast<__int128>(bits << (128 - width)) >> (128 - width));
}

}  // namespace porphyry
