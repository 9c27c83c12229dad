// Integers of any width as one word of 32 bits, one of the widest words, or two of them. What is above the
// width in the last word is zero.
#pragma once

#include <optional>

#include "porter.h"
#include "splitter.h"

namespace porphyry::machine {

// Arithmetic on such numbers: each function writes instructions. `w` is the width, v.size() the words.
class WordPen {
 public:
  // `word`: the bits of the widest words, 64 or 32.
  WordPen(FoldingPen& pen, Legalization& context, unsigned word)
      : pen_(pen), context_(context), word_(word), word_type_(Type::integer(word)) {}

  unsigned word_bits(unsigned w) const { return w <= 32 ? 32 : word_; }
  size_t word_count(unsigned w) const { return w > word_ ? 2 : 1; }
  Type word_type() const { return word_type_; }

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
  // The variant of a helper for words of this width.
  std::vector<Value> call(std::string_view helper, std::span<const Value> arguments) {
    return call_helper(context_, pen_, context_.helpers.for_words(helper, word_), arguments);
  }

 private:
  Parts shr(const Parts& v, Value by, Op op);
  std::optional<unsigned> within_a_word(const Parts& v, Value by) const;

  FoldingPen& pen_;
  Legalization& context_;
  unsigned word_;
  Type word_type_;
};

}  // namespace porphyry::machine
