// widths: integers that no register holds as they are become words: narrow odd ones one word whose upper bits
// are zeros, wide ones several, the lowest first. Each operation is said in words (words.cpp), long ones as
// calls of helpers. O(words of what comes out).
#include "widths.h"

#include <bit>

#include "access_pieces.h"
#include "porphyry/ir/relatives.h"
#include "porphyry/machine/passing.h"
#include "state.h"

namespace porphyry::machine {
namespace {

class WidthSplitter final : public Splitter {
 public:
  WidthSplitter(Legalization& context, Function& f, unsigned word)
      : Splitter(context.module, f),
        context_(context),
        word_(word),
        word_type_(Type::integer(word)),
        words_(pen_, context, word) {}

 private:
  bool goes(Type t) const override { return t.is_integer() && !t.has_lanes() && !stays(t.bits()); }
  bool stays(unsigned bits) const { return bits >= 8 && bits <= word_ && std::has_single_bit(bits); }
  using Splitter::goes;
  std::vector<Type> parts_of(Type t) const override {
    if (!goes(t)) return {};
    return std::vector<Type>(words_.word_count(t.bits()), Type::integer(words_.word_bits(t.bits())));
  }
  Parts parts_of_constant(Value v) override { return words_.number(f_.type(v).bits(), f_.constant_word(v)); }
  void function_parameter(Value) override { assert(false && "signatures are legal by now"); }

  unsigned width(Value v) const { return f_.type(v).bits(); }
  Parts in(Instruction i, size_t k) { return parts(f_.operand(i, k)); }

  void instruction(Instruction i) override {
    switch (info(f_.op(i)).layout) {
      case Layout::One: return one(i);
      case Layout::Two: return two(i);
      case Layout::Pick: return became(f_.result(i), words_.pick(f_.operand(i, 0), in(i, 1), in(i, 2)));
      case Layout::Convert: return convert(i);
      case Layout::Pair:
      case Layout::Carry: return pair(i);
      case Layout::Load: return load(i);
      case Layout::Store: return store(i);
      default: assert(false && "an operation that takes no integers of odd widths");
    }
  }

  // ---- one operand ----------------------------------------------------------------------------------------

  void one(Instruction i) {
    unsigned w = width(f_.operand(i, 0));
    became(f_.result(i), words_.cut(of_one(f_.op(i), in(i, 0), w), w));
  }

  Parts of_one(Op op, const Parts& v, unsigned w) {
    unsigned size = words_.word_bits(w), spare = static_cast<unsigned>(v.size()) * size - w;
    auto each = [&](Op o) {
      Parts out;
      for (Value x : v) out.push_back(pen_.make(o, {x}));
      return out;
    };
    switch (op) {
      case Op::Neg: return words_.sub(words_.number(w, 0), v);
      case Op::Not: return words_.bitwise(Op::Xor, v, words_.number(w, ~Bits(0)));
      case Op::Abs: {
        Parts x = words_.signed_(v, w);
        Parts sign(v.size(), pen_.shr_s(x.back(), size - 1));
        return words_.sub(words_.bitwise(Op::Xor, x, sign), sign);
      }
      case Op::Popcount: {
        Parts n = each(op);
        return words_.from_word(n.size() == 1 ? n[0] : pen_.add(n[0], n[1]), w);
      }
      case Op::Clz: {
        Parts n = each(op);
        Value zeros = n.back();
        if (n.size() == 2)
          zeros = pen_.pick(pen_.eq(v[1], pen_.number(word_type_, 0)),
                            pen_.add(n[0], pen_.number(word_type_, word_)), n[1]);
        return words_.from_word(pen_.sub(zeros, words_.amount(v, spare)), w);
      }
      case Op::Ctz: {
        Parts x = v;  // a one behind the width ends the search
        if (spare) {
          unsigned top = size - spare;
          x.back() = pen_.or_(x.back(), pen_.number(pen_.type(v[0]), Bits(1) << top));
        }
        Value low = pen_.make(op, {x[0]});
        if (x.size() == 1) return {low};
        Value high = pen_.add(pen_.make(op, {x[1]}), pen_.number(word_type_, word_));
        return words_.from_word(pen_.pick(pen_.eq(x[0], pen_.number(word_type_, 0)), high, low), w);
      }
      case Op::ReverseBits:
      case Op::ReverseBytes: {
        Parts x = each(op);
        if (x.size() == 2) std::swap(x[0], x[1]);
        return spare ? words_.shr_u(x, spare) : x;
      }
      default: assert(false); return v;
    }
  }

