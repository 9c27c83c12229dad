#include "lanes.h"

#include <fmt/format.h>

#include <array>
#include <numeric>

namespace porphyry::wasm {
namespace {

enum class LaneWay : uint8_t {
  None,
  Load,
  LoadWiden,
  LoadSplat,
  LoadZero,
  LoadLane,
  Store,
  StoreLane,
  Const,
  Shuffle,
  Swizzle,
  Splat,
  Extract,
  Replace,
  Compare,
  Plain,
  AndNot,
  BitSelect,
  AnyTrue,
  AllTrue,
  Bitmask,
  Shift,
  Average,
  Narrow,
  WidenLow,
  WidenHigh,
  MulLow,
  MulHigh,
  MulQ15,
  Dot,
  AddPairs,
  LesserOf,
  GreaterOf,
  Convert,
  ConvertLow,
  ConvertZero
};

// Elements, by the names in lanes.inc.
enum class Element : uint8_t { I8, I16, I32, I64, F32, F64 };

struct LaneOpcode {
  const char* name = nullptr;
  LaneWay way = LaneWay::None;
  Element element = Element::I8;
  Op op = Op::Trap;
  uint8_t operands = 0;
  uint8_t bits = 0;
};

consteval std::array<LaneOpcode, 256> table() {
  std::array<LaneOpcode, 256> out{};
  using enum Element;
#define WASM_LANES(code, name, way, element, op, operands, bits) \
  out[code] = {name, LaneWay::way, element, Op::op, operands, bits};
#include "lanes.inc"
#undef WASM_LANES
  return out;
}
constexpr auto opcodes = table();

Type scalar(Element e) {
  switch (e) {
    case Element::I8: return Type::integer(8);
    case Element::I16: return Type::integer(16);
    case Element::I32: return Type::integer(32);
    case Element::I64: return Type::integer(64);
    case Element::F32: return Type::f32();
    case Element::F64: return Type::f64();
  }
  return {};
}
// As many as 128 bits have.
Type lanes_of(Type element) { return element.with_lanes(128 / element.bits()); }
// An integer of the same width, half or twice that.
Type whole(Type element, unsigned times = 2) { return Type::integer(element.bits() * times / 2); }
// The scalar that goes in and out of lanes.
ValueType value_type(Element e) {
  switch (e) {
    case Element::I64: return ValueType::I64;
    case Element::F32: return ValueType::F32;
    case Element::F64: return ValueType::F64;
    default: return ValueType::I32;
  }
}

class LaneReader {
 public:
  LaneReader(In& in, Stacks& stacks, Writer& writer, const LaneOpcode& is)
      : in_(in),
        stacks_(stacks),
        w_(writer),
        is_(is),
        element_(scalar(is.element)),
        type_(lanes_of(element_)) {}

  void read();

 private:
  using Lanes = std::vector<uint16_t>;
  bool live() const { return in_.good() && w_.live(); }
  Pen& pen() { return w_.pen(); }
  // An operand as lanes of a type.
  Value as(const Operand& o, Type t) { return as(o.value, t); }
  Value as(Value v, Type t) { return w_.function().type(v) == t ? v : pen().bits(t, v); }
  Operand pop() { return stacks_.pop(ValueType::V128); }
  void push(Value v) { stacks_.push(ValueType::V128, v); }
  void push_nothing(ValueType t = ValueType::V128) { stacks_.push(t); }
  Value all(Type lanes, int64_t n) { return pen().integer(lanes, n); }

  uint16_t lane(unsigned count) {
    uint8_t n = in_.byte();
    if (in_.good() && n >= count)
      stacks_.fail(fmt::format("there is no lane {}", n), fmt::format("0 to {}", count - 1));
    return n;
  }
  Value load(Type t, Value address, uint32_t offset) {
    Writer::Place at = w_.place(address, offset, t.bytes());
    return pen().load(t, at.base, at.where);
  }
  Value put(Value lanes, uint16_t k, Value v) {
    Type t = w_.function().type(lanes);
    Value operands[] = {lanes, w_.constant(k), v};
    return w_.function().result(pen().put({.op = Op::Put, .operands = operands, .results = {&t, 1}}));
  }
  Value take(Value lanes, Value k) {
    Type t = w_.function().type(lanes).element();
    Value operands[] = {lanes, k};
    return w_.function().result(pen().put({.op = Op::Lane, .operands = operands, .results = {&t, 1}}));
  }
  // Every `step`th lane from `first` on, so many.
  Value some(Value v, uint16_t first, uint16_t step, unsigned count) {
    Lanes lanes(count);
    for (unsigned k = 0; k < count; ++k) lanes[k] = static_cast<uint16_t>(first + step * k);
    return pen().shuffle(v, v, lanes);
  }
  Value beside(Value a, Value b) {
    Lanes lanes(2 * w_.function().type(a).lanes());
    std::iota(lanes.begin(), lanes.end(), uint16_t(0));
    return pen().shuffle(a, b, lanes);
  }
  // All bits set where it is true.
  Value mask(Value truths, Type lanes) { return pen().neg(pen().widen_u(lanes, truths)); }
  Value clamped(Value v, int64_t low, int64_t high) {
    Type t = w_.function().type(v);
    return pen().min_s(pen().max_s(v, all(t, low)), all(t, high));
  }
  // Half of the lanes of elements half as wide, widened.
  Value half(const Operand& o, bool high) {
    Type narrow = lanes_of(whole(element_, 1));
    unsigned count = type_.lanes();
    return pen().convert(is_.op, type_,
                         some(as(o, narrow), high ? static_cast<uint16_t>(count) : uint16_t(0), 1, count));
  }

