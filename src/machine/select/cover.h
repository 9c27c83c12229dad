// Which rule covers each instruction: the first stage of selection.
#pragma once

#include "match.h"
#include "porphyry/analyze/frequency.h"
#include "porphyry/base/diagnostics.h"
#include "porphyry/ir/module.h"

namespace porphyry::machine {

// How control goes through a function, for all of selection.
struct FlowOf {
  FlowOf(const Function& f, std::pmr::memory_resource* work)
      : dominators(f, work), loops(f, dominators, work), frequencies(f, dominators, loops, work) {}
  Dominators dominators;
  Loops loops;
  Frequencies frequencies;
};

struct Cover {
  Matcher matcher;
  FixedTable<Value, uint8_t> needed;        // in a register
  std::pmr::vector<uint16_t> rules;         // by instruction: the rule of a root plus one; 0: it is none
  std::pmr::vector<Value> early_constants;  // which loops want in registers
  Diagnostics problems;                     // instructions that no rule covers
};

// The rows of rules lie in `memory`, the rest in `work`.
Cover cover(const Module& module, Symbol symbol, const FlowOf& flow, const RuleIndex& rules,
            std::pmr::memory_resource* memory, std::pmr::memory_resource* work);

// A complaint about an instruction of a function, which it shows.
Diagnostic complaint_about(const Module& module, Symbol symbol, Instruction i, const std::string& message);

}  // namespace porphyry::machine
