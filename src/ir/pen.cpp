#include "porphyry/ir/pen.h"

#include <bit>

namespace porphyry {

Pen& Pen::at_end(Block b) {
  block_ = b;
  before_ = {};
  return *this;
}

Pen& Pen::before(Instruction i) {
  block_ = function_->block(i);
  before_ = i;
  return *this;
}

Instruction Pen::put(const Function::Draft& draft) {
  Function::Draft d = draft;
  if (!d.position.exists()) d.position = position_;
  return before_.exists() ? function_->insert_before(before_, d) : function_->append(block_, d);
}

Value Pen::write(Op op, std::initializer_list<Value> operands) {
  std::span<const Value> list(operands.begin(), operands.size());
  Type type = info(op).result == ResultRule::Truth ? Type::boolean() : function_->type(list.back());
  return function_->result(put({.op = op, .operands = list, .results = {&type, 1}}));
}

Value Pen::convert(Op op, Type to, Value v) {
  return function_->result(put({.op = op, .operands = {&v, 1}, .results = {&to, 1}}));
}

Value Pen::real(Type t, double d) {
  uint64_t bits =
      t.bits() == 32 ? std::bit_cast<uint32_t>(static_cast<float>(d)) : std::bit_cast<uint64_t>(d);
  return function_->constant(t, bits);
}

Value Pen::access(Op op, std::optional<Type> result, std::optional<Value> stored, Value p, Value index,
                  int64_t scale, int64_t offset) {
  std::vector<Value> operands;
  if (stored) operands.push_back(*stored);
  operands.push_back(p);
  if (index.exists()) operands.push_back(index);
  Address a{.scale = scale, .offset = offset, .indexed = index.exists()};
  Function::Draft draft{.op = op, .operands = operands, .detail = function_->add_address(a)};
  if (result) draft.results = {&*result, 1};
  Instruction i = put(draft);
  return result ? function_->result(i) : Value();
}

Value Pen::load(Type t, Value p, Value index, int64_t scale, int64_t offset) {
  return access(Op::Load, t, std::nullopt, p, index, scale, offset);
}
void Pen::store(Value v, Value p, Value index, int64_t scale, int64_t offset) {
  access(Op::Store, std::nullopt, v, p, index, scale, offset);
}
Value Pen::at(Value p, Value index, int64_t scale, int64_t offset) {
  return access(Op::At, Type::pointer(), std::nullopt, p, index, scale, offset);
}

Value Pen::reserve(uint64_t bytes, uint32_t align) {
  Type t = Type::pointer();
  return function_->result(
      put({.op = Op::Reserve, .results = {&t, 1}, .detail = function_->add_reserve({bytes, align})}));
}

Value Pen::address_of(Symbol s) {
  Type t = Type::pointer();
  return function_->result(put({.op = Op::AddressOf, .results = {&t, 1}, .detail = s.index}));
}

std::vector<Value> Pen::call(Symbol callee, std::span<const Value> arguments) {
  const Signature* signature = module_->signature(callee);
  assert(signature && "only functions are called");
  Instruction i =
      put({.op = Op::Call, .operands = arguments, .results = signature->results, .detail = callee.index});
  std::vector<Value> out;
  for (size_t k = 0; k < signature->results.size(); ++k) out.push_back(function_->result(i, k));
  return out;
}

void Pen::go(Block to, std::initializer_list<Value> arguments) {
  Function::Draft::Target target{to, {arguments.begin(), arguments.size()}};
  put({.op = Op::Go, .targets = {&target, 1}});
}

void Pen::when(Value condition, Block yes, std::initializer_list<Value> yes_arguments, Block no,
               std::initializer_list<Value> no_arguments) {
  Function::Draft::Target targets[] = {{yes, {yes_arguments.begin(), yes_arguments.size()}},
                                       {no, {no_arguments.begin(), no_arguments.size()}}};
  put({.op = Op::When, .operands = {&condition, 1}, .targets = targets});
}

void Pen::give_back(std::initializer_list<Value> results) {
  put({.op = Op::Return, .operands = {results.begin(), results.size()}});
}

void Pen::trap() { put({.op = Op::Trap}); }

}  // namespace porphyry
