// marks: what only says something has been heard by the passes before: the machine needs none of it.
// O(instructions).
#include <bit>

#include "porphyry/ir/pen.h"
#include "state.h"

namespace porphyry::machine {
namespace {

bool only_says(Op op) {
  return op == Op::Sole || op == Op::End || op == Op::Renew || op == Op::Release || op == Op::Watch ||
         op == Op::Here;
}

// Whether a value of this type is one value to the end of all steps.
bool stays_whole(Type t, const Target& target) {
  if (t.has_lanes()) return false;
  const bool has_register = std::has_single_bit(t.bits()) && t.bits() >= 8 && t.bits() <= target.word_bits;
  return t.is_bool() || t.is_float() || t.is_pointer() || has_register;
}

// Variables are followed from here on: of those whose values will be taken apart it is only known that they
// change.
void follow_variables(FunctionContext& c, Watches& watches) {
  Function& f = c.function;
  Pen pen(c.module, f);
  std::vector<Instruction> all;
  for (Block b : f.blocks())
    for (Instruction i : f.instructions(b))
      if (f.op(i) == Op::Watch) all.push_back(i);
  pen.before(f.first(f.entry()));
  for (uint32_t k = 0; k < f.parameters().size(); ++k)
    if (const Value v = f.parameters()[k]; f.name(v).exists())
      watches.mark(pen, {f.name(v), f.type(v), true}, k);
  for (Instruction i : all) {
    const Watched variable{f.watched(i), f.type(f.operand(i, 0)), false,
                           InlineScope::of(c.module, f.position(i))};
    if (stays_whole(variable.type, state(c).target)) {
      watches.marks.push_back({i, variable, {}, true});
      continue;
    }
    pen.before(i);
    watches.mark(pen, variable, {});
    f.erase(i);
  }
}

// Kinds are forgotten, alignments stay: they have been written out.
void forget_kinds(Function& f, Instruction i) {
  if (info(f.op(i)).detail() != Detail::Address) return;
  Address a = f.address(i);
  if (!a.kind.exists() && !a.as_unwritten && !a.early) return;
  a.kind = {};
  a.as_unwritten = a.early = false;
  f.set_address(i, a);
}

}  // namespace

namespace legal {

void marks(FunctionContext& c) {
  Function& f = c.function;
  const Variables how = state(c).watches.how;
  if (how == Variables::Followed) follow_variables(c, state(c).watches);
  for (Block b : f.blocks())
    for (Instruction i = f.first(b), next; i.exists(); i = next) {
      next = f.next(i);
      const bool is_wanted = (f.op(i) == Op::Watch && how != Variables::Ignored) ||
                             (f.op(i) == Op::Here && how == Variables::Observed);
      if (is_wanted) continue;
      if (!only_says(f.op(i))) {
        forget_kinds(f, i);
        continue;
      }
      if (f.op(i) == Op::Sole) f.replace_uses(f.result(i), f.operand(i, 0));
      f.erase(i);
    }
}

}  // namespace legal

}  // namespace porphyry::machine
