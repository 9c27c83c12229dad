// Plain operations: any row of the table on any type that it takes.
#include "maker.h"
#include "porphyry/ir/typing.h"

namespace porphyry::sample {

// One that is neither zero nor -1.
Value Maker::safe_divisor(Value v) {
  Type t = f_->type(v);
  if (t.bits() == 2) return number(t, 1);
  return pen_->write(Op::Or, {pen_->write(Op::ShrU, {v, number(t, 1)}), number(t, 1)});
}

std::vector<Value> Maker::operands_of(const OperationInfo& row, Type t) {
  std::vector<Value> v;
  if (row.layout == Layout::Pick)
    v.push_back(value(chance(50) ? Type::boolean() : Type::boolean().with_lanes(t.lanes())));
  while (v.size() < row.arity()) v.push_back(value(t));
  if (row.layout == Layout::Carry) v[2] = value(Type::boolean().with_lanes(t.lanes()));
  if (row.op == Op::CopySign) v[1] = canonical(v[1]);
  if (row.may_trap() && !chance(3)) v[1] = safe_divisor(v[1]);
  return v;
}

void Maker::plain_operation() {
  auto rows = all_operations();
  const OperationInfo& row = rows[below(rows.size())];
  if (!row.is_plain()) return;
  if (row.layout == Layout::Convert) return conversion(row.op);
  if (row.layout > Layout::Carry) return void(lanes_operation(row));
  for (int tries = 0; tries < 20; ++tries) {
    Type t = any_type();
    if (!row.accepts_shape(t.shape()) || (row.op == Op::ReverseBytes && t.bits() % 8)) continue;
    std::vector<Value> v = operands_of(row, t);
    Value first = pen_->write(row.op, v);
    keep(first);
    if (row.result_count() == 2) keep(Value(first.index + 1));
    return;
  }
}

void Maker::conversion(Op op) {
  for (int tries = 0; tries < 40; ++tries) {
    Type from = any_type(), to = chance(70) ? any_type() : fresh_type();
    if (op == Op::Bits && chance(60) && from.total_bits() <= 128 && from.total_bits() > 1)
      to = Type::integer(from.total_bits());
    if (conversion_problem(op, from, to)) continue;
    Value v = value(from);
    if (op == Op::Bits) v = canonical(v);
    Value r = pen_->convert(op, to, v);
    keep(op == Op::Bits ? canonical(r) : r);
    return;
  }
}

bool Maker::lanes_operation(const OperationInfo& row) {
  Type t = any_type();
  for (int tries = 0; tries < 20 && (!t.has_lanes() || !row.accepts_shape(t.shape())); ++tries)
    t = any_type();
  if (!row.accepts_shape(t.shape())) return false;
  if (!t.has_lanes()) t = t.with_lanes(2 + static_cast<unsigned>(below(3)));
  switch (row.layout) {
    case Layout::Splat: keep(pen_->convert(Op::Splat, t, value(t.element()))); break;
    case Layout::Lane: keep(pen_->write(Op::Lane, {value(t), value(any_integer(true))})); break;
    case Layout::Put:
      keep(pen_->write(Op::Put, {value(t), value(any_integer(true)), value(t.element())}));
      break;
    case Layout::Shuffle: {
      std::vector<uint16_t> lanes;
      for (size_t k = 2 + below(7); k-- > 0;) lanes.push_back(static_cast<uint16_t>(below(2 * t.lanes())));
      keep(pen_->shuffle(value(t), value(t), lanes));
      break;
    }
    case Layout::Interleave:
      if (t.lanes() <= 16) keep(pen_->write(Op::Interleave, {value(t), value(t)}));
      break;
    default: keep(pen_->write(row.op, {value(t)}));
  }
  return true;
}

}  // namespace porphyry::sample
