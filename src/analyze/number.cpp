#include "porphyry/analyze/number.h"

#include <algorithm>
#include <bit>

namespace porphyry {
namespace {

using Signed = Number::Signed;

constexpr Bits sign_bit(unsigned width) { return Bits(1) << (width - 1); }
Signed as_signed(Bits v, unsigned width) { return static_cast<Signed>(sign_extended(v, width)); }
Bits as_bits(Signed v, unsigned width) { return static_cast<Bits>(v) & mask_of(width); }
Signed least_of(unsigned width) { return as_signed(sign_bit(width), width); }
Signed greatest_of(unsigned width) { return as_signed(mask_of(width) >> 1, width); }

unsigned leading_zeros(Bits v, unsigned width) {
  auto high = static_cast<uint64_t>(v >> 64);
  unsigned all = high ? static_cast<unsigned>(std::countl_zero(high))
                      : 64u + static_cast<unsigned>(std::countl_zero(static_cast<uint64_t>(v)));
  return all - (128 - width);
}
unsigned trailing_ones(Bits v) {
  auto low = static_cast<uint64_t>(v);
  return ~low ? static_cast<unsigned>(std::countr_one(low))
              : 64u + static_cast<unsigned>(std::countr_one(static_cast<uint64_t>(v >> 64)));
}
unsigned ones_in(Bits v) {
  return static_cast<unsigned>(std::popcount(static_cast<uint64_t>(v)) +
                               std::popcount(static_cast<uint64_t>(v >> 64)));
}
// The bits at and below the highest one.
Bits spread_down(Bits v, unsigned width) {
  unsigned zeros = leading_zeros(v, width);
  return zeros >= width ? 0 : mask_of(width - zeros);
}

// `settled`, in words that hold the number: those of a register where they do.
template <class Word, class SignedWord>
Number settled_in(const Number& number) {
  const unsigned width = number.width, spare = 8 * sizeof(Word) - width;
  const Word all = static_cast<Word>(mask_of(width)), sign = static_cast<Word>(sign_bit(width));
  auto extended = [&](Word v) {
    return static_cast<SignedWord>(static_cast<SignedWord>(v << spare) >> spare);
  };
  auto zeros = static_cast<Word>(number.zeros), ones = static_cast<Word>(number.ones);
  auto low = static_cast<Word>(number.low), high = static_cast<Word>(number.high);
  auto least = static_cast<SignedWord>(number.least), greatest = static_cast<SignedWord>(number.greatest);
  for (int round = 0; round < 2; ++round) {
    low = std::max(low, ones);
    high = std::min<Word>(high, all & ~zeros);
    // Signed bounds of one sign are unsigned ones, and the other way round.
    if (least >= 0 || greatest < 0) {
      low = std::max<Word>(low, static_cast<Word>(least) & all);
      high = std::min<Word>(high, static_cast<Word>(greatest) & all);
    }
    if (low > high) break;
    if ((low & sign) == (high & sign)) {
      least = std::max(least, extended(low));
      greatest = std::min(greatest, extended(high));
    }
    // What is above the first bit in which the bounds differ is known.
    const Word differ = low ^ high;
    const Word same = differ ? all & ~(~Word(0) >> leading_zeros(differ, 8 * sizeof(Word))) : all;
    const bool new_bits = ((low & ~ones) | (~low & ~zeros)) & same;
    const bool new_bounds = (least >= 0 || greatest < 0) && ((static_cast<Word>(least) & all) > low ||
                                                             (static_cast<Word>(greatest) & all) < high);
    if (!new_bits && !new_bounds) break;
    ones |= low & same;
    zeros |= ~low & same;
  }
  return {width, zeros, ones, low, high, least, greatest};
}

Number from_bits(unsigned width, Bits zeros, Bits ones) {
  Number out = Number::any(width);
  out.zeros = zeros & mask_of(width);
  out.ones = ones & mask_of(width);
  return out.settled();
}

Number sum(const Number& a, const Number& b) {
  unsigned w = a.width;
  Number out = Number::any(w);
  // Bits: from below as long as both are known, the carry is.
  unsigned known = std::min(trailing_ones(a.zeros | a.ones), trailing_ones(b.zeros | b.ones));
  if (known) {
    Bits low = (a.ones + b.ones) & mask_of(std::min(known, w)), all = mask_of(std::min(known, w));
    out.ones = low, out.zeros = all & ~low;
  }
  // At most 126 bits, so that sums stay exact here.
  if (w <= 126) {
    if (a.high + b.high <= mask_of(w)) out.low = a.low + b.low, out.high = a.high + b.high;
    if (a.low + b.low > mask_of(w))
      out.low = (a.low + b.low) & mask_of(w), out.high = (a.high + b.high) & mask_of(w);
    if (a.greatest + b.greatest <= greatest_of(w) && a.least + b.least >= least_of(w))
      out.least = a.least + b.least, out.greatest = a.greatest + b.greatest;
  }
  return out.settled();
}

Number inverted(const Number& a) {
  Number out = a;
  Bits all = mask_of(a.width);
  out.zeros = a.ones, out.ones = a.zeros;
  out.low = all & ~a.high, out.high = all & ~a.low;
  out.least = ~a.greatest, out.greatest = ~a.least;
  return out.settled();
}

Number difference(const Number& a, const Number& b) {
  unsigned w = a.width;
  // a - b = ~(~a + b)
  Number out = inverted(sum(inverted(a), b));
  if (w <= 126 && a.low >= b.high) out.low = a.low - b.high, out.high = std::min(out.high, a.high - b.low);
  return out.settled();
}

Number product(const Number& a, const Number& b) {
  unsigned w = a.width;
  Number out = Number::any(w);
  unsigned zeros = std::min(w, trailing_ones(a.zeros) + trailing_ones(b.zeros));
  out.zeros = mask_of(zeros);
  if (zeros == 0) out.zeros = 0;
  if (w <= 64) {
    if (a.high * b.high <= mask_of(w)) out.low = a.low * b.low, out.high = a.high * b.high;
    Signed corner[] = {a.least * b.least, a.least * b.greatest, a.greatest * b.least,
                       a.greatest * b.greatest};
    auto [least, greatest] = std::minmax_element(std::begin(corner), std::end(corner));
    if (*least >= least_of(w) && *greatest <= greatest_of(w)) out.least = *least, out.greatest = *greatest;
  }
  return out.settled();
}

Number shifted(Op op, const Number& a, const Number& b) {
  unsigned w = a.width;
  // An amount that may wrap tells nothing but that bits move.
  if (b.high >= w) {
    if (op == Op::ShrU) return Number::between(w, 0, a.high);
    if (op == Op::ShrS && a.least >= 0) return Number::between_signed(w, 0, a.greatest);
    return Number::any(w);
  }
  auto least = static_cast<unsigned>(b.low), most = static_cast<unsigned>(b.high);
  Number out = Number::any(w);
  if (op == Op::Shl) {
    if (least == most) {
      out.zeros = ((a.zeros << least) | mask_of(least) * (least != 0)) & mask_of(w);
      out.ones = (a.ones << least) & mask_of(w);
    } else {
      unsigned zeros = std::min(w, trailing_ones(a.zeros) + least);
      out.zeros = zeros ? mask_of(zeros) : 0;
    }
    if (w <= 64 && leading_zeros(a.high, w) >= most) out.low = a.low << least, out.high = a.high << most;
    return out.settled();
  }
  if (op == Op::ShrU) {
    if (least == most) {
      Bits above = mask_of(w) & ~(mask_of(w) >> least);
      out.zeros = (a.zeros >> least) | above;
      out.ones = a.ones >> least;
    }
    out.low = a.low >> most, out.high = a.high >> least;
    return out.settled();
  }
  if (least == most) {
    out.zeros = as_bits(as_signed(a.zeros, w) >> least, w);
    out.ones = as_bits(as_signed(a.ones, w) >> least, w);
  }
  out.least = std::min(a.least >> least, a.least >> most);
  out.greatest = std::max(a.greatest >> least, a.greatest >> most);
  return out.settled();
}

Number quotient(Op op, const Number& a, const Number& b) {
  unsigned w = a.width;
  if (op == Op::DivU && b.high) return Number::between(w, a.low / b.high, a.high / std::max<Bits>(b.low, 1));
  if (op == Op::RemU && b.high) {
    if (a.high < b.low) return a;
    return Number::between(w, 0, std::min(a.high, b.high - 1));
  }
  if (op == Op::DivS && a.least >= 0 && b.least > 0)
    return Number::between_signed(w, a.least / b.greatest, a.greatest / b.least);
  if (op == Op::DivS && b.is_exact() && b.least != 0 && b.least != -1) {
    Signed x = a.least / b.least, y = a.greatest / b.least;
    return Number::between_signed(w, std::min(x, y), std::max(x, y));
  }
  if (op == Op::RemS) {
    // The remainder has the dividend's sign, and is smaller than the divisor.
    Signed bound = std::max(b.greatest, b.least == least_of(w) ? greatest_of(w) : -b.least);
    if (bound > 0) --bound;
    Signed least = a.least >= 0 ? 0 : std::max(a.least, -bound),
           greatest = a.greatest <= 0 ? 0 : std::min(a.greatest, bound);
    if (b.least == least_of(w))
      least = a.least >= 0 ? 0 : a.least, greatest = std::max<Signed>(a.greatest, 0);
    return Number::between_signed(w, least, greatest);
  }
  return Number::any(w);
}

Number logical(Op op, const Number& a, const Number& b) {
  unsigned w = a.width;
  if (op == Op::And) {
    Number out = from_bits(w, a.zeros | b.zeros, a.ones & b.ones);
    out.high = std::min(out.high, std::min(a.high, b.high));
    return out.settled();
  }
  if (op == Op::Or) {
    Number out = from_bits(w, a.zeros & b.zeros, a.ones | b.ones);
    out.low = std::max(out.low, std::max(a.low, b.low));
    out.high = std::min(out.high, spread_down(a.high | b.high, w));
    return out.settled();
  }
  Number out = from_bits(w, (a.zeros & b.zeros) | (a.ones & b.ones), (a.zeros & b.ones) | (a.ones & b.zeros));
  out.high = std::min(out.high, spread_down(a.high | b.high, w));
  return out.settled();
}

Number converted(Op op, Type result, const Number& a) {
  unsigned w = result.bits();
  Number out = Number::any(w);
  switch (op) {
    case Op::WidenU:
      out.zeros = a.zeros | (mask_of(w) & ~mask_of(a.width)), out.ones = a.ones;
      out.low = a.low, out.high = a.high;
      return out.settled();
    case Op::WidenS:
      out.zeros = as_bits(as_signed(a.zeros, a.width), w), out.ones = as_bits(as_signed(a.ones, a.width), w);
      out.least = a.least, out.greatest = a.greatest;
      return out.settled();
    case Op::Narrow:
      out.zeros = a.zeros & mask_of(w), out.ones = a.ones & mask_of(w);
      if (a.high <= mask_of(w)) out.low = a.low, out.high = a.high;
      if (a.least >= least_of(w) && a.greatest <= greatest_of(w))
        out.least = a.least, out.greatest = a.greatest;
      return out.settled();
    case Op::Bits: return a.width == w && !result.has_lanes() ? a : out;
    default: return out;
  }
}

Number least_or_greatest(Op op, const Number& a, const Number& b) {
  unsigned w = a.width;
  switch (op) {
    case Op::MinU:
      return Number::between(w, std::min(a.low, b.low), std::min(a.high, b.high)).met(a.joined(b));
    case Op::MaxU:
      return Number::between(w, std::max(a.low, b.low), std::max(a.high, b.high)).met(a.joined(b));
    case Op::MinS:
      return Number::between_signed(w, std::min(a.least, b.least), std::min(a.greatest, b.greatest))
          .met(a.joined(b));
    default:
      return Number::between_signed(w, std::max(a.least, b.least), std::max(a.greatest, b.greatest))
          .met(a.joined(b));
  }
}

Number counted_bits(Op op, const Number& a) {
  unsigned w = a.width;
  // Numbers up to the width need not fit a very narrow type: they wrap.
  if (mask_of(w) < w) return Number::any(w);
  if (op == Op::Popcount) return Number::between(w, ones_in(a.ones), w - ones_in(a.zeros));
  if (op == Op::Clz) return Number::between(w, leading_zeros(a.high, w), leading_zeros(a.low, w));
  unsigned most = a.ones ? trailing_ones(~a.ones) : w;
  return Number::between(w, std::min(trailing_ones(a.zeros), w), most);
}

}  // namespace

Number Number::any(unsigned width) {
  return {width, 0, 0, 0, mask_of(width), least_of(width), greatest_of(width)};
}

Number Number::exactly(unsigned width, Bits bits) {
  bits &= mask_of(width);
  return {width, mask_of(width) & ~bits, bits, bits, bits, as_signed(bits, width), as_signed(bits, width)};
}

Number Number::between(unsigned width, Bits low, Bits high) {
  Number out = any(width);
  out.low = low, out.high = high;
  return out.settled();
}

Number Number::between_signed(unsigned width, Signed least, Signed greatest) {
  Number out = any(width);
  out.least = least, out.greatest = greatest;
  return out.settled();
}

bool Number::has(Bits v) const {
  Signed s = as_signed(v, width);
  return v >= low && v <= high && s >= least && s <= greatest && !(v & zeros) && (v & ones) == ones;
}

Number Number::settled() const {
  return width <= 64 ? settled_in<uint64_t, int64_t>(*this) : settled_in<Bits, Signed>(*this);
}

Number Number::joined(const Number& o) const {
  if (!exists() || !o.exists()) return {};
  if (is_empty()) return o;
  if (o.is_empty()) return *this;
  Number out{width,
             zeros & o.zeros,
             ones & o.ones,
             std::min(low, o.low),
             std::max(high, o.high),
             std::min(least, o.least),
             std::max(greatest, o.greatest)};
  return out;
}

Number Number::met(const Number& o) const {
  if (!exists()) return o;
  if (!o.exists()) return *this;
  Number out{width,
             zeros | o.zeros,
             ones | o.ones,
             std::max(low, o.low),
             std::min(high, o.high),
             std::max(least, o.least),
             std::min(greatest, o.greatest)};
  return out.settled();
}

std::optional<bool> decided(Op comparison, const Number& a, const Number& b) {
  if (!a.exists() || !b.exists()) return std::nullopt;
  auto order = [](auto lowest, auto highest, auto other_low, auto other_high) -> std::optional<bool> {
    if (highest < other_low) return true;
    if (lowest >= other_high) return false;
    return std::nullopt;
  };
  auto opposite = [](std::optional<bool> x) { return x ? std::optional(!*x) : x; };
  switch (comparison) {
    case Op::LtU: return order(a.low, a.high, b.low, b.high);
    case Op::GtU: return order(b.low, b.high, a.low, a.high);
    case Op::GeU: return opposite(order(a.low, a.high, b.low, b.high));
    case Op::LeU: return opposite(order(b.low, b.high, a.low, a.high));
    case Op::LtS: return order(a.least, a.greatest, b.least, b.greatest);
    case Op::GtS: return order(b.least, b.greatest, a.least, a.greatest);
    case Op::GeS: return opposite(order(a.least, a.greatest, b.least, b.greatest));
    case Op::LeS: return opposite(order(b.least, b.greatest, a.least, a.greatest));
    case Op::Eq:
    case Op::Ne: {
      bool apart = (a.ones & b.zeros) || (a.zeros & b.ones) || a.low > b.high || b.low > a.high ||
                   a.least > b.greatest || b.least > a.greatest;
      if (apart) return comparison == Op::Ne;
      if (a.is_exact() && b.is_exact() && a.low == b.low) return comparison == Op::Eq;
      return std::nullopt;
    }
    default: return std::nullopt;
  }
}

Number refined(const Number& a, Op comparison, const Number& b) {
  if (!a.exists() || !b.exists()) return a;
  unsigned w = a.width;
  Bits all = mask_of(w);
  Number out = a;
  switch (comparison) {
    case Op::Eq: return a.met(b);
    case Op::Ne:
      if (b.is_exact()) {
        if (a.low == b.low && a.low != all) ++out.low;
        if (a.high == b.low && a.high != 0) --out.high;
        if (a.least == b.least && a.least != greatest_of(w)) ++out.least;
        if (a.greatest == b.least && a.greatest != least_of(w)) --out.greatest;
      }
      break;
    case Op::LtU: out.high = b.high ? std::min(a.high, b.high - 1) : out.high; break;
    case Op::LeU: out.high = std::min(a.high, b.high); break;
    case Op::GtU: out.low = b.low != all ? std::max(a.low, b.low + 1) : out.low; break;
    case Op::GeU: out.low = std::max(a.low, b.low); break;
    case Op::LtS:
      out.greatest = b.greatest != least_of(w) ? std::min(a.greatest, b.greatest - 1) : a.greatest;
      break;
    case Op::LeS: out.greatest = std::min(a.greatest, b.greatest); break;
    case Op::GtS: out.least = b.least != greatest_of(w) ? std::max(a.least, b.least + 1) : a.least; break;
    case Op::GeS: out.least = std::max(a.least, b.least); break;
    default: return a;
  }
  return out.settled();
}

Number compute_number(Op op, Type result, std::span<const Number> in) {
  if (!result.is_integer() && !result.is_bool()) return {};
  Number any = Number::any(result.bits());
  const OperationInfo& row = info(op);
  if (row.layout == Layout::Pick) return in[1].joined(in[2]).exists() ? in[1].joined(in[2]) : any;
  if (in.empty() || !in[0].exists()) return any;
  if (row.layout == Layout::Convert) return converted(op, result, in[0]);
  if (row.layout == Layout::Splat) return in[0];
  if (row.layout == Layout::Lane) return in[0];
  if (in.size() == 2 && (!in[1].exists())) return any;
  if (row.result == ResultRule::Truth) {
    auto known = decided(op, in[0], in[1]);
    return known ? Number::exactly(1, *known) : any;
  }
  switch (op) {
    case Op::Add: return sum(in[0], in[1]);
    case Op::Sub: return difference(in[0], in[1]);
    case Op::Neg: return difference(Number::exactly(any.width, 0), in[0]);
    case Op::Mul: return product(in[0], in[1]);
    case Op::DivS:
    case Op::DivU:
    case Op::RemS:
    case Op::RemU: return quotient(op, in[0], in[1]);
    case Op::And:
    case Op::Or:
    case Op::Xor: return logical(op, in[0], in[1]);
    case Op::Not: return inverted(in[0]);
    case Op::Shl:
    case Op::ShrS:
    case Op::ShrU: return shifted(op, in[0], in[1]);
    case Op::MinS:
    case Op::MinU:
    case Op::MaxS:
    case Op::MaxU: return least_or_greatest(op, in[0], in[1]);
    case Op::Clz:
    case Op::Ctz:
    case Op::Popcount: return counted_bits(op, in[0]);
    default: return any;
  }
}

Number number_of(const Function& f, Value v, unsigned depth) {
  Type t = f.type(v);
  if (!t.is_integer() && !t.is_bool()) return {};
  if (f.is_constant(v)) {
    Number out = Number::exactly(t.bits(), f.constant_word(v));
    for (unsigned k = 1; k < t.lanes(); ++k)
      out = out.joined(Number::exactly(t.bits(), f.constant_word(v, k)));
    return out;
  }
  Instruction d = f.definition(v);
  if (!d.exists() || depth == 0 || !info(f.op(d)).is_plain() || f.result_index(v) != 0)
    return Number::any(t.bits());
  Number in[3];
  size_t count = f.operand_count(d);
  if (info(f.op(d)).layout == Layout::Shuffle || info(f.op(d)).layout == Layout::Reduce)
    return Number::any(t.bits());
  for (size_t k = 0; k < count; ++k) in[k] = number_of(f, f.operand(d, k), depth - 1);
  return compute_number(f.op(d), t, {in, count});
}

}  // namespace porphyry
