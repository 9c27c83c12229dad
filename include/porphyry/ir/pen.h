// A pen writes instructions: put it at the end of a block or before an instruction and write.
//
//   Pen pen(module, module.function(f));
//   pen.at_end(block);
//   Value sum = pen.add(a, pen.i32(3));
//   pen.return_values({sum});
//
// What a pen cannot write throws std::invalid_argument, whatever the build: a pen without a place, an operand
// or target that is not there, a float of a type that is none. All else that may be wrong, `verify` tells.
#pragma once

#include "porphyry/ir/module.h"

namespace porphyry {

// Values that are handed over for as long as a call takes: {a, b}, a vector, a span.
class ValueList {
 public:
  ValueList() = default;
  ValueList(std::initializer_list<Value> v)
      : values_(v.begin(), v.size()) {}                   // NOLINT: conversion is the point
  ValueList(std::span<const Value> v) : values_(v) {}     // NOLINT
  ValueList(const std::vector<Value>& v) : values_(v) {}  // NOLINT
  template <size_t count>
  ValueList(const Value (&v)[count]) : values_(v) {}           // NOLINT
  operator std::span<const Value>() const { return values_; }  // NOLINT
  auto begin() const { return values_.begin(); }
  auto end() const { return values_.end(); }

 private:
  std::span<const Value> values_;
};

// Where an access goes, [p + index*scale + offset], and what is promised of it.
struct Where {
  Value index = {};  // nothing: none
  int64_t scale = 1, offset = 0;
  uint32_t align = 0;  // 0: the kind's, or 1
  KindPath kind = {};
  bool is_volatile = false, guarded = false;
};

class Pen {
 public:
  Pen(Module& module, Function& function) : module_(&module), function_(&function) {}

  Pen& at_end(Block b);
  Pen& before(Instruction i);
  // Everything written from here on carries this position.
  Pen& from(Position p) {
    position_ = p;
    return *this;
  }
  // The position of a line and column in a source, numbered as in Module::sources.
  Pen& from(uint32_t source, uint32_t line, uint32_t column) {
    return from(module_->add_position({source, line, column}));
  }
  Block block() const { return block_; }
  Function& function() const { return *function_; }
  Module& module() const { return *module_; }

  // Any operation with plain operands whose result type follows from them.
  Value write(Op op, ValueList operands, uint8_t promises = 0);
  // One with two results: add.carry, mul.wide.s, …
  std::pair<Value, Value> write_pair(Op op, ValueList operands);
  // A conversion, or `splat`.
  Value convert(Op op, Type to, Value v);
  // Lanes by number from a's and, behind them, b's.
  Value shuffle(Value a, Value b, std::span<const uint16_t> lanes);
  // The general form; all others come here.
  Instruction put(const Function::Draft& draft);

  // In every lane, when the type has lanes.
  Value integer(Type t, int64_t n) { return function_->constant(t, static_cast<Bits>(n)); }
  Value truth(bool b) { return function_->constant(Type::boolean(), b); }
  Value real(Type t, double d);  // rounded to the type
  Value null() { return function_->constant(module_->pointer_type(), 0); }

  // Constants of the usual types.
  Value i32(int32_t n) { return integer(Type::integer(32), n); }
  Value i64(int64_t n) { return integer(Type::integer(64), n); }
  Value f32(float x) { return real(Type::f32(), x); }
  Value f64(double x) { return real(Type::f64(), x); }