  // ---- two operands ---------------------------------------------------------------------------------------

  void two(Instruction i) {
    Op op = f_.op(i);
    unsigned w = width(f_.operand(i, 0));
    Parts a = in(i, 0), b = in(i, 1);
    if (info(op).result == ResultRule::Truth) return replaced(f_.result(i), compared(op, a, b, w));
    became(f_.result(i), words_.cut(of_two(i, op, a, b, w), w));
  }

  Value compared(Op op, Parts a, Parts b, unsigned w) {
    if (op == Op::Eq) return words_.eq(a, b);
    if (op == Op::Ne) return pen_.make(Op::Not, {words_.eq(a, b)});
    const bool is_signed = sees_signs(op);
    if (is_signed) a = words_.signed_(a, w), b = words_.signed_(b, w);
    bool or_equal = op == Op::LeS || op == Op::GeS || op == Op::LeU || op == Op::GeU;
    return is_below(op) ? words_.less(a, b, is_signed, or_equal) : words_.less(b, a, is_signed, or_equal);
  }

  Parts of_two(Instruction i, Op op, const Parts& a, const Parts& b, unsigned w) {
    auto amount = [&] { return words_.modulo(b, w, f_.promises(i) & promise::bounded); };
    switch (op) {
      case Op::Add: return words_.add(a, b);
      case Op::Sub: return words_.sub(a, b);
      case Op::Mul: return words_.mul(a, b);
      case Op::And:
      case Op::Or:
      case Op::Xor: return words_.bitwise(op, a, b);
      case Op::DivS:
      case Op::DivU:
      case Op::RemS:
      case Op::RemU: return words_.divide(op, a, b, w);
      case Op::MulHiS: return words_.product(a, b, w, true).second;
      case Op::MulHiU: return words_.product(a, b, w, false).second;
      case Op::Shl: return words_.shl(a, amount());
      case Op::ShrU: return words_.shr_u(a, amount());
      case Op::ShrS: return words_.shr_s(words_.signed_(a, w), amount());
      case Op::RotL:
      case Op::RotR: return rotated(op, a, amount(), w);
      case Op::AddSatS:
      case Op::AddSatU:
      case Op::SubSatS:
      case Op::SubSatU: return saturated(op, a, b, w);
      default: assert(false); return a;
    }
  }

  Parts rotated(Op op, const Parts& v, Value by, unsigned w) {
    Value back = pen_.sub(words_.amount(v, w), by);
    if (w == 2 * word_) back = pen_.and_(back, Bits(w - 1));
    Value left = op == Op::RotL ? by : back, right = op == Op::RotL ? back : by;
    return words_.bitwise(Op::Or, words_.cut(words_.shl(v, left), w), words_.shr_u(v, right));
  }

  Parts saturated(Op op, const Parts& a, const Parts& b, unsigned w) {
    bool adds = op == Op::AddSatS || op == Op::AddSatU, is_signed = op == Op::AddSatS || op == Op::SubSatS;
    Op checked = is_signed ? (adds ? Op::AddOverS : Op::SubOverS) : (adds ? Op::AddOverU : Op::SubOverU);
    auto [wrapped, over] = of_pair(checked, a, b, w);
    Parts limit = words_.number(w, adds ? ~Bits(0) : 0);
    if (is_signed)
      limit = words_.pick(words_.bit(a, w - 1), words_.number(w, Bits(1) << (w - 1)),
                          words_.number(w, mask_of(w - 1)));
    return words_.pick(over, limit, wrapped);
  }

  // ---- two results ----------------------------------------------------------------------------------------

  std::pair<Parts, Value> of_pair(Op op, const Parts& a, const Parts& b, unsigned w) {
    bool adds = op == Op::AddOverS || op == Op::AddOverU;
    if (op == Op::MulOverU || op == Op::MulOverS) {
      bool is_signed = op == Op::MulOverS;
      auto [low, high] = words_.product(a, b, w, is_signed);
      Parts fits = words_.number(w, 0);
      if (is_signed) fits = words_.pick(words_.bit(low, w - 1), words_.number(w, ~Bits(0)), fits);
      return {low, pen_.make(Op::Not, {words_.eq(high, fits)})};
    }
    Parts r = words_.cut(adds ? words_.add(a, b) : words_.sub(a, b), w);
    if (op == Op::AddOverU) return {r, words_.less(r, a, false)};
    if (op == Op::SubOverU) return {r, words_.less(a, b, false)};
    Parts first = words_.bitwise(Op::Xor, a, adds ? r : b), second = words_.bitwise(Op::Xor, adds ? b : a, r);
    return {r, words_.bit(words_.bitwise(Op::And, first, second), w - 1)};
  }

