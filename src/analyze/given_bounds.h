// What a function tells of the numbers in it: its checks of bounds, its comparisons with constants, and calls
// that numbers are given to. Found by root, in a list for each. O(instructions) to make.
#pragma once

#include "porphyry/analyze/bounds.h"
#include "porphyry/analyze/number.h"
#include "porphyry/ir/relatives.h"
#include "porphyry/ir/words.h"

namespace porphyry {

struct Given {
  enum class Kind : uint8_t {
    Check,   // the bound holds from an edge on
    Number,  // root + offset is at most `bound.bytes`, from an edge on
    Call     // root + offset is an argument
  };
  Kind kind;
  Bound bound;
  Edge on = {};           // checks and numbers
  Instruction call = {};  // calls, and which argument
  uint32_t argument = 0;
  uint32_t next = 0;  // of the same root, plus one
};

class GivenBounds {
 public:
  GivenBounds(const Module& module, const Function& f) : f(f), dominators(f), limits(module, f) {
    for (Block b : dominators.order()) {
      for (Instruction i : f.instructions(b))
        if (f.op(i) == Op::Call) give_call(i);
      if (Instruction end = f.terminator(b); end.exists()) give_branch(end);
    }
  }

  const Function& f;
  const Dominators dominators;
  const GrowingLimits limits;
  std::vector<Instruction> returns;
  bool hands_over = false;  // it ends in another function's return somewhere

  // Calls `visit` with each of a root, `most` at most and the last ones first, until it answers true; whether
  // it did.
  static constexpr size_t most = 500;
  template <class Visit>
  bool any_of(Value root, Visit visit) const {
    size_t left = most;
    for (uint32_t at = first_.get(root); at && left-- > 0; at = given_[at - 1].next)
      if (visit(given_[at - 1])) return true;
    return false;
  }

 private:
  void give(Given g) {
    if (f.is_constant(g.bound.root)) return;
    g.next = first_.get(g.bound.root);
    given_.push_back(g);
    first_.set(g.bound.root, static_cast<uint32_t>(given_.size()));
  }
  void give_call(Instruction i) {
    for (size_t k = 0; k < f.operand_count(i); ++k)
      if (Value v = f.operand(i, k); can_be_bounded(f, v) && !f.is_constant(v))
        give({.kind = Given::Kind::Call,
              .bound = root_of(f, v),
              .call = i,
              .argument = static_cast<uint32_t>(k)});
  }
  void give_branch(Instruction end) {
    switch (f.op(end)) {
      case Op::Return: returns.push_back(end); break;
      case Op::ReturnCall:
      case Op::ReturnCallThrough: hands_over = true; break;
      case Op::When: give_when(end); break;
      case Op::Choose:
        for (size_t k = 0; k + 1 < f.edge_count(end); ++k)
          give_number(f.operand(end, 0), f.case_value(end, k), f.edge(end, k));
        break;
      default: break;
    }
  }
  void give_number(Value v, Bits most, Edge on) {
    Bound bound = root_of(f, v);
    bound.bytes = most;
    give({.kind = Given::Kind::Number, .bound = bound, .on = on});
  }
  void give_when(Instruction end) {
    Value condition = f.operand(end, 0);
    if (auto check = bound_check(f, condition))
      give({.kind = Given::Kind::Check, .bound = check->bound, .on = f.edge(end, check->exceeds)});
    Instruction d = f.definition(condition);
    if (!d.exists() || info(f.op(d)).result != ResultRule::Truth || f.operand_count(d) != 2) return;
    Value v = f.operand(d, 0), c = f.operand(d, 1);
    if (!can_be_bounded(f, v) || f.is_constant(v) || !f.is_constant(c)) return;
    const Relatives* comparison = relatives_of(f.op(d));
    if (!comparison) return;
    const unsigned width = f.type(v).bits();
    for (bool holds : {true, false}) {
      Number n = refined(Number::any(width), holds ? comparison->op : comparison->opposite,
                         Number::exactly(width, f.constant_word(c)));
      if (n.high <= mask_of(width) / 2) give_number(v, n.high, f.edge(end, !holds));
    }
  }

  SideTable<Value, uint32_t> first_;
  std::vector<Given> given_;
};

}  // namespace porphyry