  // Operations by name, as the table spells them with `_` for the point.
  Value add(Value a, Value b) { return write(Op::Add, {a, b}); }
  Value sub(Value a, Value b) { return write(Op::Sub, {a, b}); }
  Value mul(Value a, Value b) { return write(Op::Mul, {a, b}); }
  Value div(Value a, Value b) { return write(Op::Div, {a, b}); }
  Value div_s(Value a, Value b) { return write(Op::DivS, {a, b}); }
  Value div_u(Value a, Value b) { return write(Op::DivU, {a, b}); }
  Value rem_s(Value a, Value b) { return write(Op::RemS, {a, b}); }
  Value rem_u(Value a, Value b) { return write(Op::RemU, {a, b}); }
  Value min_s(Value a, Value b) { return write(Op::MinS, {a, b}); }
  Value min_u(Value a, Value b) { return write(Op::MinU, {a, b}); }
  Value max_s(Value a, Value b) { return write(Op::MaxS, {a, b}); }
  Value max_u(Value a, Value b) { return write(Op::MaxU, {a, b}); }
  Value and_(Value a, Value b) { return write(Op::And, {a, b}); }
  Value or_(Value a, Value b) { return write(Op::Or, {a, b}); }
  Value xor_(Value a, Value b) { return write(Op::Xor, {a, b}); }
  Value shl(Value a, Value b) { return write(Op::Shl, {a, b}); }
  Value shr_s(Value a, Value b) { return write(Op::ShrS, {a, b}); }
  Value shr_u(Value a, Value b) { return write(Op::ShrU, {a, b}); }
  Value rotl(Value a, Value b) { return write(Op::RotL, {a, b}); }
  Value rotr(Value a, Value b) { return write(Op::RotR, {a, b}); }
  Value eq(Value a, Value b) { return write(Op::Eq, {a, b}); }
  Value ne(Value a, Value b) { return write(Op::Ne, {a, b}); }
  Value lt_s(Value a, Value b) { return write(Op::LtS, {a, b}); }
  Value le_s(Value a, Value b) { return write(Op::LeS, {a, b}); }
  Value gt_s(Value a, Value b) { return write(Op::GtS, {a, b}); }
  Value ge_s(Value a, Value b) { return write(Op::GeS, {a, b}); }
  Value lt_u(Value a, Value b) { return write(Op::LtU, {a, b}); }
  Value le_u(Value a, Value b) { return write(Op::LeU, {a, b}); }
  Value gt_u(Value a, Value b) { return write(Op::GtU, {a, b}); }
  Value ge_u(Value a, Value b) { return write(Op::GeU, {a, b}); }
  Value lt(Value a, Value b) { return write(Op::Lt, {a, b}); }
  Value le(Value a, Value b) { return write(Op::Le, {a, b}); }
  Value gt(Value a, Value b) { return write(Op::Gt, {a, b}); }
  Value ge(Value a, Value b) { return write(Op::Ge, {a, b}); }
  Value neg(Value a) { return write(Op::Neg, {a}); }
  Value abs(Value a) { return write(Op::Abs, {a}); }
  Value not_(Value a) { return write(Op::Not, {a}); }
  Value sqrt(Value a) { return write(Op::Sqrt, {a}); }
  Value clz(Value a) { return write(Op::Clz, {a}); }
  Value ctz(Value a) { return write(Op::Ctz, {a}); }
  Value popcount(Value a) { return write(Op::Popcount, {a}); }
  Value narrow(Type to, Value v) { return convert(Op::Narrow, to, v); }
  Value widen_s(Type to, Value v) { return convert(Op::WidenS, to, v); }
  Value widen_u(Type to, Value v) { return convert(Op::WidenU, to, v); }
  Value widen(Type to, Value v) { return convert(Op::Widen, to, v); }
  Value to_float_s(Type to, Value v) { return convert(Op::ToFloatS, to, v); }
  Value to_float_u(Type to, Value v) { return convert(Op::ToFloatU, to, v); }
  Value to_int_s(Type to, Value v) { return convert(Op::ToIntS, to, v); }
  Value to_int_u(Type to, Value v) { return convert(Op::ToIntU, to, v); }
  Value bits(Type to, Value v) { return convert(Op::Bits, to, v); }
  Value splat(Type to, Value v) { return convert(Op::Splat, to, v); }
  Value pick(Value c, Value a, Value b) { return write(Op::Pick, {c, a, b}); }

  // Addresses: [p + index*scale + offset]. Without an index leave `index` empty.
  Value load(Type t, Value p, Value index = {}, int64_t scale = 1, int64_t offset = 0);
  void store(Value v, Value p, Value index = {}, int64_t scale = 1, int64_t offset = 0);
  Value at(Value p, Value index = {}, int64_t scale = 1, int64_t offset = 0);
  Value load(Type t, Value p, const Where& where);
  void store(Value v, Value p, const Where& where);
  Value reserve(uint64_t bytes, uint32_t align);
  Value address_of(Symbol s);
  // The general forms: operands as Address says, behind the stored value.
  Value load(Type t, const Address& a, std::span<const Value> operands);
  void store(Value v, const Address& a, std::span<const Value> operands);
  void copy(Value to, Value from, Value bytes);
  void fill(Value v, Value to, Value bytes);
  void release(Value p);
  void renew(Value p, Value bytes);
  Value sole(Value p);
  void end_sole(Value p);
  void watch(std::string_view variable, Value v);
  void here();

  std::vector<Value> call(Symbol callee, ValueList arguments);
  // Through an address, which stands before the arguments.
  std::vector<Value> call_through(Value function, ValueList arguments, std::span<const Type> results);
  void return_call(Symbol callee, ValueList arguments);

  void go(Block to, ValueList arguments = {});
  void when(Value condition, Block yes, ValueList yes_arguments, Block no, ValueList no_arguments);
  struct Case {
    Bits value;
    Block to;
    std::vector<Value> arguments = {};
  };
  void choose(Value v, std::span<const Case> cases, Block otherwise, ValueList arguments = {});
  void return_values(ValueList results);  // return
  void trap();

 private:
  Type type_of(Value v) const;
  Value access(Op op, std::optional<Type> result, std::optional<Value> stored, Value p, const Where& where);

  Module* module_;
  Function* function_;
  Block block_;
  Instruction before_;
  Position position_;
};

}  // namespace porphyry
