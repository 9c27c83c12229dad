#include "widths.h"

namespace porphyry::machine {
Parts WordPen::number(unsigned w, Bits n) {
  n &= mask_of(w);
  if (w <= word_) return {pen_.number(Type::integer(word_bits(w)), n)};
  return {pen_.number(word_type_, n & mask_of(word_)), pen_.number(word_type_, n >> word_)};
}

Parts WordPen::cut(Parts v, unsigned w) {
  unsigned top = w - static_cast<unsigned>(v.size() - 1) * word_bits(w);
  v.back() = pen_.and_(v.back(), mask_of(top));
  return v;
}

Parts WordPen::signed_(const Parts& v, unsigned w) {
  unsigned capacity = static_cast<unsigned>(v.size()) * word_bits(w), spare = capacity - w;
  Parts out = v;
  if (spare) out.back() = pen_.shr_s(pen_.shl(v.back(), spare), spare);
  return out;
}

Parts WordPen::from_word(Value v, unsigned w) {
  Parts out{pen_.resized(v, Type::integer(word_bits(w)))};
  if (word_count(w) == 2) out.push_back(pen_.number(word_type_, 0));
  return out;
}

Parts WordPen::add(const Parts& a, const Parts& b) {
  Parts out{pen_.add(a[0], b[0])};
  if (a.size() == 1) return out;
  Value carry = pen_.widen_u(pen_.lt_u(out[0], a[0]), word_type_);
  out.push_back(pen_.add(pen_.add(a[1], b[1]), carry));
  return out;
}

Parts WordPen::sub(const Parts& a, const Parts& b) {
  Parts out{pen_.sub(a[0], b[0])};
  if (a.size() == 1) return out;
  Value borrow = pen_.widen_u(pen_.lt_u(a[0], b[0]), word_type_);
  out.push_back(pen_.sub(pen_.sub(a[1], b[1]), borrow));
  return out;
}

Parts WordPen::mul(const Parts& a, const Parts& b) {
  Parts out{pen_.mul(a[0], b[0])};
  if (a.size() == 1) return out;
  Value high = pen_.make(Op::MulHiU, {a[0], b[0]});
  out.push_back(pen_.add(high, pen_.add(pen_.mul(a[0], b[1]), pen_.mul(a[1], b[0]))));
  return out;
}

Parts WordPen::bitwise(Op op, const Parts& a, const Parts& b) {
  Parts out;
  for (size_t k = 0; k < a.size(); ++k) out.push_back(pen_.make(op, {a[k], b[k]}));
  return out;
}

// The operands' words are zeros above the width; signed products take what the signs gave too much from the
// high half.
std::pair<Parts, Parts> WordPen::product(Parts a, Parts b, unsigned w, bool is_signed) {
  if (is_signed) a = signed_(a, w), b = signed_(b, w);
  if (w <= 32) {
    const Type i64 = Type::integer(64);
    auto wide = [&](Value v) { return is_signed ? pen_.widen_s(v, i64) : pen_.widen_u(v, i64); };
    Value p = pen_.mul(wide(a[0]), wide(b[0]));
    Type word = Type::integer(32);
    return {cut({pen_.narrow(p, word)}, w), cut({pen_.narrow(pen_.shr_u(p, w), word)}, w)};
  }
  if (w <= word_) {
    Value low = pen_.mul(a[0], b[0]);
    Value high = pen_.make(is_signed ? Op::MulHiS : Op::MulHiU, {a[0], b[0]});
    return {cut({low}, w), cut({pen_.or_(pen_.shr_u(low, w), pen_.shl(high, word_ - w))}, w)};
  }
  // Four words, the products of words of one weight added up.
  auto times = [&](size_t i, size_t j) {
    return Parts{pen_.mul(a[i], b[j]), pen_.make(Op::MulHiU, {a[i], b[j]})};
  };
  Parts low = times(0, 0), x = times(0, 1), y = times(1, 0), high = times(1, 1);
  Parts middle =
      add({low[1], pen_.number(word_type_, 0)}, x);  // no carry is lost: with B = 2^word, (B-1)^2 + B-1 < B^2
  Parts sum = add(middle, y);
  Value carry = pen_.widen_u(less(sum, middle, false), word_type_);
  Parts top = add(high, {sum[1], carry});
  if (is_signed) {
    Parts zero = number(2 * word_, 0);
    Value a_minus = pen_.lt_s(a[1], zero[0]), b_minus = pen_.lt_s(b[1], zero[0]);
    top = sub(sub(top, pick(a_minus, b, zero)), pick(b_minus, a, zero));
  }
  Parts bottom{low[0], sum[0]};
  if (w == 2 * word_) return {bottom, top};
  unsigned by = w - word_;
  Parts above{pen_.or_(pen_.shr_u(bottom[1], by), pen_.shl(top[0], word_ - by)),
              pen_.or_(pen_.shr_u(top[0], by), pen_.shl(top[1], word_ - by))};
  return {cut(bottom, w), cut(above, w)};
}

// Signed quotients: (a << s) / b traps just where a / b must, on 0 and on least / -1, when a's sign is the
// words'. The quotient over 2^s, toward zero, is a / b.
Parts WordPen::divide(Op op, const Parts& a, const Parts& b, unsigned w) {
  bool is_signed = op == Op::DivS || op == Op::RemS;
  unsigned capacity = static_cast<unsigned>(a.size()) * word_bits(w), spare = capacity - w;
  Parts x = op == Op::DivS ? shl(a, spare) : is_signed ? signed_(a, w) : a, y = is_signed ? signed_(b, w) : b;
  Parts q;
  if (a.size() == 1) {
    q = {pen_.make(op, {x[0], y[0]})};
  } else {
    q = call(op == Op::DivS   ? "porphyry_div_s"
             : op == Op::DivU ? "porphyry_div_u"
             : op == Op::RemS ? "porphyry_rem_s"
                              : "porphyry_rem_u",
             x, y);
  }
  if (op == Op::DivS && spare) q = shr_s(add(q, shr_u(shr_s(q, capacity - 1), capacity - spare)), spare);
  return cut(q, w);
}

// How far, when two words are moved by a number that is known and not a whole word or nothing.
std::optional<unsigned> WordPen::within_a_word(const Parts& v, Value by) const {
  if (v.size() == 1 || !pen_.function().is_constant(by)) return std::nullopt;
  uint64_t n = pen_.function().constant_bits(by);
  return n > 0 && n < word_ ? std::optional(static_cast<unsigned>(n)) : std::nullopt;
}

Parts WordPen::shl(const Parts& v, Value by) {
  if (v.size() == 1) return {pen_.make(Op::Shl, {v[0], by})};
  if (auto n = within_a_word(v, by))
    return {pen_.shl(v[0], *n), pen_.or_(pen_.shl(v[1], *n), pen_.shr_u(v[0], word_ - *n))};
  Value far = pen_.ne(pen_.and_(by, Bits(word_)), Bits(0)),
        back = pen_.xor_(by, pen_.number(word_type_, word_ - 1));
  Value low = pen_.make(Op::Shl, {v[0], by});
  Value comes = pen_.make(Op::ShrU, {pen_.shr_u(v[0], 1), back});
  Value high = pen_.or_(pen_.make(Op::Shl, {v[1], by}), comes);
  return {pen_.pick(far, pen_.number(word_type_, 0), low), pen_.pick(far, low, high)};
}

Parts WordPen::shr(const Parts& v, Value by, Op op) {
  if (v.size() == 1) return {pen_.make(op, {v[0], by})};
  if (auto n = within_a_word(v, by))
    return {pen_.or_(pen_.shr_u(v[0], *n), pen_.shl(v[1], word_ - *n)), pen_.make(op, {v[1], by})};
  Value far = pen_.ne(pen_.and_(by, Bits(word_)), Bits(0)),
        back = pen_.xor_(by, pen_.number(word_type_, word_ - 1));
  Value high = pen_.make(op, {v[1], by});
  Value comes = pen_.make(Op::Shl, {pen_.shl(v[1], 1), back});
  Value low = pen_.or_(pen_.make(Op::ShrU, {v[0], by}), comes);
  Value above = op == Op::ShrS ? pen_.shr_s(v[1], word_ - 1) : pen_.number(word_type_, 0);
  return {pen_.pick(far, high, low), pen_.pick(far, above, high)};
}

Value WordPen::modulo(const Parts& n, unsigned w, bool in_range) {
  if (in_range) return n[0];
  if ((w & (w - 1)) == 0) return pen_.and_(n[0], Bits(w - 1));
  Value width = pen_.number(pen_.type(n[0]), w);
  auto rest = [&](Value v) { return pen_.make(Op::RemU, {v, width}, {}, promise::nonzero); };
  if (n.size() == 1) return w > mask_of(w) ? n[0] : rest(n[0]);
  Bits weight = (Bits(1) << word_) % w;  // of the upper word
  return rest(pen_.add(pen_.mul(rest(n[1]), pen_.number(word_type_, weight)), rest(n[0])));
}

Value WordPen::eq(const Parts& a, const Parts& b) {
  if (a.size() == 1) return pen_.eq(a[0], b[0]);
  return pen_.eq(pen_.or_(pen_.xor_(a[0], b[0]), pen_.xor_(a[1], b[1])), pen_.number(word_type_, 0));
}

Value WordPen::less(const Parts& a, const Parts& b, bool is_signed, bool or_equal) {
  Op low = or_equal ? Op::LeU : Op::LtU, high = is_signed ? Op::LtS : Op::LtU;
  if (a.size() == 1) return pen_.make(is_signed ? (or_equal ? Op::LeS : Op::LtS) : low, {a[0], b[0]});
  return pen_.pick(pen_.eq(a[1], b[1]), pen_.make(low, {a[0], b[0]}), pen_.make(high, {a[1], b[1]}));
}

Value WordPen::bit(const Parts& v, unsigned which) {
  unsigned size = pen_.type(v[0]).bits();
  return pen_.ne(pen_.and_(v[which / size], Bits(1) << (which % size)), Bits(0));
}

Parts WordPen::pick(Value c, const Parts& a, const Parts& b) {
  Parts out;
  for (size_t k = 0; k < a.size(); ++k) out.push_back(pen_.pick(c, a[k], b[k]));
  return out;
}

Parts WordPen::call(std::string_view helper, const Parts& a, const Parts& b) {
  Value arguments[] = {a[0], a[1], b[0], b[1]};
  return call(helper, arguments);
}

}  // namespace porphyry::machine
