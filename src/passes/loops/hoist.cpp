// hoist: what a loop computes anew in each round from what stays the same is computed before it. An operation
// moves in front of the outermost loop around it in which its operands do not change; in reverse postorder,
// so that what takes a moved one may follow. Operations without an effect move whether or not the loop would
// have come to them. Loads move where nothing in the loop writes their bytes, and only those that every entry
// into the loop comes to first, before any branch, call or trap. Comparisons stay beside their branches.
// O(instructions * depth of loops).
#include <fmt/format.h>

#include "../cost.h"
#include "front.h"
#include "porphyry/analyze/memory_flow.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

// Values that are kept over a loop, though they cost one plain instruction to make: each takes a register.
constexpr unsigned most_cheap = 6;

class Hoister {
 public:
  explicit Hoister(FunctionContext& c)
      : c_(c),
        f_(c.function),
        dominators_(c.facts.get<Dominators>()),
        loops_(c.facts.get<Loops>()),
        alias_(c.module, f_, c.module[c.symbol].facts),
        before_(f_.block_limit()),
        cheap_(f_.block_limit()),
        goes_on_first_(f_.block_limit()) {}

  void run() {
    for (Block b : dominators_.order()) {
      if (!loops_.header(b).exists()) continue;
      bool first = comes_first(b);
      for (Instruction i : f_.instructions(b)) {
        if (may_move(i, first)) decide(i);
        first &= !f_.has_effect(i) || f_.op(i) == Op::Go;
      }
      goes_on_first_[b] = first;
    }
    // Now blocks may be made that the analyses do not know.
    for (Instruction i : moving_) move(i, moved_.get(i));
  }

 private:
  bool may_move(Instruction i, bool first) const {
    Op op = f_.op(i);
    if (!computes(op) || f_.has_effect(i) || f_.result_count(i) == 0) return false;
    if (op == Op::Load) return first && !f_.address(i).masked;
    return info(op).result != ResultRule::Truth;
  }
  // Whether every run of the innermost loop's head comes to the block, past nothing with an effect.
  bool comes_first(Block b) const {
    if (loops_.is_header(b)) return true;
    for (Edge e : f_.edges_into(b))
      if (goes_on_first_[f_.from(e)] && loops_.header(f_.from(e)) == loops_.header(b)) return true;
    return false;
  }

  // Whether a value is the same in all rounds of the loop with this head.
  bool stays(Value v, Block header) const {
    if (f_.is_constant(v) || f_.kind(v) == ValueKind::Parameter) return true;
    Instruction d = f_.definition(v);
    Block at = d.exists() && moved_.get(d).exists() ? loops_.outer(moved_.get(d)) : f_.defining_block(v);
    return !at.exists() || !loops_.contains(header, at);
  }
  bool all_stay(Instruction i, Block header) const {
    for (Value v : f_.operands(i))
      if (!stays(v, header)) return false;
    return f_.op(i) != Op::Load || !written_in(i, header);
  }
  bool written_in(Instruction load, Block header) const {
    if (!flow_) flow_.emplace(f_, dominators_, alias_, c_.in_module.get<CallEffects>());
    MemoryVersion seen = flow_->seen_by(load, alias_.access(load));
    Block at = seen.is_join() ? seen.join() : seen.is_start() ? Block() : f_.block(seen.writer());
    return at.exists() && loops_.contains(header, at);
  }

  void decide(Instruction i) {
    Block to;
    for (Block h = loops_.header(f_.block(i)); h.exists() && all_stay(i, h); h = loops_.outer(h)) {
      to = h;
      if (f_.op(i) == Op::Load) break;  // how often an outer loop comes to it is not known
    }
    if (!to.exists()) return;
    if (!costs_much(f_, i) && ++cheap_[to] > most_cheap) {
      if (c_.wants_notes())
        c_.declined(f_.position(i), c_.name(f_.result(i)), "the operation stays in the loop",
                    "too many values are kept over the loop", "fewer of them, or one that costs more",
                    {{"operation", write_text(c_.module, f_, i)}});
      return;
    }
    moved_.set(i, to);
    moving_.push_back(i);
  }
  void move(Instruction i, Block to) {
    Block before = in_front_of(to);
    if (c_.wants_notes())
      c_.done(f_.position(i), c_.name(f_.result(i)),
              "moved in front of the loop at " + block_text(c_.module, f_, to),
              "it is the same in all rounds", {{"operation", write_text(c_.module, f_, i)}});
    if (f_.promises(i)) f_.set_promises(i, 0);
    f_.move_before(i, f_.terminator(before));
  }

  Block in_front_of(Block header) {
    if (!before_[header].exists()) before_[header] = block_in_front(f_, loops_, header);
    return before_[header];
  }

  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  const Loops& loops_;
  Alias alias_;
  mutable std::optional<MemoryFlow> flow_;  // when a load asks
  Table<Block, Block> before_;              // by head: what is in front, once it was asked for
  Table<Block, unsigned> cheap_;            // by head: what moved there
  Table<Block, uint8_t> goes_on_first_;     // to its only way out; see comes_first
  SideTable<Instruction, Block> moved_;     // in front of which loop
  std::vector<Instruction> moving_;         // in order of need
};

}  // namespace

void hoist(FunctionContext& c) { Hoister(c).run(); }

}  // namespace porphyry
