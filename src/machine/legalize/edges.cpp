// edges: splits critical edges where something moves. O(edges).
//
// Moves need a block of their own where a branch leads to a join: those that pass arguments, and those by
// which the allocator parts a value's life at a loop's boundary. Edges without arguments inside of a loop, or
// outside of all, stay: a large `choose` has thousands. Those of one block that lead to the same place share
// what is put between.
#include <optional>
#include <unordered_map>

#include "porphyry/analyze/loops.h"
#include "state.h"

namespace porphyry::machine {

namespace legal {

void edges(FunctionContext& c) {
  Function& f = c.function;
  std::pmr::memory_resource* memory = fresh_scratch(c);
  std::pmr::vector<Edge> critical(memory);
  bool some_plain = false;
  for (Block b : f.blocks()) {
    if (f.edges(b).size() < 2) continue;
    for (Edge e : f.edges(b)) {
      if (!f.next_in(f.first_in(f.to(e))).exists()) continue;
      critical.push_back(e);
      some_plain |= f.argument_count(e) == 0;
    }
  }
  std::optional<Loops> loops;
  if (some_plain) loops.emplace(f, Dominators(f, memory), memory);
  std::pmr::vector<Value> arguments(memory);
  std::pmr::unordered_map<uint32_t, Block> known(memory);  // of the current block: what stands before a block
  Block current;
  for (Edge e : critical) {
    Block from = f.from(e), to = f.to(e);
    const bool is_plain = f.argument_count(e) == 0;
    if (is_plain && loops->header(from) == loops->header(to)) continue;
    if (from != current) known.clear(), current = from;
    if (auto at = known.find(to.index); is_plain && at != known.end()) {
      f.redirect(e, at->second);
      continue;
    }
    arguments.clear();
    for (Value v : f.arguments(e)) arguments.push_back(v);
    Block between = f.add_block_after(from);
    if (is_plain) known[to.index] = between;
    f.redirect(e, between);
    Function::Draft::Destination target{to, arguments};
    f.append(between, {.op = Op::Go, .position = f.position(f.terminator(from)), .targets = {&target, 1}});
  }
}

}  // namespace legal

}  // namespace porphyry::machine
