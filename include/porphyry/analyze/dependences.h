// What each value and each effect of a function depends on: operands, what memory held, and which branches
// decided.
//
//   Dependences all(module, symbol, effects);
//   for (const Dependences::Link& l : all.of(Dependences::value(v))) … l.on …, l.why …
//
// A plain value depends on its operands. A block's parameter depends on the arguments that its edges bring
// and, where they differ, on the branches by which it is reached. What reads memory depends on the writers
// whose bytes it may see; an effect (a store, a call, a branch) on the branches that decide whether it runs.
#pragma once

#include <span>
#include <vector>

#include "porphyry/analyze/effects.h"

namespace porphyry {

class Dependences {
 public:
  // A value, an instruction (what it does besides giving values), or memory as the function found it.
  struct Node {
    uint32_t code =
        0;  // 0: memory at the start; else twice the handle, plus 1 for values, plus 2 for instructions
    bool is_memory() const { return code == 0; }
    bool is_value() const { return code & 1; }
    Value value() const { return Value((code - 1) / 2); }
    Instruction instruction() const { return Instruction((code - 2) / 2); }
    bool operator==(const Node&) const = default;
  };
  static Node value(Value v) { return {2 * v.index + 1}; }
  static Node instruction(Instruction i) { return {2 * i.index + 2}; }

  enum class Why : uint8_t {
    Operand,   // it computes with it
    Address,   // it reads or writes where that says
    Argument,  // an edge brings it
    Decides,   // a branch that says whether it runs, or which edge is taken
    Memory,    // it may read what that wrote
    Result     // it is what that gives
  };
  struct Link {
    Node on;
    Why why;
  };

  // Constants are nobody's business and have no links. O(links): for operands and edges as many as there are,
  // for memory at most the writers that a read may see, of which each is looked for within a budget.
  Dependences(const Module& module, Symbol function, const CallEffects& effects);

  std::span<const Link> of(Node n) const {
    return {links_.data() + first_[n.code], first_[n.code + 1] - first_[n.code]};
  }
  size_t node_limit() const { return first_.size() - 1; }  // one past the greatest code

 private:
  std::vector<uint32_t> first_;  // by code; one more at the end
  std::vector<Link> links_;
};

}  // namespace porphyry
