// A pen writes instructions: put it at the end of a block or before an instruction and write.
//
//   Pen pen(module, module.function(f));
//   pen.at_end(block);
//   Value sum = pen.add(a, b);
//   pen.return_values({sum});
//
// What a pen cannot write throws std::invalid_argument, whatever the build: a pen without a place, an operand
// or target that is not there, a float of a type that is none. All else that may be wrong, `verify` tells.
#pragma once

#include "porphyry/ir/module.h"

namespace porphyry {

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
  Block block() const { return block_; }
  Function& function() const { return *function_; }
  Module& module() const { return *module_; }

  // Any operation with plain operands whose result type follows from them.
  Value write(Op op, std::initializer_list<Value> operands) {
    return write(op, std::span<const Value>(operands.begin(), operands.size()));
  }
  Value write(Op op, std::span<const Value> operands, uint8_t promises = 0);
  // One with two results: add.carry, mul.wide.s, …
  std::pair<Value, Value> write_pair(Op op, std::initializer_list<Value> operands);
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

  Value add(Value a, Value b) { return write(Op::Add, {a, b}); }
  Value sub(Value a, Value b) { return write(Op::Sub, {a, b}); }
  Value mul(Value a, Value b) { return write(Op::Mul, {a, b}); }
  Value pick(Value c, Value a, Value b) { return write(Op::Pick, {c, a, b}); }

  // Addresses: [p + index*scale + offset]. Without an index leave `index` empty.
  Value load(Type t, Value p, Value index = {}, int64_t scale = 1, int64_t offset = 0);
  void store(Value v, Value p, Value index = {}, int64_t scale = 1, int64_t offset = 0);
  Value at(Value p, Value index = {}, int64_t scale = 1, int64_t offset = 0);
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

  std::vector<Value> call(Symbol callee, std::span<const Value> arguments);
  std::vector<Value> call(Symbol callee, std::initializer_list<Value> arguments) {
    return call(callee, std::span<const Value>(arguments.begin(), arguments.size()));
  }

  // Through an address, which stands before the arguments.
  std::vector<Value> call_through(Value function, std::span<const Value> arguments,
                                  std::span<const Type> results);
  void return_call(Symbol callee, std::span<const Value> arguments);

  void go(Block to, std::initializer_list<Value> arguments = {});
  void when(Value condition, Block yes, std::initializer_list<Value> yes_arguments, Block no,
            std::initializer_list<Value> no_arguments);
  struct Case {
    Bits value;
    Block to;
    std::vector<Value> arguments = {};
  };
  void choose(Value v, std::span<const Case> cases, Block otherwise,
              std::initializer_list<Value> arguments = {});
  void return_values(std::initializer_list<Value> results);  // return
  void trap();

 private:
  Type type_of(Value v) const;
  Value access(Op op, std::optional<Type> result, std::optional<Value> stored, Value p, Value index,
               int64_t scale, int64_t offset);

  Module* module_;
  Function* function_;
  Block block_;
  Instruction before_;
  Position position_;
};

}  // namespace porphyry
