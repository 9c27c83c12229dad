// marks: what only says something has been heard by the passes before: the machine needs none of it, and
// debuggers only `watch` and `here`. O(instructions).
#include "state.h"

namespace porphyry::machine {
namespace {

bool only_says(Op op) {
  return op == Op::Sole || op == Op::End || op == Op::Renew || op == Op::Release || op == Op::Watch ||
         op == Op::Here;
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
