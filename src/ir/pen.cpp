#include "porphyry/ir/pen.h"

#include <bit>
#include <stdexcept>

#include "porphyry/ir/typing.h"

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
  if (!before_.exists() && !block_.exists())
    throw std::invalid_argument("the pen has no place: at_end(block) or before(instruction) comes first");
  const size_t values = function_->value_limit();
  auto look = [&](std::span<const Value> list) {
    for (Value v : list)
      if (v.index >= values && v.exists()) type_of(v);  // throws; of one that is missing, `verify` tells
  };
  look(draft.operands);
  for (const Function::Draft::Destination& t : draft.targets) {
    if (t.to.index >= function_->block_limit())
      throw std::invalid_argument("a target is no block of the function");
    look(t.arguments);
  }
  Instruction i =
      before_.exists() ? function_->insert_before(before_, draft) : function_->append(block_, draft);
  if (!draft.position.exists() && position_.exists()) function_->set_position(i, position_);
  return i;
}

Type Pen::type_of(Value v) const {
  if (v.index >= function_->value_limit())
    throw std::invalid_argument("an operand is no value of the function");
  return function_->type(v);
}

Value Pen::write(Op op, ValueList list, uint8_t promises) {
  std::span<const Value> operands = list;
  Type types[3], results[2];
  if (operands.size() > 3) throw std::invalid_argument("a plain operation has three operands at most");
  for (size_t k = 0; k < operands.size(); ++k) types[k] = type_of(operands[k]);
  unsigned count = result_types(op, {types, operands.size()}, {}, results);
  return function_->result(
      put({.op = op, .operands = operands, .results = {results, count}, .promises = promises}));
}

std::pair<Value, Value> Pen::write_pair(Op op, ValueList operands) {
  Value first = write(op, operands);
  return {first, Value(first.index + 1)};
}

Value Pen::convert(Op op, Type to, Value v) {
  return function_->result(put({.op = op, .operands = {&v, 1}, .results = {&to, 1}}));
}

Value Pen::shuffle(Value a, Value b, std::span<const uint16_t> lanes) {
  Value operands[] = {a, b};
  Type to = type_of(a).with_lanes(static_cast<unsigned>(lanes.size()));
  return function_->result(put({.op = Op::Shuffle,
                                .operands = operands,
                                .results = {&to, 1},
                                .detail = function_->add_shuffle(lanes)}));
}

Value Pen::real(Type t, double d) {
  if (!t.is_float()) throw std::invalid_argument("a float is asked for, of a type that is none: " + t.name());
  uint64_t bits =
      t.bits() == 32 ? std::bit_cast<uint32_t>(static_cast<float>(d)) : std::bit_cast<uint64_t>(d);
  return function_->constant(t, bits);
}

Value Pen::access(Op op, std::optional<Type> result, std::optional<Value> stored, Value p,
                  const Where& where) {
  Value operands[3];
  size_t count = 0;
  if (stored) operands[count++] = *stored;
  operands[count++] = p;
  if (where.index.exists()) operands[count++] = where.index;
  Address a{
      .scale = where.scale, .offset = where.offset, .kind = where.kind, .indexed = where.index.exists()};
  a.align = where.align ? where.align : module_->kinds.align(where.kind);
  a.is_volatile = where.is_volatile, a.guarded = where.guarded;
  Function::Draft draft{.op = op, .operands = {operands, count}, .detail = function_->add_address(a)};
  if (result) draft.results = {&*result, 1};
  Instruction i = put(draft);
  return result ? function_->result(i) : Value();
}

Value Pen::load(Type t, Value p, Value index, int64_t scale, int64_t offset) {
  return access(Op::Load, t, std::nullopt, p, {index, scale, offset});
}
void Pen::store(Value v, Value p, Value index, int64_t scale, int64_t offset) {
  access(Op::Store, std::nullopt, v, p, {index, scale, offset});
}
Value Pen::at(Value p, Value index, int64_t scale, int64_t offset) {
  return access(Op::At, type_of(p), std::nullopt, p, {index, scale, offset});
}
Value Pen::load(Type t, Value p, const Where& where) { return access(Op::Load, t, std::nullopt, p, where); }
void Pen::store(Value v, Value p, const Where& where) { access(Op::Store, std::nullopt, v, p, where); }

