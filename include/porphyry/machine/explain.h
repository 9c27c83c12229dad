// Why selection chose what it did for one instruction: every rule of its operation with what it costs, or
// with what kept it from matching.
//
//   auto reasons = explain_selection(*lowered->legal, symbol, instruction, RuleIndex(target, features));
//   for (const RuleTried& r : reasons.rules) …            // the one that won first, then by cost
#pragma once

#include <string>
#include <vector>

#include "porphyry/ir/module.h"
#include "porphyry/machine/rule_index.h"

namespace porphyry::machine {

struct RuleTried {
  std::string name;   // as the book calls it
  std::string makes;  // its instructions, by their names in the book
  bool matched = false, won = false;
  uint32_t own_cost = 0;  // in tenths of a plain instruction
  uint32_t cost = 0;      // with what its operands cost that have no other use; 0 where it does not match
  std::string missed;     // what kept it from matching; empty where it matched
  bool for_other_types = false;  // of operands or results: that is what kept it
};

struct SelectionReasons {
  std::vector<RuleTried> rules;
  // The instruction whose rule took this one in, so that it has no code of its own; none otherwise.
  Instruction inside;
  bool written = false;  // it has code: something needs its result in a register, or it has an effect
};

// The function is legalized: what listings call the origin of their lines. O(size of the function + rules).
SelectionReasons explain_selection(const Module& module, Symbol function, Instruction instruction,
                                   const RuleIndex& rules);

}  // namespace porphyry::machine
