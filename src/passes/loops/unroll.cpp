// unroll: a loop whose number of rounds is known, and small, becomes its rounds one behind the other. Each
// round but the last is a copy, in which the branch that counts always stays; in the original, which is the
// last one, it always leaves. Inner loops only; what remains around one may follow when the pass runs again.
// O(instructions that are made).
#include <fmt/format.h>

#include "duplicates.h"
#include "front.h"
#include "porphyry/analyze/rounds.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr size_t most_of_all = 96;  // of all rounds together
constexpr size_t most_of_own =
    512;  // the same where the loop goes over objects of the function, whose bytes may be known
constexpr uint64_t most_rounds = 32;

class Unroller {
 public:
  explicit Unroller(FunctionContext& c)
      : c_(c), f_(c.function), loops_(c.facts.get<Loops>()), duplicates_(f_) {}

  void run() {
    const Dominators& dominators = c_.facts.get<Dominators>();
    each_inner_loop(f_, dominators, loops_, [&](const LoopShape& loop) {
      auto rounds = rounds_of(f_, loops_, dominators, loop);
      if (rounds && rounds->known && fits(loop, *rounds->known)) one(loop, *rounds);
    });
    duplicates_.rejoin();
  }

 private:
  // `stays`: how often it does, one less than the rounds.
  bool fits(const LoopShape& loop, uint64_t stays) {
    const auto [size, reserves, calls] = body_of(f_, loop);
    size_t own = 0, others = 0;
    for (Block b : loop.blocks)
      for (Instruction i : f_.instructions(b))
        if (f_.op(i) == Op::Load) ++(leads_to_own(f_.operand(i, 0)) ? own : others);
    const size_t most = own && !others ? most_of_own : most_of_all;
    if (!reserves && stays < most_rounds && (stays + 1) * size <= most) return true;
    if (c_.wants_notes())
      c_.declined(f_.position(f_.terminator(loop.head)), block_text(c_.module, f_, loop.head),
                  "the loop stays a loop",
                  reserves ? "it reserves memory" : "its rounds are too many instructions",
                  reserves ? "memory reserved in front of it" : "fewer rounds, or less in each",
                  {{"goes on", fmt::to_string(stays)},
                   {"instructions in one", fmt::to_string(size)},
                   {"most in all", fmt::to_string(most)}});
    return false;
  }

  bool leads_to_own(Value p) const {
    Instruction d = f_.definition(p);
    for (unsigned steps = 0; d.exists() && f_.op(d) == Op::At && steps < 4; ++steps)
      d = f_.definition(f_.operand(d, 0));
    if (!d.exists()) return false;
    return f_.op(d) == Op::Reserve ||
           (f_.op(d) == Op::Call && c_.module[f_.symbol(d)].facts.outside & outside::allocates);
  }

  void one(const LoopShape& loop, const Rounds& rounds) {
    uint64_t copies = *rounds.known;
    if (c_.wants_notes())
      c_.done(f_.position(f_.terminator(loop.head)), block_text(c_.module, f_, loop.head),
              "the loop became its rounds", "how many there are is known",
              {{"rounds", fmt::to_string(copies + 1)}});
    Duplicates::Row row = duplicates_.copy_rounds(loop, rounds.stays, copies);
    if (copies) lead_to(f_, loop.entry, row.head), lead_to(f_, row.back, loop.head);
    // Taking a way ends other edges' handles.
    for (Edge e : row.stays) always_take(f_, e);
    always_take(f_, rounds.leaves);
  }

  FunctionContext& c_;
  Function& f_;
  const Loops& loops_;
  Duplicates duplicates_;
};

}  // namespace

void unroll(FunctionContext& c) { Unroller(c).run(); }

}  // namespace porphyry
