// A pen writes instructions: put it at the end of a block or before an instruction and write.
//
//   Pen pen(module, module.function(f));
//   pen.at_end(block);
//   Value sum = pen.add(a, b);
//   pen.give_back({sum});
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
  Value write(Op op, std::initializer_list<Value> operands);
  // A conversion.
  Value convert(Op op, Type to, Value v);
  // The general form; all others come here.
  Instruction put(const Function::Draft& draft);

  Value integer(Type t, int64_t n) { return function_->constant(t, static_cast<uint64_t>(n)); }
  Value truth(bool b) { return function_->constant(Type::boolean(), b); }
  Value real(Type t, double d);
  Value null() { return function_->constant(Type::pointer(), 0); }

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

  std::vector<Value> call(Symbol callee, std::span<const Value> arguments);
  std::vector<Value> call(Symbol callee, std::initializer_list<Value> arguments) {
    return call(callee, std::span<const Value>(arguments.begin(), arguments.size()));
  }

  void go(Block to, std::initializer_list<Value> arguments = {});
  void when(Value condition, Block yes, std::initializer_list<Value> yes_arguments, Block no,
            std::initializer_list<Value> no_arguments);
  void give_back(std::initializer_list<Value> results);  // return
  void trap();

 private:
  Value access(Op op, std::optional<Type> result, std::optional<Value> stored, Value p, Value index,
               int64_t scale, int64_t offset);

  Module* module_;
  Function* function_;
  Block block_;
  Instruction before_;
  Position position_;
};

}  // namespace porphyry
