// Instruction selection: covers each block's expression trees with the book's rules at least total cost.
//
// Bottom-up costs by dynamic programming over the trees (A. Aho, M. Ganapathi, S. Tjiang, "Code Generation
// Using Tree Matching and Dynamic Programming", 1989), with one kind of result: a value in a register. A
// value belongs to a tree when it has one use in the same block; loads fold only when nothing writes in
// between; comparisons and addresses may be matched again for each user.
#pragma once

#include "porphyry/base/diagnostics.h"
#include "porphyry/machine/code.h"
#include "porphyry/machine/rule_index.h"

namespace porphyry::machine {

struct Selected {
  explicit Selected(std::pmr::memory_resource* memory) : code(memory), rules(memory), covered(memory) {}
  Code code;
  CodeRows<uint16_t> rules;  // by IR instruction: the rule that covers it as its root plus one; 0: none
  // Instructions that became part of another one's rule: (that one, the inner one), in the order of the code.
  CodeRows<std::pair<Instruction, Instruction>> covered;
};

// The function must be legalized. Fails where no rule of the book covers an operation. Blocks stand in the
// function's order, unlikely ones behind all others. The code lies in `memory`; what is wanted on the way
// lies in `work`, and nothing that comes out does. O(n log n).
Result<Selected> select(const Module& module, Symbol function, const RuleIndex& rules,
                        std::pmr::memory_resource* memory, std::pmr::memory_resource* work);
Result<Selected> select(const Module& module, Symbol function, const RuleIndex& rules);

// The same in two stages, of which a few functions may each take the first before the second: their code then
// stays in the processor's caches. Everything given must outlive it; `match` comes first.
class Selection {
 public:
  Selection(const Module& module, Symbol function, const RuleIndex& rules, std::pmr::memory_resource* memory,
            std::pmr::memory_resource* work);
  ~Selection();
  void match();
  Result<Selected> write();

 private:
  struct State;
  class Writer;
  const Module& module_;
  Symbol symbol_;
  const RuleIndex& rules_;
  std::pmr::memory_resource *memory_, *work_;
  std::unique_ptr<State> state_;
};

}  // namespace porphyry::machine
