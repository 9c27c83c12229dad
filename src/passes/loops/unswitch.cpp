// unswitch: a branch in a loop on what stays the same is taken in front of the loop, which then stands there
// twice: once as it is where the branch goes one way, and once where it goes the other. One branch of a loop
// at a time, the one that most rounds come to; a loop is copied only while it is small. Inner loops first.
// O(instructions that are copied).
#include <fmt/format.h>

#include "duplicates.h"
#include "front.h"
#include "porphyry/analyze/frequency.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"
#include "recurrences.h"

namespace porphyry {
namespace {

class Unswitcher {
 public:
  explicit Unswitcher(FunctionContext& c)
      : c_(c), f_(c.function), loops_(c.facts.get<Loops>()), duplicates_(f_) {}

  void run() {
    const Dominators& dominators = c_.facts.get<Dominators>();
    Frequencies frequencies(f_, dominators, loops_);
    each_inner_loop(f_, dominators, loops_, [&](const LoopShape& loop) {
      Staying staying(f_, loops_, loop);
      Instruction best;
      for (Block b : loop.blocks) {
        Instruction i = f_.terminator(b);
        bool asks = f_.op(i) == Op::When && !f_.is_constant(f_.operand(i, 0)) &&
                    staying.stays(f_.operand(i, 0)) && f_.to(f_.edge(i, 0)) != f_.to(f_.edge(i, 1));
        if (asks && (!best.exists() || frequencies.of(b) > frequencies.of(f_.block(best)))) best = i;
      }
      if (best.exists() && copies_.take(c_, loop, best, "the branch stays in the loop")) one(loop, best);
    });
    duplicates_.rejoin();
  }

 private:
  void one(const LoopShape& loop, Instruction branch) {
    if (c_.wants_notes())
      c_.done(f_.position(branch), c_.name(f_.operand(branch, 0)), "the branch is taken in front of its loop",
              "its condition stays the same in all rounds", {{"loop", block_text(c_.module, f_, loop.head)}});
    Block front = block_in_front(f_, loops_, loop.head);
    Value condition = bring_in_front(f_, loops_, loop.head, front, f_.operand(branch, 0));
    duplicates_.copy(loop.blocks, f_.previous(loop.head));
    Edge otherwise = duplicates_.edge(f_.edge(branch, 1));
    std::vector<Value> arguments;
    for (Value v : f_.arguments(f_.edges(front)[0])) arguments.push_back(v);
    Function::Draft::Destination ways[] = {{loop.head, arguments}, {duplicates_.block(loop.head), arguments}};
    f_.erase(f_.terminator(front));
    f_.append(front, {.op = Op::When,
                      .operands = {&condition, 1},
                      .position = f_.position(branch),
                      .targets = ways,
                      .hint = f_.hint(branch)});
    always_take(f_, f_.edge(branch, 0));
    always_take(f_, otherwise);
  }

  FunctionContext& c_;
  Function& f_;
  const Loops& loops_;
  Duplicates duplicates_;
  LoopCopies copies_;
};

}  // namespace

void unswitch(FunctionContext& c) { Unswitcher(c).run(); }

}  // namespace porphyry
