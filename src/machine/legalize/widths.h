// Integers of any width as words of 32 or 64 bits: one for up to 64 bits, two for more. What is above the
// width in the last word is zero.
#pragma once

#include <optional>

#include "helpers.h"
#include "splitter.h"

namespace porphyry::machine {

// Arithmetic on such numbers: each function writes instructions. `w` is the width, v.size() the words.
class WordPen {
 public:
  WordPen(FoldingPen& pen, Helpers& helpers) : pen_(pen), helpers_(helpers) {}

  static unsigned word_bits(unsigned w) { return w <= 32 ? 32 : 64; }
  static size_t word_count(unsigned w) { return w > 64 ? 2 : 1; }

  Parts number(unsigned w, Bits n);
  Parts cut(Parts v, unsigned w);             // zeros above the width
  Parts signed_(const Parts& v, unsigned w);  // copies of the sign above the width
  Parts from_word(Value v, unsigned w);       // an integer of 64 bits at most, zeros above

  Parts add(const Parts& a, const Parts& b);
  Parts sub(const Parts& a, const Parts& b);
  Parts mul(const Parts& a, const Parts& b);
  Parts bitwise(Op op, const Parts& a, const Parts& b);
  // Low and high half of the product of width 2w.
  std::pair<Parts, Parts> product(Parts a, Parts b, unsigned w, bool is_signed);
  Parts divide(Op op, const Parts& a, const Parts& b, unsigned w);

  // By a number of bits below the words' capacity.
  Parts shl(const Parts& v, Value by);
  Parts shr_u(const Parts& v, Value by) { return shr(v, by, Op::ShrU); }
  Parts shr_s(const Parts& v, Value by) { return shr(v, by, Op::ShrS); }
  Parts shl(const Parts& v, unsigned by) { return shl(v, amount(v, by)); }
  Parts shr_u(const Parts& v, unsigned by) { return shr_u(v, amount(v, by)); }
  Parts shr_s(const Parts& v, unsigned by) { return shr_s(v, amount(v, by)); }
  Value amount(const Parts& v, unsigned by) { return pen_.number(pen_.type(v[0]), by); }
  // An amount modulo the width, as one word.
  Value modulo(const Parts& amount, unsigned w, bool in_range);

  Value eq(const Parts& a, const Parts& b);
  Value less(const Parts& a, const Parts& b, bool is_signed, bool or_equal = false);
  Value bit(const Parts& v, unsigned which);
  Parts pick(Value c, const Parts& a, const Parts& b);
  Parts call(std::string_view helper, const Parts& a, const Parts& b);

 private:
  Parts shr(const Parts& v, Value by, Op op);
  std::optional<unsigned> within_a_word(const Parts& v, Value by) const;

  FoldingPen& pen_;
  Helpers& helpers_;
};

}  // namespace porphyry::machine
