#include "writer.h"

namespace porphyry::wasm {

Writer::Writer(const Context& context, const Writes& writes)
    : context_(context),
      pen_(context.module, f_),
      variables_(context.module, f_, &writes),
      has_size_(!context.options.guarded) {}

void Writer::start(uint32_t function, std::span<const ValueType> locals, const Body& body) {
  symbol_ = context_.sections.program.functions[function].symbol;
  f_.start_as(context_.module.function(symbol_));
  wanted_.offsets.clear(), wanted_.calls.clear(), wanted_.spared_checks = 0;
  at(body.offset);
  types_ = locals;
  variables_.start_again(body.code.size() / 4);
  const auto& names = context_.sections.local_names;
  for (uint32_t k = 0; k < types_.size(); ++k) {
    auto named = names.empty() ? names.end() : names.find(uint64_t(function) << 32 | k);
    variables_.add(ir_type(types_[k]), named == names.end() ? std::string_view() : named->second);
  }
  memory_ = {variables_.add(Type::pointer()), variables_.add(i64_), {}};
  begin(f_.add_block());
  variables_.seal(block_);
  std::span<const Value> parameters = f_.parameters();
  f_.set_name(parameters[0], context_.instance_name);
  for (uint32_t k = 0; k + 1 < parameters.size(); ++k) write(k, parameters[k + 1]);
  if (!context_.sections.program.memories.empty()) load_memory();
}

// Nothing is written where control does not come.
void Writer::finish(Wanted& wanted) {
  variables_.finish(true);
  context_.module.function(symbol_) = Function(f_);
  wanted = wanted_;
}

std::span<const Value> Writer::values(std::span<const Operand> all) {
  values_.clear();
  for (const Operand& o : all) values_.push_back(value(o));
  return values_;
}

Block Writer::new_block(Types parameters) {
  Block b = f_.add_block();
  for (ValueType t : parameters) f_.add_parameter(b, ir_type(t));
  return b;
}

void trap_where(Pen& pen, Value condition) {
  Block out = pen.function().add_block(), next = pen.function().add_block();
  Function::Draft::Destination ways[] = {{out}, {next}};
  pen.put({.op = Op::When, .operands = {&condition, 1}, .targets = ways, .hint = Function::Hint::Rarely});
  pen.at_end(out).trap();
  pen.at_end(next);
}

void Writer::trap_if(Value condition) {
  trap_where(pen(), condition);
  variables_.go_on(block_, pen_.block());
  block_ = pen_.block();
}

// Guarded ones stay where they are, and so do those that cannot grow.
bool Writer::memory_moves() const {
  const Limits& limits = context_.sections.program.memories[0].limits;
  return !context_.options.guarded && !(limits.most && *limits.most == limits.least);
}

void Writer::load_memory() {
  const MemoryRow& m = context_.sections.program.memories[0];
  Value record = m.imported ? field(Type::pointer(), m.place) : instance();
  int64_t offset = m.imported ? 0 : m.place;
  Value base = pen().load(Type::pointer(), record, {}, 1, offset);
  variables_.write(memory_.base, block_, base);
  if (!memory_moves()) memory_.fixed_base = base;  // loaded in the entry, above all else
  if (has_size_)
    variables_.write(memory_.size, block_,
                     pen().load(i64_, record, {.offset = offset + 8, .kind = context_.size_kind}));
}

Value Writer::call(const char* routine, ValueList arguments, Type result) {
  std::span<const Value> operands = arguments;
  Instruction i = pen().put(
      {.op = Op::Call, .operands = operands, .results = {&result, result.exists() ? 1u : 0u}, .detail = 0});
  wanted_.calls.push_back({i, routine});
  return result.exists() ? f_.result(i) : Value();
}

void Writer::memory_changed() {
  if (!context_.sections.program.memories.empty() && memory_moves()) load_memory();
}

Writer::Place Writer::place(Value address, uint32_t offset, unsigned bytes) {
  const uint64_t least = context_.sections.program.memories[0].limits.least * page_bytes;
  Value base = memory_base();
  if (f_.is_constant(address)) {
    uint64_t from = f_.constant_bits(address) + offset;
    if (from + bytes > least && has_size_) trap_if(pen().gt_u(wide(from + bytes), memory_size()));
    wanted_.spared_checks += has_size_ && from + bytes <= least;
    return {base, {.offset = static_cast<int64_t>(from), .guarded = !has_size_ && from + bytes > least}};
  }
  Known& known = known_[address.index % known_.size()];
  if (known.address != address) known = {address, pen().widen_u(i64_, address)};
  uint64_t reach = uint64_t(offset) + bytes;
  if (has_size_ && reach > known.reach) {  // memories never become smaller
    trap_if(pen().gt_u(pen().add(known.index, wide(reach)), memory_size()));
    known.reach = reach;
  } else if (has_size_) {
    ++wanted_.spared_checks;
  }
  return {base, {.index = known.index, .offset = offset, .guarded = !has_size_}};
}

Value Writer::checked_range(Value base, Value from, Value count, Value size) {
  Value end = pen().add(from, count);
  trap_if(pen().gt_u(end, size));
  return pen().at(base, from);
}

}  // namespace porphyry::wasm