  void pair(Instruction i) {
    Op op = f_.op(i);
    unsigned w = width(f_.operand(i, 0));
    Parts a = in(i, 0), b = in(i, 1);
    if (op == Op::MulWideS || op == Op::MulWideU) {
      auto [low, high] = words_.product(a, b, w, op == Op::MulWideS);
      became(f_.result(i, 0), low);
      return became(f_.result(i, 1), high);
    }
    if (op == Op::AddCarry || op == Op::SubBorrow) return carry(i, a, b, w);
    auto [r, over] = of_pair(op, a, b, w);
    became(f_.result(i, 0), r);
    replaced(f_.result(i, 1), over);
  }

  void carry(Instruction i, const Parts& a, const Parts& b, unsigned w) {
    bool adds = f_.op(i) == Op::AddCarry;
    Value in = f_.operand(i, 2);
    Parts one = words_.from_word(pen_.widen_u(in, Type::integer(words_.word_bits(w))), w);
    Parts r = words_.cut(adds ? words_.add(words_.add(a, b), one) : words_.sub(words_.sub(a, b), one), w);
    // Without a carry in: the sum is below a; with one, also when it is a.
    Value out = adds ? pen_.pick(in, words_.less(r, a, false, true), words_.less(r, a, false))
                     : pen_.pick(in, words_.less(a, b, false, true), words_.less(a, b, false));
    became(f_.result(i, 0), r);
    replaced(f_.result(i, 1), out);
  }

  // ---- conversions ----------------------------------------------------------------------------------------

  void convert(Instruction i) {
    Value from = f_.operand(i, 0), to = f_.result(i);
    Op op = f_.op(i);
    if (op == Op::ToFloatS || op == Op::ToFloatU) return to_float(i);
    if (op == Op::ToIntS || op == Op::ToIntU) return to_int(i);
    if (f_.type(from).is_float()) return bits_of_float(i);
    if (f_.type(to).is_float()) return float_of_bits(i);
    Parts v = parts(from);
    if (op == Op::WidenS && goes(from)) v = words_.signed_(v, width(from));
    bool is_signed = op == Op::WidenS;
    auto sized = [&](Value x, Type t) { return is_signed ? pen_.resized_signed(x, t) : pen_.resized(x, t); };
    if (!goes(to)) return replaced(to, sized(v[0], f_.type(to)));
    unsigned w = width(to);
    Parts out{sized(v[0], Type::integer(words_.word_bits(w)))};
    if (words_.word_count(w) == 2)
      out.push_back(v.size() == 2 ? v[1]
                    : is_signed   ? pen_.shr_s(out[0], word_ - 1)
                                  : pen_.number(word_type_, 0));
    became(to, words_.cut(out, w));
  }

  // The bits of a float that no word holds go through the frame.
  Value room() {
    if (!room_.exists()) {
      Type ptr = pen_.module().pointer_type();
      room_ = f_.result(f_.insert_before(
          f_.first(f_.entry()), {.op = Op::Reserve, .results = {&ptr, 1}, .detail = f_.add_reserve({8, 8})}));
    }
    return room_;
  }
  // Where word k of two lies.
  Address place_of(unsigned k) const {
    unsigned place = big_endian() ? 1 - k : k, bytes = word_ / 8;
    return {.offset = int64_t(place) * bytes, .align = bytes};
  }
  void bits_of_float(Instruction i) {
    Value at = room();
    pen_.store(f_.operand(i, 0), {.align = 8}, {&at, 1});
    Parts out;
    for (unsigned k = 0; k < 2; ++k) out.push_back(pen_.load(word_type_, place_of(k), {&at, 1}));
    became(f_.result(i), out);
  }
  void float_of_bits(Instruction i) {
    Value at = room();
    Parts v = in(i, 0);
    for (unsigned k = 0; k < 2; ++k) pen_.store(v[k], place_of(k), {&at, 1});
    replaced(f_.result(i), pen_.load(f_.type(f_.result(i)), {.align = 8}, {&at, 1}));
  }