Value Pen::load(Type t, const Address& a, std::span<const Value> operands) {
  return function_->result(
      put({.op = Op::Load, .operands = operands, .results = {&t, 1}, .detail = function_->add_address(a)}));
}

void Pen::store(Value v, const Address& a, std::span<const Value> operands) {
  std::vector<Value> all{v};
  all.insert(all.end(), operands.begin(), operands.end());
  put({.op = Op::Store, .operands = all, .detail = function_->add_address(a)});
}

Value Pen::reserve(uint64_t bytes, uint32_t align) {
  Type t = module_->pointer_type();
  return function_->result(
      put({.op = Op::Reserve, .results = {&t, 1}, .detail = function_->add_reserve({bytes, align})}));
}

Value Pen::address_of(Symbol s) {
  Type t = module_->pointer_type();
  return function_->result(put({.op = Op::AddressOf, .results = {&t, 1}, .detail = s.index}));
}

void Pen::copy(Value to, Value from, Value bytes) {
  Value operands[] = {to, from, bytes};
  put({.op = Op::Copy, .operands = operands, .detail = function_->add_copy({})});
}

void Pen::fill(Value v, Value to, Value bytes) {
  Value operands[] = {v, to, bytes};
  put({.op = Op::Fill, .operands = operands, .detail = function_->add_address({})});
}

void Pen::release(Value p) { put({.op = Op::Release, .operands = {&p, 1}}); }

void Pen::renew(Value p, Value bytes) {
  Value operands[] = {p, bytes};
  put({.op = Op::Renew, .operands = operands});
}

Value Pen::sole(Value p) {
  Type t = type_of(p);
  return function_->result(put({.op = Op::Sole, .operands = {&p, 1}, .results = {&t, 1}}));
}

void Pen::end_sole(Value p) { put({.op = Op::End, .operands = {&p, 1}}); }

void Pen::watch(std::string_view variable, Value v) {
  put({.op = Op::Watch, .operands = {&v, 1}, .detail = module_->realm().name(variable).index});
}

void Pen::here() { put({.op = Op::Here}); }

std::vector<Value> Pen::call(Symbol callee, ValueList arguments) {
  const Signature* signature = callee.index < module_->symbol_count() ? module_->signature(callee) : nullptr;
  if (!signature) throw std::invalid_argument("a call names no function of the module");
  Instruction i =
      put({.op = Op::Call, .operands = arguments, .results = signature->results, .detail = callee.index});
  std::vector<Value> out;
  for (size_t k = 0; k < signature->results.size(); ++k) out.push_back(function_->result(i, k));
  return out;
}

std::vector<Value> Pen::call_through(Value function, ValueList arguments, std::span<const Type> results) {
  std::vector<Value> operands{function};
  operands.insert(operands.end(), arguments.begin(), arguments.end());
  Instruction i = put({.op = Op::CallThrough, .operands = operands, .results = results});
  std::vector<Value> out;
  for (size_t k = 0; k < results.size(); ++k) out.push_back(function_->result(i, k));
  return out;
}

void Pen::return_call(Symbol callee, ValueList arguments) {
  put({.op = Op::ReturnCall, .operands = arguments, .detail = callee.index});
}

void Pen::choose(Value v, std::span<const Case> cases, Block otherwise, ValueList arguments) {
  std::vector<Bits> values;
  std::vector<Function::Draft::Destination> targets;
  Bits mask = mask_of(type_of(v).bits());
  for (const Case& c : cases) {
    values.push_back(c.value & mask);
    targets.push_back({c.to, c.arguments});
  }
  targets.push_back({otherwise, arguments});
  put({.op = Op::Choose, .operands = {&v, 1}, .detail = function_->add_cases(values), .targets = targets});
}

void Pen::go(Block to, ValueList arguments) {
  Function::Draft::Destination target{to, arguments};
  put({.op = Op::Go, .targets = {&target, 1}});
}

void Pen::when(Value condition, Block yes, ValueList yes_arguments, Block no, ValueList no_arguments) {
  Function::Draft::Destination targets[] = {{yes, yes_arguments}, {no, no_arguments}};
  put({.op = Op::When, .operands = {&condition, 1}, .targets = targets});
}

void Pen::return_values(ValueList results) { put({.op = Op::Return, .operands = results}); }

void Pen::trap() { put({.op = Op::Trap}); }

}  // namespace porphyry
