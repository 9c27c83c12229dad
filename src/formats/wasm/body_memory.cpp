// Memory and tables. What the standard checks is compared before anything is touched: an instruction that
// traps has done nothing.
#include <fmt/format.h>

#include "body.h"

namespace porphyry::wasm {

using types::i32, types::i64;

bool BodyReader::has_memory() {
  if (!p_.memories.empty()) return in_.good();
  stacks_.fail("the module has no memory", "a memory that is defined or imported");
  return false;
}

void BodyReader::load(const Opcode& is) {
  uint32_t offset = stacks_.memory_offset(is.bits);
  has_memory();
  Operand address = stacks_.pop(ValueType::I32);
  if (!live()) return stacks_.push(is.to);
  Writer::Place at = w_.place(w_.value(address), offset, is.bits / 8);
  Type t = ir_type(is.to), narrow = is.op == Op::Load ? t : Type::integer(is.bits);
  Value v = pen().load(narrow, at.base, at.where);
  stacks_.push(is.to, is.op == Op::Load ? v : pen().convert(is.op, t, v));
}

void BodyReader::store(const Opcode& is) {
  uint32_t offset = stacks_.memory_offset(is.bits);
  has_memory();
  Operand o = stacks_.pop(is.from), address = stacks_.pop(ValueType::I32);
  if (!live()) return;
  Value a = w_.value(address), v = w_.value(o);
  Writer::Place at = w_.place(a, offset, is.bits / 8);
  if (is.op == Op::Narrow) v = pen().narrow(Type::integer(is.bits), v);
  w_.put(v, at.base, at.where);
}

void BodyReader::memory_size() {
  if (in_.byte() != 0) stacks_.fail("there is one memory in this release", "0");
  if (!has_memory() || !live()) return stacks_.push(ValueType::I32);
  stacks_.push(ValueType::I32, pen().narrow(i32, pen().shr_u(w_.memory_size(), w_.wide(16))));
}

void BodyReader::memory_grow() {
  if (in_.byte() != 0) stacks_.fail("there is one memory in this release", "0");
  Operand pages = stacks_.pop(ValueType::I32);
  if (!has_memory() || !live()) return stacks_.push(ValueType::I32);
  Value n = w_.value(pages), record = w_.record(p_.memories[0].place, p_.memories[0].imported);
  stacks_.push(ValueType::I32, w_.call("memory.grow", {record, n}, i32));
  w_.memory_changed();
}

void BodyReader::memory_fill() {
  if (in_.byte() != 0) stacks_.fail("there is one memory in this release", "0");
  Operand count = stacks_.pop(ValueType::I32), v = stacks_.pop(ValueType::I32),
          to = stacks_.pop(ValueType::I32);
  if (!has_memory() || !live()) return;
  Value n = pen().widen_u(i64, w_.value(count)), from = pen().widen_u(i64, w_.value(to));
  Value byte = pen().narrow(Type::integer(8), w_.value(v));
  Value at = w_.checked_range(w_.memory_base(), from, n, w_.memory_size());
  pen().fill(byte, at, n);
}

void BodyReader::memory_copy() {
  if (in_.byte() != 0 || in_.byte() != 0) stacks_.fail("there is one memory in this release", "0");
  Operand count = stacks_.pop(ValueType::I32), source = stacks_.pop(ValueType::I32),
          to = stacks_.pop(ValueType::I32);
  if (!has_memory() || !live()) return;
  Value n = pen().widen_u(i64, w_.value(count)), size = w_.memory_size();
  Value a = w_.checked_range(w_.memory_base(), pen().widen_u(i64, w_.value(to)), n, size);
  Value b = w_.checked_range(w_.memory_base(), pen().widen_u(i64, w_.value(source)), n, size);
  pen().copy(a, b, n);
}

uint32_t BodyReader::data_segment() {
  uint32_t at = stacks_.offset();
  if (!s_.data_count) in_.fail(at, "data segments are named, but not announced", "a data count section");
  return below(s_.data.size(), "data segment");
}

void BodyReader::memory_init() {
  uint32_t segment = data_segment();
  if (in_.byte() != 0) stacks_.fail("there is one memory in this release", "0");
  Operand count = stacks_.pop(ValueType::I32), source = stacks_.pop(ValueType::I32),
          to = stacks_.pop(ValueType::I32);
  if (!has_memory() || !live()) return;
  Value n = pen().widen_u(i64, w_.value(count));
  Value a = w_.checked_range(w_.memory_base(), pen().widen_u(i64, w_.value(to)), n, w_.memory_size());
  Value left = w_.field(i64, s_.data[segment].place), data = pen().address_of(s_.data[segment].data);
  Value b = w_.checked_range(data, pen().widen_u(i64, w_.value(source)), n, left);
  pen().copy(a, b, n);
}

void BodyReader::data_drop() {
  uint32_t segment = data_segment();
  if (live()) w_.set_field(w_.wide(0), s_.data[segment].place);
}

// ---- tables ---------------------------------------------------------------------------------------------

uint32_t BodyReader::table() { return below(p_.tables.size(), "table"); }

// Where an element is: the table's elements, and the index as i64, compared with how many there are.
static std::pair<Value, Value> element_place(Writer& w, const TableRow& t, Value index) {
  Value i = w.pen().widen_u(i64, index);
  w.trap_if(w.pen().ge_u(i, w.record_field(i64, t.place, t.imported, 8)));
  return {w.record_field(Type::pointer(), t.place, t.imported, 0), i};
}

Value BodyReader::table_element(const TableRow& t, Value index) {
  auto [elements, i] = element_place(w_, t, index);
  return pen().load(Type::pointer(), elements, i, 8);
}

void BodyReader::table_get() {
  uint32_t n = table();
  Operand index = stacks_.pop(ValueType::I32);
  if (!in_.good()) return;
  const TableRow& t = p_.tables[n];
  stacks_.push(t.element, live() ? table_element(t, w_.value(index)) : Value());
}

void BodyReader::table_set() {
  uint32_t n = table();
  if (!in_.good()) return;
  const TableRow& t = p_.tables[n];
  Operand v = stacks_.pop(t.element), index = stacks_.pop(ValueType::I32);
  if (!live()) return;
  auto [elements, i] = element_place(w_, t, w_.value(index));
  w_.put(v.value, elements, {.index = i, .scale = 8});
}

void BodyReader::table_size() {
  uint32_t n = table();
  if (!live()) return stacks_.push(ValueType::I32);
  stacks_.push(ValueType::I32,
               pen().narrow(i32, w_.record_field(i64, p_.tables[n].place, p_.tables[n].imported, 8)));
}

void BodyReader::table_grow() {
  uint32_t n = table();
  if (!in_.good()) return;
  const TableRow& t = p_.tables[n];
  Operand count = stacks_.pop(ValueType::I32), v = stacks_.pop(t.element);
  if (!live()) return stacks_.push(ValueType::I32);
  Value more = w_.value(count), record = w_.record(t.place, t.imported);
  stacks_.push(ValueType::I32, w_.call("table.grow", {record, more, v.value}, i32));
}

// A range of a table, checked: its elements and its first index.
static std::pair<Value, Value> element_range(Writer& w, const TableRow& t, Value first, Value count) {
  Value from = w.pen().widen_u(i64, first), end = w.pen().add(from, count);
  w.trap_if(w.pen().gt_u(end, w.record_field(i64, t.place, t.imported, 8)));
  return {w.record_field(Type::pointer(), t.place, t.imported, 0), from};
}

void BodyReader::table_fill() {
  uint32_t n = table();
  if (!in_.good()) return;
  const TableRow& t = p_.tables[n];
  Operand count = stacks_.pop(ValueType::I32), v = stacks_.pop(t.element), to = stacks_.pop(ValueType::I32);
  if (!live()) return;
  Value k = pen().widen_u(i64, w_.value(count));
  auto [elements, from] = element_range(w_, t, w_.value(to), k);
  w_.call("table.put", {elements, from, k, v.value});
}

void BodyReader::table_copy() {
  uint32_t to = table(), from = table();
  Operand count = stacks_.pop(ValueType::I32), source = stacks_.pop(ValueType::I32),
          target = stacks_.pop(ValueType::I32);
  if (!in_.good()) return;
  const TableRow &a = p_.tables[to], &b = p_.tables[from];
  if (a.element != b.element)
    stacks_.fail(fmt::format("'table.copy' from {} to {}", type_name(b.element), type_name(a.element)),
                 "tables of one type");
  if (!live()) return;
  Value k = pen().widen_u(i64, w_.value(count));
  auto [target_elements, first] = element_range(w_, a, w_.value(target), k);
  auto [source_elements, start] = element_range(w_, b, w_.value(source), k);
  Value where = pen().at(target_elements, first, 8), what = pen().at(source_elements, start, 8);
  pen().copy(where, what, pen().shl(k, w_.wide(3)));
}

uint32_t BodyReader::element_segment() { return below(s_.elements.size(), "element segment"); }

void BodyReader::table_init() {
  uint32_t segment = element_segment(), to = table();
  Operand count = stacks_.pop(ValueType::I32), source = stacks_.pop(ValueType::I32),
          target = stacks_.pop(ValueType::I32);
  if (!in_.good()) return;
  const ElementSegment& e = s_.elements[segment];
  const TableRow& t = p_.tables[to];
  if (t.element != e.type)
    stacks_.fail(
        fmt::format("elements of type {} for a table of {}", type_name(e.type), type_name(t.element)));
  if (!live()) return;
  Value k = pen().widen_u(i64, w_.value(count));
  auto [elements, first] = element_range(w_, t, w_.value(target), k);
  Value from = pen().widen_u(i64, w_.value(source));
  w_.trap_if(pen().gt_u(pen().add(from, k), w_.field(i64, e.place)));
  Value data = pen().address_of(e.data);
  w_.call("table.init", {w_.instance(), elements, first, data, from, k});
}

void BodyReader::element_drop() {
  uint32_t segment = element_segment();
  if (live()) w_.set_field(w_.wide(0), s_.elements[segment].place);
}

}  // namespace porphyry::wasm
