// What only says something has been heard by the passes before: the machine needs none of it. And what can
// never run need not be lowered.
#include "porphyry/ir/order.h"
#include "steps.h"

namespace porphyry::machine {
namespace {

bool only_says(Op op) {
  return op == Op::Sole || op == Op::End || op == Op::Renew || op == Op::Release || op == Op::Watch;
}

// Kinds are forgotten, alignments stay: they have been written out.
void forget_kinds(Function& f, Instruction i) {
  Layout layout = info(f.op(i)).layout;
  if (layout != Layout::Load && layout != Layout::Store) return;
  Address a = f.address(i);
  if (!a.kind.exists() && !a.as_unwritten && !a.early) return;
  a.kind = {};
  a.as_unwritten = a.early = false;
  f.set_address(i, a);
}

}  // namespace

void drop_marks(Function& f) {
  for (Block b = f.entry(); b.exists(); b = f.next(b))
    for (Instruction i = f.first(b), next; i.exists(); i = next) {
      next = f.next(i);
      if (!only_says(f.op(i))) {
        forget_kinds(f, i);
        continue;
      }
      if (f.op(i) == Op::Sole) f.replace_uses(f.result(i), f.operand(i, 0));
      f.erase(i);
    }
}

void drop_unreachable(Function& f, std::pmr::memory_resource* memory) {
  FixedTable<Block, uint8_t> reached(f.block_limit(), memory);
  for (Block b : reverse_postorder(f, memory)) reached[b] = 1;
  Blocks gone(memory);
  for (Block b = f.entry(); b.exists(); b = f.next(b))
    if (!reached[b]) gone.push_back(b);
  auto loosen = [&](Slot s) { f.set(s, f.constant(f.type(f.value(s)), 0)); };
  for (Block b : gone)
    for (Instruction i = f.first(b); i.exists(); i = f.next(i)) {
      for (size_t k = 0; k < f.operand_count(i); ++k) loosen(f.operand_slot(i, k));
      for (Edge e : f.edges(i))
        for (size_t k = 0; k < f.argument_count(e); ++k) loosen(f.argument_slot(e, k));
    }
  for (Block b : gone)
    while (f.last(b).exists()) f.erase(f.last(b));
  for (Block b : gone) f.erase_block(b);
}

}  // namespace porphyry::machine
