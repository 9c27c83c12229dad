#include "body.h"

#include <fmt/format.h>

#include <cmath>

#include "lanes.h"

namespace porphyry::wasm {
namespace {

constexpr uint32_t local_limit = 50'000;  // of one function

// The declared locals, behind the parameters that are in `out`: runs of one type each.
void read_locals(In& in, Sections& sections, std::vector<ValueType>& out) {
  for (uint32_t n = in.count("runs of locals"); n > 0 && in.good(); --n) {
    uint32_t at = in.offset(), count = in.u32();
    auto t = static_cast<ValueType>(in.byte());
    if (type_name(t) == "anything")
      in.fail(at, "a local is of no known type", "i32, i64, f32, f64, v128, funcref or externref");
    if (count > local_limit - std::min<size_t>(out.size(), local_limit))
      in.fail(at, fmt::format("{} locals and more", out.size() + uint64_t(count)),
              fmt::format("at most {}", local_limit));
    else if (!sections.spend(count))
      in.fail(at, "the functions have more locals, together, than a file of this size may have");
    if (in.good()) out.insert(out.end(), count, t);
  }
}

}  // namespace

std::optional<Mistake> BodyReader::read(uint32_t function, Wanted& wanted) {
  const Body& body = s_.bodies[function - s_.imported_functions];
  const FunctionType& type = p_.type_of(function);
  in_ = In(body.code, body.offset);
  locals_ = type.parameters;
  read_locals(in_, s_, locals_);
  if (in_.good()) {
    writes_.scan(in_, static_cast<uint32_t>(locals_.size()));
    stacks_.begin(type.results);
    kept_.clear(), block_count_ = 0;
    w_.start(function, locals_, body);
    read_code();
  }
  if (!in_.good()) return in_.mistake();
  w_.finish(wanted);
  return {};
}

void BodyReader::read_code() {
  while (in_.good() && !stacks_.done()) {
    uint32_t at = in_.offset();
    uint8_t code = in_.byte();
    w_.at(at);
    if (code == 0xfd) {
      lanes(at);
      continue;
    }
    const Opcode& is = code == 0xfc ? prefixed_opcode(in_.u32()) : opcode(code);
    stacks_.at(at, is.name);
    step(is);
  }
  if (in_.good() && !in_.at_end()) in_.fail("there is code behind the function's end");
}

void BodyReader::lanes(uint32_t at) {
  uint32_t code = in_.u32();
  const char* name = lanes_name(code);
  stacks_.at(at, name);
  if (!name) return no_such_instruction();
  if (!lanes_reach_memory(code) || has_memory()) read_lanes(in_, stacks_, w_, code);
}

void BodyReader::no_such_instruction() {
  stacks_.fail("there is no such instruction in the release that is read",
               "one of the core specification, release 2");
}

void BodyReader::step(const Opcode& is) {
  switch (is.way) {
    case Way::Plain: return plain(is);
    case Way::Compare: return compare(is);
    case Way::Test: return test(is);
    case Way::Convert: return convert(is);
    case Way::Truncate: return truncate(is);
    case Way::Extend: return extend(is);
    case Way::Const: return constant(is);
    case Way::LocalGet: return local_get();
    case Way::LocalSet: return local_set(false);
    case Way::LocalTee: return local_set(true);
    case Way::GlobalGet: return global_get();
    case Way::GlobalSet: return global_set();
    case Way::Load: return load(is);
    case Way::Store: return store(is);
    case Way::Block: return begin_block(Frame::Form::Block);
    case Way::Loop: return begin_block(Frame::Form::Loop);
    case Way::If: return begin_block(Frame::Form::If);
    case Way::Else: return otherwise();
    case Way::End: return end();
    case Way::Branch: return branch(depth());
    case Way::BranchIf: return branch_if();
    case Way::BranchByTable: return branch_by_table();
    case Way::Return: return return_results();
    case Way::Call: return call();
    case Way::CallIndirect: return call_indirect();
    case Way::Drop: stacks_.pop_any(); return;
    case Way::Select: return select({});
    case Way::Nop: return;
    default: return other_step(is);
  }
}

void BodyReader::other_step(const Opcode& is) {
  switch (is.way) {
    case Way::Unreachable: return unreachable();
    case Way::SelectTyped: return typed_select();
    case Way::RefNull: return reference_null();
    case Way::RefIsNull: return reference_is_null();
    case Way::RefFunc: return reference_to_function();
    case Way::MemorySize: return memory_size();
    case Way::MemoryGrow: return memory_grow();
    case Way::MemoryFill: return memory_fill();
    case Way::MemoryCopy: return memory_copy();
    case Way::MemoryInit: return memory_init();
    case Way::DataDrop: return data_drop();
    case Way::TableGet: return table_get();
    case Way::TableSet: return table_set();
    case Way::TableSize: return table_size();
    case Way::TableGrow: return table_grow();
    case Way::TableFill: return table_fill();
    case Way::TableCopy: return table_copy();
    case Way::TableInit: return table_init();
    case Way::ElemDrop: return element_drop();
    default: return no_such_instruction();
  }
}

uint32_t BodyReader::not_below(uint32_t n, size_t limit, const char* what) {
  if (!in_.good()) return n;
  stacks_.fail(fmt::format("there is no {} {}", what, n),
               limit == 0 ? fmt::format("a module with a {}", what) : fmt::format("0 to {}", limit - 1));
  return 0;
}

// ---- numbers --------------------------------------------------------------------------------------------

void BodyReader::plain(const Opcode& is) {
  Operand b = stacks_.pop(is.from), a = is.operands == 2 ? stacks_.pop(is.from) : b;
  if (!live()) return stacks_.push(is.to);
  Value operands[] = {w_.value(a), is.operands == 2 ? w_.value(b) : Value()};
  stacks_.push(is.to, pen().write(is.op, std::span<const Value>(operands, is.operands)));
}

void BodyReader::compare(const Opcode& is) {
  Operand b = stacks_.pop(is.from), a = stacks_.pop(is.from);
  if (!live()) return stacks_.push(is.to);
  Value x = w_.value(a), y = w_.value(b);
  stacks_.push(is.to, pen().write(is.op, {x, y}), true);
}

void BodyReader::test(const Opcode& is) {
  Operand a = stacks_.pop(is.from);
  if (!live()) return stacks_.push(is.to);
  Value truth =
      a.is_truth ? pen().not_(a.value) : pen().eq(a.value, w_.function().constant(ir_type(is.from), 0));
  stacks_.push(is.to, truth, true);
}

void BodyReader::convert(const Opcode& is) {
  Operand a = stacks_.pop(is.from);
  if (!live()) return stacks_.push(is.to);
  if (a.is_truth && is.op == Op::WidenU) return stacks_.push(is.to, pen().widen_u(ir_type(is.to), a.value));
  stacks_.push(is.to, pen().convert(is.op, ir_type(is.to), w_.value(a)));
}

// Truncated toward zero it fits when it lies strictly between these; a NaN does not. The least integer has a
// float of its own, the one below it only where floats are finer than integers there.
void BodyReader::truncate(const Opcode& is) {
  Operand a = stacks_.pop(is.from);
  if (!live()) return stacks_.push(is.to);
  Type from = ir_type(is.from), to = ir_type(is.to);
  bool is_signed = is.op == Op::ToIntS, exact = from.bits() == 64 && to.bits() == 32;
  double above = std::ldexp(1.0, static_cast<int>(to.bits()) - is_signed), least = is_signed ? -above : 0;
  Value v = a.value;
  Value low =
      is_signed && !exact ? pen().ge(v, pen().real(from, least)) : pen().gt(v, pen().real(from, least - 1));
  Value high = pen().lt(v, pen().real(from, above));
  w_.trap_if(pen().not_(pen().and_(low, high)));
  stacks_.push(is.to, pen().convert(is.op, to, v));
}

void BodyReader::extend(const Opcode& is) {
  Operand a = stacks_.pop(is.from);
  if (!live()) return stacks_.push(is.to);
  Value low = pen().narrow(Type::integer(is.bits), w_.value(a));
  stacks_.push(is.to, pen().widen_s(ir_type(is.to), low));
}

void BodyReader::constant(const Opcode& is) {
  uint64_t bits = 0;
  switch (is.to) {
    case ValueType::I32: bits = static_cast<uint32_t>(in_.s32()); break;
    case ValueType::I64: bits = static_cast<uint64_t>(in_.s64()); break;
    case ValueType::F32: bits = in_.fixed<uint32_t>(); break;
    default: bits = in_.fixed<uint64_t>(); break;
  }
  stacks_.push(is.to, live() ? w_.function().constant(ir_type(is.to), bits) : Value());
}

void BodyReader::select(std::optional<ValueType> type) {
  Operand c = stacks_.pop(ValueType::I32);
  Operand b = stacks_.pop(type.value_or(ValueType::Unknown));
  Operand a = stacks_.pop(type ? *type : b.type);
  ValueType is = type.value_or(a.type == ValueType::Unknown ? b.type : a.type);
  if (!type && (is == ValueType::FuncRef || is == ValueType::ExternRef))
    stacks_.fail(fmt::format("'select' without a type is for numbers, not {}", type_name(is)),
                 "'select' with a type");
  if (!live()) return stacks_.push(is);
  Value condition = w_.condition(c), x = w_.value(a), y = w_.value(b);
  stacks_.push(is, pen().pick(condition, x, y));
}

void BodyReader::typed_select() {
  uint32_t n = in_.u32();
  if (n != 1) stacks_.fail(fmt::format("'select' has {} types", n), "one");
  auto t = static_cast<ValueType>(in_.byte());
  if (type_name(t) == "anything") stacks_.fail("'select' is of no known type");
  select(t);
}

// ---- locals and globals ---------------------------------------------------------------------------------

uint32_t BodyReader::local() { return below(w_.locals().size(), "local"); }

void BodyReader::local_get() {
  uint32_t n = local();
  if (!in_.good()) return;
  stacks_.push(w_.locals()[n], live() ? w_.read(n) : Value());
}

void BodyReader::local_set(bool keep) {
  uint32_t n = local();
  if (!in_.good()) return;
  Operand a = stacks_.pop(w_.locals()[n]);
  if (!live()) {
    if (keep) stacks_.push(w_.locals()[n]);
    return;
  }
  Value v = w_.value(a);
  w_.write(n, v);
  if (keep) stacks_.push(a.type, v);
}

void BodyReader::global_get() {
  uint32_t n = below(p_.globals.size(), "global");
  if (!in_.good()) return;
  const GlobalRow& g = p_.globals[n];
  if (!live()) return stacks_.push(g.type);
  Type t = ir_type(g.type);
  size_t imported = p_.globals.size() - s_.global_values.size();
  if (!g.is_mutable && !g.imported && !t.has_lanes() &&
      s_.global_values[n - imported].kind == Constant::Kind::Number)
    return stacks_.push(g.type, w_.function().constant(t, s_.global_values[n - imported].bits));
  stacks_.push(g.type, w_.record_field(t, g.place, g.imported, 0));
}

void BodyReader::global_set() {
  uint32_t n = below(p_.globals.size(), "global");
  if (!in_.good()) return;
  const GlobalRow& g = p_.globals[n];
  if (!g.is_mutable) stacks_.fail(fmt::format("global {} does not change", n), "one that is mutable");
  Operand a = stacks_.pop(g.type);
  if (!live()) return;
  if (g.imported)
    w_.put(w_.value(a), w_.field(Type::pointer(), g.place));
  else
    w_.set_field(w_.value(a), g.place);
}

// ---- references -----------------------------------------------------------------------------------------

void BodyReader::reference_null() {
  auto t = static_cast<ValueType>(in_.byte());
  if (t != ValueType::FuncRef && t != ValueType::ExternRef)
    stacks_.fail("'ref.null' is of no type of references", "funcref or externref");
  stacks_.push(t, live() ? pen().null() : Value());
}

void BodyReader::reference_is_null() {
  Operand a = stacks_.pop_any();
  if (a.type != ValueType::FuncRef && a.type != ValueType::ExternRef && a.type != ValueType::Unknown)
    stacks_.fail(fmt::format("'ref.is_null' takes a reference, but {} is on the stack", type_name(a.type)),
                 "funcref or externref");
  if (!live()) return stacks_.push(ValueType::I32);
  stacks_.push(ValueType::I32, pen().eq(a.value, pen().null()), true);
}

void BodyReader::reference_to_function() {
  uint32_t f = below(p_.functions.size(), "function");
  if (!in_.good()) return;
  if (!s_.declared[f])
    stacks_.fail(fmt::format("'ref.func' names function {}, which no element, export or global does", f),
                 "a function that is declared so");
  stacks_.push(ValueType::FuncRef, live() ? pen().at(w_.instance(), {}, 1, p_.functions[f].record) : Value());
}

}  // namespace porphyry::wasm
