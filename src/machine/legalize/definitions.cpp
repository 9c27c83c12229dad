// definitions: operations that are said in others. A row below is all that legalization needs to know of one:
// it is applied where the book has no rule for the type, and, on integers that no register holds as they are,
// before these are taken apart. O(instructions).
#include <array>
#include <bit>

#include "folding_pen.h"
#include "state.h"

namespace porphyry::machine {
namespace {

using Operands = std::span<const Value>;

Value picked(FoldingPen& pen, Op compare, Operands v) {
  return pen.pick(pen.make(compare, {v[0], v[1]}), v[0], v[1]);
}

struct Definition {
  Op op;
  bool only_apart;  // only on integers that are taken apart: expand.cpp has better for the others
  Value (*write)(FoldingPen& pen, Operands v);
};

constexpr Definition definitions_[] = {
    {Op::MinS, true, [](FoldingPen& pen, Operands v) { return picked(pen, Op::LtS, v); }},
    {Op::MinU, true, [](FoldingPen& pen, Operands v) { return picked(pen, Op::LtU, v); }},
    {Op::MaxS, true, [](FoldingPen& pen, Operands v) { return picked(pen, Op::GtS, v); }},
    {Op::MaxU, true, [](FoldingPen& pen, Operands v) { return picked(pen, Op::GtU, v); }},
};

// By operation: its row plus one.
constexpr auto rows_ = [] {
  std::array<uint8_t, operation_count> out{};
  for (size_t k = 0; k < std::size(definitions_); ++k)
    out[static_cast<size_t>(definitions_[k].op)] = static_cast<uint8_t>(k + 1);
  return out;
}();

const Definition* definition_of(Op op) {
  uint8_t row = rows_[static_cast<size_t>(op)];
  return row ? &definitions_[row - 1] : nullptr;
}

bool is_taken_apart(Type t, unsigned word_bits) {
  return t.is_integer() && !t.has_lanes() &&
         (t.bits() < 8 || t.bits() > word_bits || !std::has_single_bit(t.bits()));
}

bool applies(const Definition& d, const Coverage& coverage, Type operand, Type result) {
  if (is_taken_apart(operand, coverage.word().bits())) return true;
  return !d.only_apart && !operand.has_lanes() && !coverage.covers(d.op, operand, result);
}

}  // namespace

namespace legal {
void definitions(FunctionContext& c) {
  Function& f = c.function;
  FoldingPen pen(c.module, f);
  for (Block b : f.blocks())
    for (Instruction i = f.first(b), next; i.exists(); i = next) {
      next = f.next(i);
      const Definition* d = definition_of(f.op(i));
      if (!d || !applies(*d, state(c).coverage, f.type(f.operand(i, 0)), f.type(f.result(i)))) continue;
      pen.before(i).from(f.position(i));
      std::vector<Value> operands;
      for (Value v : f.operands(i)) operands.push_back(v);
      pen.put_in_place(f.result(i), d->write(pen, operands));
      f.erase(i);
    }
}
}  // namespace legal

}  // namespace porphyry::machine
