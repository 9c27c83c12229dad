// What is known of an integer: bits, and bounds unsigned and signed. Facts hold for each lane of a value with
// lanes.
//
//   Number index = number_of(f, v);            // from the value's own operations, a few deep
//   if (index.high < 8) …
//
// Each fact is an over-approximation: every value that may occur satisfies it. Facts of the three kinds
// sharpen each other (`Number::settle`). Known bits: as in J. Regehr, U. Duongsaa, "Deriving Abstract
// Transfer Functions for Analyzing Embedded Software", 2006; bounds as intervals that do not wrap, once
// unsigned and once signed.
#pragma once

#include <optional>
#include <span>

#include "porphyry/ir/function.h"

namespace porphyry {

struct Number {
  using Signed = __int128;
  unsigned width = 0;        // 1 to 128; 0: nothing is known of it, as it is no integer
  Bits zeros = 0, ones = 0;  // bits that are known, without common ones
  Bits low = 0, high = 0;    // unsigned, both included
  Signed least = 0, greatest = 0;

  static Number any(unsigned width);
  static Number exactly(unsigned width, Bits bits);
  static Number between(unsigned width, Bits low, Bits high);
  static Number between_signed(unsigned width, Signed least, Signed greatest);

  bool exists() const { return width != 0; }
  bool is_exact() const { return exists() && low == high; }
  bool has(Bits v) const;  // whether the facts allow it
  // No value satisfies all of it: the code is not reached.
  bool is_empty() const { return exists() && (low > high || least > greatest || (zeros & ones)); }
  // Lets the kinds of facts sharpen each other.
  Number settled() const;
  // What holds of both, of either.
  Number joined(const Number& other) const;
  Number met(const Number& other) const;
  bool operator==(const Number&) const = default;
};

// A plain operation on numbers, which are settled; of the first result. Operands that are no integers do not
// exist. O(1).
Number compute_number(Op op, Type result, std::span<const Number> operands);
// Whether a comparison always, never holds.
std::optional<bool> decided(Op comparison, const Number& a, const Number& b);
// What a comparison tells of its first operand where it holds.
Number refined(const Number& a, Op comparison, const Number& b);

// Of a constant, parameters, and results of operations that compute, at most `depth` operations back.
// O(3^depth).
Number number_of(const Function& f, Value v, unsigned depth = 4);

}  // namespace porphyry
