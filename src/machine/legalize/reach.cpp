// reach: removes unreachable blocks, so that nothing is lowered that never runs. O(instructions + edges).
#include "porphyry/ir/order.h"
#include "state.h"

namespace porphyry::machine::legal {

void reach(FunctionContext& c) {
  Function& f = c.function;
  std::pmr::memory_resource* memory = fresh_scratch(c);
  FixedTable<Block, uint8_t> reached(f.block_limit(), memory);
  for (Block b : reverse_postorder(f, memory)) reached[b] = 1;
  Blocks gone(memory);
  for (Block b : f.blocks())
    if (!reached[b]) gone.push_back(b);
  auto loosen = [&](Slot s) { f.set(s, f.constant(f.type(f.value(s)), 0)); };
  for (Block b : gone)
    for (Instruction i : f.instructions(b)) {
      for (size_t k = 0; k < f.operand_count(i); ++k) loosen(f.operand_slot(i, k));
      for (Edge e : f.edges(i))
        for (size_t k = 0; k < f.argument_count(e); ++k) loosen(f.argument_slot(e, k));
    }
  for (Block b : gone)
    while (f.last(b).exists()) f.erase(f.last(b));
  for (Block b : gone) f.erase_block(b);
}

}  // namespace porphyry::machine::legal
