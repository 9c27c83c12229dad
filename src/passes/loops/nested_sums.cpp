// A loop that sums from 0 and adds what came out to the sum of the loop around it keeps two sums where one
// does.
//
// Idea: all that flows into the inner sum is followed, backwards to where it is 0 and forwards to its uses:
// parameters of blocks, the arguments that give them, and sums of one of them and something else. Where every
// start is 0 and every use is one of these or the last sum, the numbers between may all be larger by the
// outer sum. Invariant: the outer sum is defined above all blocks of what is followed, so that it is the same
// number at the start and at the end. The order of whole numbers in a sum does not matter, whether it wraps
// or not.
#include "nested_sums.h"

#include <algorithm>

#include "porphyry/ir/edit.h"

namespace porphyry {
namespace {

constexpr size_t most_followed = 64, most_uses = 8;  // values; uses of each

class Follower {
 public:
  Follower(const Function& f, const Dominators& dominators, Instruction last)
      : f_(f), dominators_(dominators), last_(last) {}

  std::optional<NestedSum> follow(Value inner, Value outer) {
    sum_ = {.last = last_, .inner = inner, .outer = outer};
    values_.clear();
    if (!join(inner)) return std::nullopt;
    for (size_t k = 0; k < values_.size(); ++k)
      if (!starts_well(values_[k]) || !is_only_summed(values_[k])) return std::nullopt;
    if (sum_.zeros.empty() ||
        !std::all_of(sum_.sums.begin(), sum_.sums.end(), [&](Instruction i) { return passes_one_on(i); }))
      return std::nullopt;
    return std::move(sum_);
  }

 private:
  bool is_followed(Value v) const { return std::find(values_.begin(), values_.end(), v) != values_.end(); }
  // Follows one more; false where that cannot be, or there are too many.
  bool join(Value v) {
    if (is_followed(v)) return true;
    if (v == sum_.outer || v == f_.result(last_) || values_.size() == most_followed ||
        !is_below_outer(f_.defining_block(v)))
      return false;
    values_.push_back(v);
    return true;
  }
  bool is_below_outer(Block b) const {
    if (f_.is_constant(sum_.outer)) return false;
    Block above = f_.defining_block(sum_.outer);
    return b.exists() && dominators_.reachable(b) && b != above && dominators_.dominates(above, b);
  }

  bool starts_well(Value v) {
    if (Instruction d = f_.definition(v); d.exists()) return is_sum(d);
    Block b = f_.defining_block(v);
    if (b == f_.entry()) return false;
    for (Edge e : f_.edges_into(b)) {
      Value a = f_.argument(e, f_.result_index(v));
      if (!f_.is_constant(a)) {
        if (!join(a)) return false;
      } else if (f_.constant_word(a) == 0) {
        sum_.zeros.push_back(f_.argument_slot(e, f_.result_index(v)));
      } else {
        return false;
      }
    }
    return true;
  }
  // Of something that is followed: another one, or the parameter of a block, which then is followed as well.
  bool is_sum(Instruction d) {
    if (f_.op(d) != Op::Add && f_.op(d) != Op::Sub) return false;
    size_t operands = f_.op(d) == Op::Add ? 2 : 1, through = 2;
    for (size_t k = 0; k < operands; ++k)
      if (is_followed(f_.operand(d, k))) through = k;
    for (size_t k = operands; through == 2 && k-- > 0;)
      if (Value v = f_.operand(d, k); !f_.is_constant(v) && !f_.definition(v).exists()) through = k;
    if (through == 2 || !join(f_.operand(d, through))) return false;
    sum_.sums.push_back(d);
    return true;
  }
  // Both operands larger would make it larger by twice as much, and what is taken away smaller.
  bool passes_one_on(Instruction i) const {
    bool first = is_followed(f_.operand(i, 0)), second = is_followed(f_.operand(i, 1));
    return f_.op(i) == Op::Sub ? first && !second : first != second;
  }

  bool is_only_summed(Value v) {
    size_t uses = 0;
    for (Slot s : f_.uses(v)) {
      if (++uses > most_uses) return false;
      auto use = f_.use(s);
      if (use.edge.exists()) {
        size_t k = s.index - f_.argument_slot(use.edge, 0).index;
        if (!join(f_.parameters(f_.to(use.edge))[k])) return false;
      } else if (use.user == last_) {
        if (v != sum_.inner) return false;
      } else if ((f_.op(use.user) != Op::Add && f_.op(use.user) != Op::Sub) || !join(f_.result(use.user))) {
        return false;
      }
    }
    return true;
  }

  const Function& f_;
  const Dominators& dominators_;
  Instruction last_;
  NestedSum sum_;
  std::vector<Value> values_;  // in the order they were met
};

}  // namespace

std::optional<NestedSum> nested_sum(const Function& f, const Dominators& dominators, Instruction last) {
  if (f.op(last) != Op::Add || !f.type(f.result(last)).is_integer() || f.type(f.result(last)).has_lanes())
    return std::nullopt;
  Follower follower(f, dominators, last);
  for (size_t k : {0u, 1u}) {
    Value inner = f.operand(last, k);
    if (f.is_constant(inner)) continue;
    if (auto found = follower.follow(inner, f.operand(last, 1 - k))) return found;
  }
  return std::nullopt;
}

void carry_through(Function& f, const NestedSum& sum) {
  for (Slot s : sum.zeros) f.set(s, sum.outer);
  for (Instruction i : sum.sums) f.set_promises(i, 0);
  hand_name_over(f, f.result(sum.last), sum.inner);
  f.replace_uses(f.result(sum.last), sum.inner);
  f.erase(sum.last);
}

}  // namespace porphyry