  void to_float(Instruction i) {
    Value from = f_.operand(i, 0), to = f_.result(i);
    bool is_signed = f_.op(i) == Op::ToFloatS;
    Parts v = is_signed ? words_.signed_(parts(from), width(from)) : parts(from);
    if (v.size() == 1) return replaced(to, pen_.make(f_.op(i), {v[0]}, f_.type(to)));
    std::string name = f_.type(to).bits() == 32 ? "porphyry_to_f32_" : "porphyry_to_f64_";
    replaced(to, words_.call(name + (is_signed ? "s" : "u"), v)[0]);
  }

  // Saturating to the words first, then to the width.
  void to_int(Instruction i) {
    Value from = f_.operand(i, 0), to = f_.result(i);
    bool is_signed = f_.op(i) == Op::ToIntS;
    unsigned w = width(to), capacity = word_;
    Parts v;
    if (w <= word_) {
      v = {pen_.make(f_.op(i), {from}, word_type_)};
    } else {
      Value x = f_.type(from).bits() == 32 ? pen_.make(Op::Widen, {from}, Type::f64()) : from;
      v = words_.call(is_signed ? "porphyry_to_int_s" : "porphyry_to_int_u", {&x, 1});
      capacity = 2 * word_;
    }
    Parts greatest = number_in(capacity, mask_of(is_signed ? w - 1 : w));
    if (w < capacity) v = words_.pick(words_.less(v, greatest, is_signed), v, greatest);
    if (is_signed && w < capacity) {
      Parts least = number_in(capacity, ~mask_of(w - 1));
      v = words_.pick(words_.less(least, v, true), v, least);
    }
    if (w <= word_) v[0] = pen_.resized(v[0], Type::integer(words_.word_bits(w)));
    became(to, words_.cut(v, w));
  }
  Parts number_in(unsigned capacity, Bits n) { return words_.number(capacity, n); }

  // ---- memory ---------------------------------------------------------------------------------------------

  struct AccessPart {
    std::vector<Value> operands;
    Address address;
  };
  AccessPart place(Instruction i, int64_t offset) {
    AccessPart p{{}, f_.address(i)};
    size_t first = f_.op(i) == Op::Store ? 1 : 0;
    for (unsigned k = 0; k < p.address.operand_count(); ++k) p.operands.push_back(f_.operand(i, first + k));
    p.address = moved(p.address, offset);
    return p;
  }

  bool big_endian() const { return context_.module.layout.order == ByteOrder::Big; }
  // Where the piece of a number lies that begins at its byte `at`, the lowest being 0: pieces are counted by
  // what they weigh, so that none crosses from word to word.
  int64_t place_in_memory(const AccessPiece& piece, unsigned bytes) const {
    return big_endian() ? int64_t(bytes) - piece.at - piece.bytes : piece.at;
  }

  void load(Instruction i) {
    Type t = f_.type(f_.result(i));
    unsigned w = t.bits();
    Parts out = words_.number(w, 0);
    Type word = f_.type(out[0]);
    for (AccessPiece piece : pieces_of(t.bytes(), word_ / 8)) {
      AccessPart p = place(i, place_in_memory(piece, t.bytes()));
      Value v = pen_.widen_u(pen_.load(Type::integer(piece.bytes * 8), p.address, p.operands), word);
      auto at = static_cast<unsigned>(piece.at);
      unsigned which = at / (word.bits() / 8), shift = at % (word.bits() / 8) * 8;
      out[which] = pen_.or_(out[which], pen_.shl(v, shift));
    }
    became(f_.result(i), words_.cut(out, w));
  }

  void store(Instruction i) {
    Parts v = in(i, 0);
    unsigned size = f_.type(v[0]).bits() / 8;
    unsigned bytes = f_.type(f_.operand(i, 0)).bytes();
    for (AccessPiece piece : pieces_of(bytes, word_ / 8)) {
      AccessPart p = place(i, place_in_memory(piece, bytes));
      auto at = static_cast<unsigned>(piece.at);
      Value part = pen_.shr_u(v[at / size], at % size * 8);
      pen_.store(pen_.narrow(part, Type::integer(piece.bytes * 8)), p.address, p.operands);
    }
  }

  Legalization& context_;
  unsigned word_;  // bits
  Type word_type_;
  WordPen words_;
  Value room_;
};

}  // namespace

namespace legal {
void widths(FunctionContext& c) { WidthSplitter(state(c), c.function, 64).run(); }
// The same again: what is left by then are integers of 64 bits.
void halves(FunctionContext& c) {
  if (state(c).target.word_bits < 64) WidthSplitter(state(c), c.function, state(c).target.word_bits).run();
}
}  // namespace legal

}  // namespace porphyry::machine
