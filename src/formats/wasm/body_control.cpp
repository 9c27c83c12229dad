// Blocks, branches and calls.
//
// A block of the byte code gets a block of the IR behind it when a branch first leads there; a loop gets its
// header at once. What a branch takes along are the label's block parameters. The header is sealed at the
// loop's end, all others when their frame ends: then every edge into them is there.
#include <fmt/format.h>

#include "body.h"

namespace porphyry::wasm {

uint32_t BodyReader::depth() { return below(stacks_.depth(), "block around this"); }

// Nothing, one result, or the number of a type.
bool BodyReader::block_type(Types& parameters, Types& results) {
  static constexpr ValueType single[] = {ValueType::I32,      ValueType::I64,  ValueType::F32,
                                         ValueType::F64,      ValueType::V128, ValueType::FuncRef,
                                         ValueType::ExternRef};
  int64_t n = in_.s33();
  if (n >= 0) {
    if (static_cast<uint64_t>(n) >= p_.types.size())
      return stacks_.fail(fmt::format("there is no type {}", n)), false;
    const FunctionType& t = p_.types[static_cast<size_t>(n)];
    parameters = t.parameters, results = t.results;
    if (!s_.spend(t.parameters.size() + t.results.size()))
      return stacks_.fail("the blocks have more results, together, than a file of this size may have"), false;
    return in_.good();
  }
  if (n == -64) return in_.good();
  for (const ValueType& t : single)
    if (n == static_cast<int8_t>(static_cast<uint8_t>(t) | 0x80)) return results = {&t, 1}, in_.good();
  return stacks_.fail("the block is of no known type"), false;
}

void BodyReader::begin_block(Frame::Form form) {
  Types parameters, results;
  Operand condition;
  if (!block_type(parameters, results)) return;
  if (form == Frame::Form::If) condition = stacks_.pop(ValueType::I32);
  std::span<const Operand> given = stacks_.pop(parameters);
  stacks_.enter(form, parameters, results);
  Frame& frame = stacks_.top();
  frame.kept = kept_.size();
  frame.number = static_cast<uint32_t>(block_count_++);
  frame.before = w_.block();
  if (!live()) return stacks_.push(parameters);
  if (form == Frame::Form::Loop) {
    frame.label = w_.new_block(parameters);
    w_.go(frame.label, given);
    come_from_before(frame);
    w_.begin(frame.label);
    std::span<const Value> values = w_.function().parameters(frame.label);
    for (size_t k = 0; k < parameters.size(); ++k) stacks_.push(parameters[k], values[k]);
    return;
  }
  if (form == Frame::Form::If) {
    kept_.insert(kept_.end(), given.begin(), given.end());
    Block then = w_.new_block();
    frame.otherwise = w_.new_block();
    pen().when(w_.condition(condition), then, {}, frame.otherwise, {});
    w_.variables().seal(then);
    w_.variables().seal(frame.otherwise);
    w_.begin(then);
  }
  stacks_.push(given);
}

// The end of `then`: what stands behind `else` begins with the same operands.
void BodyReader::otherwise() {
  Frame& frame = stacks_.top();
  if (frame.form != Frame::Form::If) return stacks_.fail("'else' outside of an 'if'");
  std::span<const Operand> results = stacks_.pop_results();
  if (live()) jump(frame, results);
  w_.die();
  frame.form = Frame::Form::Else;
  frame.unreachable = false;
  if (in_.good() && frame.otherwise.exists()) {
    w_.begin(frame.otherwise);
    for (size_t k = 0; k < frame.parameters.size(); ++k) stacks_.push(kept_[frame.kept + k]);
  } else {
    stacks_.push(frame.parameters);
  }
}

void BodyReader::end() {
  std::span<const Operand> popped = stacks_.pop_results();
  Frame frame = stacks_.top();
  if (frame.form == Frame::Form::If && !std::ranges::equal(frame.parameters, frame.results))
    return stacks_.fail("'if' without 'else' has other results than parameters", "the same types");
  if (!in_.good()) return;
  if (frame.form == Frame::Form::Function) return end_function(popped);
  bool joined = join(frame, popped);
  kept_.resize(frame.kept);
  stacks_.leave();
  if (joined) {
    std::span<const Value> values = w_.function().parameters(frame.label);
    for (size_t k = 0; k < frame.results.size(); ++k) stacks_.push(frame.results[k], values[k]);
  } else if (w_.live()) {
    stacks_.push(popped);
  } else {
    stacks_.push(frame.results);
  }
}

// Goes on behind the block, with its results; false when they are still where they were.
bool BodyReader::join(Frame& frame, std::span<const Operand> results) {
  if (frame.form == Frame::Form::Loop) {
    if (frame.label.exists()) w_.variables().seal(frame.label);
    return false;
  }
  if (frame.form == Frame::Form::If && frame.otherwise.exists()) {
    if (w_.live()) jump(frame, results);
    w_.begin(frame.otherwise);
    jump(frame, std::span<const Operand>(kept_).subspan(frame.kept, frame.parameters.size()));
  } else if (frame.label.exists() && w_.live()) {
    jump(frame, results);
  }
  if (!frame.label.exists()) return false;
  w_.variables().seal(frame.label);
  w_.begin(frame.label);
  return true;
}

void BodyReader::end_function(std::span<const Operand> results) {
  Frame frame = stacks_.top();
  if (w_.live()) pen().return_values(w_.values(results));
  if (frame.label.exists()) {
    w_.variables().seal(frame.label);
    w_.begin(frame.label);
    pen().return_values(w_.function().parameters(frame.label));
  }
  w_.die();
  stacks_.leave();
}

// Where branches to a frame go.
Block BodyReader::label(Frame& frame) {
  if (!frame.label.exists()) {
    frame.label = w_.new_block(frame.label_types());
    if (frame.before.exists()) come_from_before(frame);
  }
  return frame.label;
}

// What the block does not write is at its label what it was where the block was entered.
void BodyReader::come_from_before(const Frame& frame) {
  Writes::Span span = writes_.block(frame.number);
  w_.variables().comes_from(frame.label, frame.before, span.first, span.last);
}

void BodyReader::jump(Frame& frame, std::span<const Operand> arguments) {
  w_.go(label(frame), arguments);
  w_.die();
}

void BodyReader::branch(uint32_t depth) {
  if (!in_.good()) return;
  Frame& frame = stacks_.frame(depth);
  std::span<const Operand> arguments = stacks_.pop(frame.label_types());
  if (live()) {
    if (frame.form == Frame::Form::Function)
      pen().return_values(w_.values(arguments)), w_.die();
    else
      jump(frame, arguments);
  }
  stacks_.unreachable();
}

void BodyReader::branch_if() {
  uint32_t to = depth();
  Operand condition = stacks_.pop(ValueType::I32);
  if (!in_.good()) return;
  Frame& frame = stacks_.frame(to);
  std::span<const Operand> arguments = stacks_.pop(frame.label_types());
  if (!live()) return stacks_.push(frame.label_types());
  Value c = w_.condition(condition);
  std::span<const Value> values = w_.values(arguments);
  Block next = w_.new_block();
  pen().when(c, label(frame), values, next, {});
  for (size_t k = 0; k < values.size(); ++k) stacks_.push(frame.label_types()[k], values[k]);
  w_.variables().seal(next);
  w_.begin(next);
}

void BodyReader::branch_by_table() {
  uint32_t count = in_.count("ways");
  std::vector<uint32_t> ways;
  for (uint32_t k = 0; k <= count && in_.good(); ++k) ways.push_back(depth());
  Operand index = stacks_.pop(ValueType::I32);
  if (!in_.good()) return;
  size_t width = stacks_.frame(ways.back()).label_types().size();
  std::span<const Operand> arguments;
  for (uint32_t way : ways) {  // the last one stays popped
    if (!arguments.empty()) stacks_.push(arguments);
    Types types = stacks_.frame(way).label_types();
    if (types.size() != width)
      stacks_.fail(
          fmt::format("'br_table' leads to blocks of {} and of {}", counted(width, "result"), types.size()));
    if (!s_.spend(width))
      stacks_.fail("the branches take more along, together, than a file of this size may have");
    if (!in_.good()) return;
    arguments = stacks_.pop(types);
  }
  if (live()) {
    std::span<const Value> values = w_.values(arguments);
    std::vector<Function::Draft::Destination> targets;
    std::vector<Bits> cases;
    for (uint32_t way : ways) targets.push_back({label(stacks_.frame(way)), values});
    for (uint32_t k = 0; k < count; ++k) cases.push_back(k);
    Value i = w_.value(index);
    if (count == 0)
      pen().go(targets[0].to, values);
    else
      pen().put({.op = Op::Choose,
                 .operands = {&i, 1},
                 .detail = w_.function().add_cases(cases),
                 .targets = targets});
    w_.die();
  }
  stacks_.unreachable();
}

void BodyReader::return_results() { branch(static_cast<uint32_t>(stacks_.depth() - 1)); }

void BodyReader::unreachable() {
  if (live()) w_.trap();
  stacks_.unreachable();
}

// ---- calls ----------------------------------------------------------------------------------------------

// By symbol, or, without one, through the address of code.
void BodyReader::call_written(uint32_t type, Value code, Symbol callee, std::span<const Operand> arguments,
                              Value context) {
  const FunctionType& t = p_.types[type];
  const Signature& signature = w_.context().signatures[type];
  std::span<const Value> given = w_.values(arguments);
  std::vector<Value>& operands = operands_;
  operands.clear();
  if (!callee.exists()) operands.push_back(code);
  operands.push_back(context);
  operands.insert(operands.end(), given.begin(), given.end());
  Instruction i = pen().put({.op = callee.exists() ? Op::Call : Op::CallThrough,
                             .operands = operands,
                             .results = signature.results,
                             .detail = callee.exists() ? callee.index : Function::no_detail});
  for (size_t k = 0; k < t.results.size(); ++k) stacks_.push(t.results[k], w_.function().result(i, k));
  w_.memory_changed();
}

void BodyReader::call() {
  uint32_t f = below(p_.functions.size(), "function");
  if (!in_.good()) return;
  const FunctionRow& row = p_.functions[f];
  const FunctionType& type = p_.types[row.type];
  std::span<const Operand> arguments = stacks_.pop(type.parameters);
  if (type.results.size() > 4 && !s_.spend(type.results.size()))
    stacks_.fail("the calls have more results, together, than a file of this size may have");
  if (!live()) return stacks_.push(type.results);
  if (!row.imported) return call_written(row.type, {}, row.symbol, arguments, w_.instance());
  Value code = w_.field(Type::pointer(), row.record), context = w_.field(Type::pointer(), row.record + 8);
  call_written(row.type, code, {}, arguments, context);
}

void BodyReader::call_indirect() {
  uint32_t type = below(p_.types.size(), "type"), table = below(p_.tables.size(), "table");
  if (!in_.good()) return;
  const FunctionType& t = p_.types[type];
  if (p_.tables[table].element != ValueType::FuncRef)
    stacks_.fail(fmt::format("table {} has no functions", table), "a table of funcref");
  Operand index = stacks_.pop(ValueType::I32);
  std::span<const Operand> arguments = stacks_.pop(t.parameters);
  if (t.results.size() > 4 && !s_.spend(t.results.size()))
    stacks_.fail("the calls have more results, together, than a file of this size may have");
  if (!live()) return stacks_.push(t.results);
  Value record = table_element(p_.tables[table], w_.value(index));
  w_.trap_if(pen().eq(record, pen().null()));
  Value is = pen().load(Type::integer(64), record, {}, 1, 16);
  w_.trap_if(pen().ne(is, w_.wide(type_number(t))));
  Value code = pen().load(Type::pointer(), record), context = pen().load(Type::pointer(), record, {}, 1, 8);
  call_written(type, code, {}, arguments, context);
}

}  // namespace porphyry::wasm
