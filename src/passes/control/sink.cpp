// sink: a value that only some of the ways from its block use is computed on those ways alone. It moves down
// the dominator tree to the last block that all its uses stand behind, and back up as far as that is in loops
// around which it was not computed. Loads move where nothing between writes their bytes. Last instructions
// first, so that what only a moved one used moves along. O(instructions, and a budget of steps for each).
#include <fmt/format.h>

#include "porphyry/analyze/memory_flow.h"
#include "porphyry/analyze/post_dominators.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class Sinker {
 public:
  explicit Sinker(FunctionContext& c)
      : c_(c),
        f_(c.function),
        dominators_(c.facts.get<Dominators>()),
        loops_(c.facts.get<Loops>()),
        post_(c.facts.get<PostDominators>()),
        alias_(c.module, f_, c.module[c.symbol].facts) {}

  void run() {
    const Blocks& order = dominators_.order();
    for (size_t k = order.size(); k-- > 0;) {
      if (f_.edges(order[k]).size() < 2)
        continue;  // all that follows is on every way, or below a block that is
      for (Instruction i = f_.last(order[k]), before; i.exists(); i = before) {
        before = f_.previous(i);
        if (may_move(i)) one(i);
      }
    }
  }

 private:
  static constexpr unsigned most_steps = 64;  // in the dominator tree, for one instruction

  bool may_move(Instruction i) const {
    return computes(f_.op(i)) && !f_.has_effect(i) && f_.result_count(i) > 0;
  }

  void one(Instruction i) {
    Block home = f_.block(i), to = below_all_uses(i, home);
    if (!to.exists() || to == home || post_.post_dominates(to, home)) return;
    if (f_.op(i) == Op::Load && written_between(i, to)) {
      if (c_.wants_notes())
        c_.declined(f_.position(i), c_.name(f_.result(i)), "the load stays above the branch",
                    "its bytes may be written before the way that uses it", "a load on that way",
                    {{"the way", block_text(c_.module, f_, to)}});
      return;
    }
    if (c_.wants_notes())
      c_.done(f_.position(i), c_.name(f_.result(i)), "moved to " + block_text(c_.module, f_, to),
              "only ways through there use it",
              {{"operation", write_text(c_.module, f_, i)}, {"from", block_text(c_.module, f_, home)}});
    f_.move_before(i, place_in(i, to));
  }
  // What is made of one value in front of its first user: it may take that one's register. Otherwise at the
  // start.
  Instruction place_in(Instruction i, Block to) const {
    Instruction first;
    size_t values = 0;
    for (Value v : f_.operands(i)) values += !f_.is_constant(v);
    if (f_.op(i) != Op::Load && values == 1)
      for (Value v : f_.results(i))
        for (Slot s : f_.uses(v)) {
          auto use = f_.use(s);
          if (f_.block(use.user) == to && (!first.exists() || f_.comes_before(use.user, first)))
            first = use.user;
        }
    return first.exists() ? first : f_.first(to);
  }

  // Where the instruction may go; nothing when it is unused, or it is too far to look.
  Block below_all_uses(Instruction i, Block home) const {
    Block to;
    unsigned steps = most_steps;
    for (Value v : f_.results(i))
      for (Slot s : f_.uses(v)) {
        Block user = f_.block(f_.use(s).user);
        if (user == home || !dominators_.reachable(user)) return {};
        if (!to.exists()) to = user;
        for (; !dominators_.dominates(to, user); to = dominators_.immediate(to))
          if (to == home || steps-- == 0) return {};
        if (steps-- == 0) return {};
      }
    while (to.exists() && to != home && !as_often(to, home))
      to = steps-- == 0 ? Block() : dominators_.immediate(loops_.header(to));
    return to;
  }
  // Whether all loops around the one are around the other.
  bool as_often(Block to, Block home) const {
    Block header = loops_.header(to);
    return !header.exists() || loops_.contains(header, home);
  }

  bool written_between(Instruction load, Block to) {
    if (!flow_) flow_.emplace(f_, dominators_, alias_, c_.in_module.get<CallEffects>());
    MemoryAccess access = alias_.access(load);
    return !(flow_->seen_by(load, access) == flow_->seen_at(to, access));
  }

  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  const Loops& loops_;
  const PostDominators& post_;
  Alias alias_;
  std::optional<MemoryFlow> flow_;  // when a load asks
};

}  // namespace

void sink(FunctionContext& c) { Sinker(c).run(); }

}  // namespace porphyry