  void memory_step();
  void lane_step();
  void one(Value (LaneReader::*make)(const Operand&));
  void two(Value (LaneReader::*make)(const Operand&, const Operand&));
  void truth(Op join);
  void constant();
  void shuffle();
  void select();
  void shift();
  void plain();

  Value widened(const Operand& a) { return half(a, is_.way == LaneWay::WidenHigh); }
  Value converted(const Operand& a);
  Value added_pairs(const Operand& a);
  Value swizzled(const Operand& a, const Operand& b);
  Value compared(const Operand& a, const Operand& b) {
    return mask(pen().write(is_.op, {as(a, type_), as(b, type_)}), lanes_of(whole(element_)));
  }
  Value and_not(const Operand& a, const Operand& b) {
    return pen().and_(as(a, type_), pen().not_(as(b, type_)));
  }
  Value average(const Operand& a, const Operand& b);
  Value narrowed(const Operand& a, const Operand& b);
  Value multiplied(const Operand& a, const Operand& b) {
    bool high = is_.way == LaneWay::MulHigh;
    Value x = half(a, high);
    return pen().mul(x, half(b, high));
  }
  Value q15(const Operand& a, const Operand& b);
  Value dot(const Operand& a, const Operand& b);
  Value lesser_or_greater(const Operand& a, const Operand& b) {
    Value x = as(a, type_), y = as(b, type_);
    bool lesser = is_.way == LaneWay::LesserOf;
    return pen().pick(lesser ? pen().lt(y, x) : pen().lt(x, y), y, x);
  }

  In& in_;
  Stacks& stacks_;
  Writer& w_;
  const LaneOpcode& is_;
  Type element_, type_;
};

void LaneReader::read() {
  using R = LaneReader;
  switch (is_.way) {
    case LaneWay::None: return;
    case LaneWay::Load:
    case LaneWay::LoadWiden:
    case LaneWay::LoadSplat:
    case LaneWay::LoadZero:
    case LaneWay::LoadLane:
    case LaneWay::Store:
    case LaneWay::StoreLane: return memory_step();
    case LaneWay::Splat:
    case LaneWay::Extract:
    case LaneWay::Replace: return lane_step();
    case LaneWay::Const: return constant();
    case LaneWay::Shuffle: return shuffle();
    case LaneWay::Plain: return plain();
    case LaneWay::BitSelect: return select();
    case LaneWay::Shift: return shift();
    case LaneWay::AnyTrue: return truth(Op::Any);
    case LaneWay::AllTrue: return truth(Op::All);
    case LaneWay::Bitmask: return truth(Op::Bits);
    case LaneWay::WidenLow:
    case LaneWay::WidenHigh: return one(&R::widened);
    case LaneWay::Convert:
    case LaneWay::ConvertLow:
    case LaneWay::ConvertZero: return one(&R::converted);
    case LaneWay::AddPairs: return one(&R::added_pairs);
    case LaneWay::Swizzle: return two(&R::swizzled);
    case LaneWay::Compare: return two(&R::compared);
    case LaneWay::AndNot: return two(&R::and_not);
    case LaneWay::Average: return two(&R::average);
    case LaneWay::Narrow: return two(&R::narrowed);
    case LaneWay::MulLow:
    case LaneWay::MulHigh: return two(&R::multiplied);
    case LaneWay::MulQ15: return two(&R::q15);
    case LaneWay::Dot: return two(&R::dot);
    case LaneWay::LesserOf:
    case LaneWay::GreaterOf: return two(&R::lesser_or_greater);
  }
}

void LaneReader::one(Value (LaneReader::*make)(const Operand&)) {
  Operand a = pop();
  if (!live()) return push_nothing();
  push((this->*make)(a));
}

void LaneReader::two(Value (LaneReader::*make)(const Operand&, const Operand&)) {
  Operand b = pop(), a = pop();
  if (!live()) return push_nothing();
  push((this->*make)(a, b));
}

void LaneReader::plain() {
  Operand b = pop(), a = is_.operands == 2 ? pop() : b;
  if (!live()) return push_nothing();
  Value operands[] = {as(a, type_), is_.operands == 2 ? as(b, type_) : Value()};
  push(pen().write(is_.op, std::span<const Value>(operands, is_.operands)));
}

// ---- memory ---------------------------------------------------------------------------------------------

void LaneReader::memory_step() {
  unsigned bits = is_.way == LaneWay::LoadWiden ? 64 : is_.bits;
  uint32_t offset = stacks_.memory_offset(bits);
  bool with_lane = is_.way == LaneWay::LoadLane || is_.way == LaneWay::StoreLane;
  uint16_t k = with_lane ? lane(type_.lanes()) : uint16_t(0);
  bool stores = is_.way == LaneWay::Store || is_.way == LaneWay::StoreLane;
  Operand lanes = with_lane || stores ? pop() : Operand(), address = stacks_.pop(ValueType::I32);
  if (!live()) return stores ? void() : push_nothing();
  Value at = w_.value(address);
  switch (is_.way) {
    case LaneWay::Load: return push(load(ir_type(ValueType::V128), at, offset));
    case LaneWay::LoadWiden: {
      Type narrow = Type::integer(is_.bits).with_lanes(type_.lanes());
      return push(pen().convert(is_.op, type_, load(narrow, at, offset)));
    }
    case LaneWay::LoadSplat: return push(pen().splat(type_, load(element_, at, offset)));
    case LaneWay::LoadZero: return push(put(all(type_, 0), 0, load(element_, at, offset)));
    case LaneWay::LoadLane: {
      Value v = load(element_, at, offset);
      return push(put(as(lanes, type_), k, v));
    }
    default: break;
  }
  Value v = is_.way == LaneWay::Store ? w_.value(lanes) : take(as(lanes, type_), w_.constant(k));
  Writer::Place to = w_.place(at, offset, bits / 8);
  w_.put(v, to.base, to.where);
}

// ---- single lanes ---------------------------------------------------------------------------------------

void LaneReader::lane_step() {
  ValueType outside = value_type(is_.element);
  bool narrow = element_.bits() < 32;
  if (is_.way == LaneWay::Splat) {
    Operand a = stacks_.pop(outside);
    if (!live()) return push_nothing();
    Value v = w_.value(a);
    return push(pen().splat(type_, narrow ? pen().narrow(element_, v) : v));
  }
  uint16_t k = lane(type_.lanes());
  Operand v = is_.way == LaneWay::Replace ? stacks_.pop(outside) : Operand(), lanes = pop();
  if (is_.way == LaneWay::Extract) {
    if (!live()) return push_nothing(outside);
    Value out = take(as(lanes, type_), w_.constant(k));
    return stacks_.push(outside, narrow ? pen().convert(is_.op, Type::integer(32), out) : out);
  }
  if (!live()) return push_nothing();
  Value in = w_.value(v);
  push(put(as(lanes, type_), k, narrow ? pen().narrow(element_, in) : in));
}

void LaneReader::constant() {
  auto low = in_.fixed<uint64_t>(), high = in_.fixed<uint64_t>();
  if (!live()) return push_nothing();
  uint64_t lanes[] = {low & 0xffffffff, low >> 32, high & 0xffffffff, high >> 32};
  push(w_.function().constant_lanes(ir_type(ValueType::V128), lanes));
}

void LaneReader::shuffle() {
  Lanes lanes;
  for (int k = 0; k < 16; ++k) lanes.push_back(lane(32));
  Operand b = pop(), a = pop();
  if (!live()) return push_nothing();
  Value x = as(a, type_);
  push(pen().shuffle(x, as(b, type_), lanes));
}

// Bytes by numbers that are known only when it runs; those from 16 on give zero.
Value LaneReader::swizzled(const Operand& a, const Operand& b) {
  Value bytes = as(a, type_), numbers = as(b, type_), out = all(type_, 0);
  for (uint16_t k = 0; k < 16; ++k) {
    Value number = pen().widen_u(Type::integer(32), take(numbers, w_.constant(k)));
    out = put(out, k, take(bytes, number));
  }
  return pen().and_(out, mask(pen().lt_u(numbers, all(type_, 16)), type_));
}

// ---- truths ---------------------------------------------------------------------------------------------

void LaneReader::truth(Op join) {
  Operand a = pop();
  if (!live()) return push_nothing(ValueType::I32);
  Value v = as(a, type_), zero = all(type_, 0);
  if (join != Op::Bits) return stacks_.push(ValueType::I32, pen().write(join, {pen().ne(v, zero)}), true);
  Type mask = Type::integer(type_.lanes());
  stacks_.push(ValueType::I32, pen().widen_u(Type::integer(32), pen().bits(mask, pen().lt_s(v, zero))));
}

void LaneReader::select() {
  Operand c = pop(), b = pop(), a = pop();
  if (!live()) return push_nothing();
  Value by = as(c, type_), x = pen().and_(as(a, type_), by);
  push(pen().or_(x, pen().and_(as(b, type_), pen().not_(by))));
}

// ---- arithmetic -----------------------------------------------------------------------------------------

void LaneReader::shift() {
  Operand by = stacks_.pop(ValueType::I32), a = pop();
  if (!live()) return push_nothing();
  Value n = w_.value(by);
  if (element_.bits() < 32) n = pen().narrow(element_, n);
  if (element_.bits() > 32) n = pen().widen_u(element_, n);
  push(pen().write(is_.op, {as(a, type_), pen().splat(type_, n)}));
}

Value LaneReader::average(const Operand& a, const Operand& b) {
  Type wide = whole(element_, 4).with_lanes(type_.lanes());
  Value sum = pen().add(pen().widen_u(wide, as(a, type_)), pen().widen_u(wide, as(b, type_)));
  return pen().narrow(type_, pen().shr_u(pen().add(sum, all(wide, 1)), all(wide, 1)));
}

Value LaneReader::narrowed(const Operand& a, const Operand& b) {
  bool is_signed = is_.op == Op::MinS;
  int64_t most = (int64_t(1) << (element_.bits() - is_signed)) - 1, least = is_signed ? -most - 1 : 0;
  Type wide = lanes_of(whole(element_, 4)), narrow = element_.with_lanes(wide.lanes());
  Value x = pen().narrow(narrow, clamped(as(a, wide), least, most));
  return beside(x, pen().narrow(narrow, clamped(as(b, wide), least, most)));
}

Value LaneReader::added_pairs(const Operand& a) {
  Type narrow = lanes_of(whole(element_, 1));
  unsigned count = type_.lanes();
  Value v = as(a, narrow);
  Value even = pen().convert(is_.op, type_, some(v, 0, 2, count));
  return pen().add(even, pen().convert(is_.op, type_, some(v, 1, 2, count)));
}

Value LaneReader::q15(const Operand& a, const Operand& b) {
  Type wide = Type::integer(32).with_lanes(8);
  Value product = pen().mul(pen().widen_s(wide, as(a, type_)), pen().widen_s(wide, as(b, type_)));
  Value rounded = pen().shr_s(pen().add(product, all(wide, 0x4000)), all(wide, 15));
  return pen().narrow(type_, clamped(rounded, -32768, 32767));
}

Value LaneReader::dot(const Operand& a, const Operand& b) {
  Type narrow = Type::integer(16).with_lanes(8), wide = Type::integer(32).with_lanes(8);
  Value product = pen().mul(pen().widen_s(wide, as(a, narrow)), pen().widen_s(wide, as(b, narrow)));
  Value even = some(product, 0, 2, 4);
  return pen().add(even, some(product, 1, 2, 4));
}

Value LaneReader::converted(const Operand& a) {
  Type f32x4 = Type::f32().with_lanes(4), i32x4 = Type::integer(32).with_lanes(4);
  if (is_.way == LaneWay::Convert)
    return pen().convert(is_.op, element_.is_float() ? i32x4 : f32x4, as(a, type_));
  if (is_.way == LaneWay::ConvertLow)
    return pen().convert(is_.op, type_, some(as(a, is_.op == Op::Widen ? f32x4 : i32x4), 0, 1, 2));
  Type low = (is_.op == Op::Narrow ? Type::f32() : Type::integer(32)).with_lanes(2);
  Value v = pen().convert(is_.op, low, as(a, type_));
  return beside(v, w_.function().constant(low, 0));
}

}  // namespace

const char* lanes_name(uint32_t code) { return code < opcodes.size() ? opcodes[code].name : nullptr; }
bool lanes_reach_memory(uint32_t code) {
  return code < opcodes.size() && opcodes[code].way >= LaneWay::Load &&
         opcodes[code].way <= LaneWay::StoreLane;
}

void pass_over_lanes(In& in, uint32_t code) {
  if (code >= opcodes.size() || !opcodes[code].name) return in.fail("not known");
  switch (opcodes[code].way) {
    case LaneWay::Const:
    case LaneWay::Shuffle: in.bytes(16); return;
    case LaneWay::Extract:
    case LaneWay::Replace: in.byte(); return;
    case LaneWay::LoadLane:
    case LaneWay::StoreLane: in.u32(), in.u32(), in.byte(); return;
    default: break;
  }
  if (lanes_reach_memory(code)) in.u32(), in.u32();
}

void read_lanes(In& in, Stacks& stacks, Writer& writer, uint32_t code) {
  LaneReader(in, stacks, writer, opcodes[code]).read();
}

}  // namespace porphyry::wasm
