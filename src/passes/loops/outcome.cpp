// outcome: what a loop leaves in its values is computed in front of it, where that is known; a loop that does
// nothing else goes.
//
// A value of the loop is described by what it is in round k: c0 + c1 * k + c2 * k (k - 1) / 2 + …,
// coefficients being sums of values that stay the same (O. Bachmann, P. Wang, E. Zima, "Chains of
// Recurrences", 1994). Where the branch that leaves stays N times, it leaves the values of round N. Sums of
// linear and of square values are among them. The loop goes where all that is used behind it is known so,
// none of its operations has an effect, and it is shown to end; otherwise only what is a number is put in
// place. Inner loops first, then again as long as loops go. O(operations of the loops that go).
#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "front.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/order.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"
#include "recurrences.h"

namespace porphyry {
namespace {

constexpr size_t most_terms = 8;  // of one value
constexpr unsigned most_nesting = 12;

class Foreteller {
 public:
  explicit Foreteller(FunctionContext& c) : c_(c), f_(c.function) {}

  void run() {
    if (pass_over(c_.facts.get<Dominators>(), c_.facts.get<Loops>()))
      for (unsigned again = 0; again < most_nesting; ++again) {
        remove_unreachable_blocks(f_);
        Dominators dominators(f_);
        if (!pass_over(dominators, Loops(f_, dominators))) break;
      }
  }

 private:
  // Whether a loop went.
  bool pass_over(const Dominators& dominators, const Loops& loops) {
    std::unordered_set<uint32_t> stale;  // heads of loops around one that went
    for (LoopShape& loop : loop_shapes(f_, dominators, loops)) {
      find_ways_in(f_, loops, loop);
      if (stale.count(loop.head.index)) continue;
      if (!one(dominators, loops, loop)) continue;
      for (Block h = loop.head; h.exists(); h = loops.outer(h)) stale.insert(h.index);
    }
    return !stale.empty();
  }

  bool one(const Dominators& dominators, const Loops& loops, const LoopShape& loop) {
    auto rounds = rounds_of(f_, loops, dominators, loop);
    if (loop.exits.size() != 1) return false;
    std::vector<Slot> uses = left(loops, loop);
    bool goes = !has_effect(loop);
    if (!rounds) {
      if (!goes || !uses.empty() || !may_be_taken_to_end(loop)) return false;
      return remove(loops, loop, nullptr, {}), true;
    }
    if (!goes && (!rounds->known || uses.empty())) return false;
    RecurrenceReader reader(f_, loops, loop, *rounds);
    std::vector<std::pair<Slot, Recurrence>> known;
    for (Slot s : uses) {
      auto recurrence = reader.describe(f_.value(s));
      if (recurrence && writable(*recurrence, f_.value(s), *rounds))
        known.push_back({s, std::move(*recurrence)});
      else if (!f_.is_constant(f_.value(s)))
        goes = false;
    }
    if (!goes) {
      if (rounds->known) numbers_only(known, *rounds);
      return false;
    }
    remove(loops, loop, &*rounds, known);
    return true;
  }

  // Where values of the loop are used behind it: arguments of the way out, and further uses.
  std::vector<Slot> left(const Loops& loops, const LoopShape& loop) const {
    std::vector<Slot> out;
    Edge leaves = loop.exits[0];
    for (size_t k = 0; k < f_.argument_count(leaves); ++k)
      if (!stays_same(f_, loops, loop.head, f_.argument(leaves, k)))
        out.push_back(f_.argument_slot(leaves, k));
    auto used_outside = [&](Value v) {
      for (Slot s : f_.uses(v))
        if (!loops.contains(loop.head, f_.block(f_.use(s).user))) out.push_back(s);
    };
    for (Block b : loop.blocks) {
      for (Value v : f_.parameters(b)) used_outside(v);
      for (Instruction i : f_.instructions(b))
        for (Value v : f_.results(i)) used_outside(v);
    }
    return out;
  }
  bool has_effect(const LoopShape& loop) const {
    if (!loop.innermost) return true;  // one that is still there is not known to end
    for (Block b : loop.blocks)
      for (Instruction i : f_.instructions(b))
        if (!info(f_.op(i)).ends_block() && f_.has_effect(i)) return true;
    return false;
  }
  bool may_be_taken_to_end(const LoopShape& loop) const {
    uint8_t permits = c_.module[c_.symbol].facts.permits;
    if (loop.back.exists()) permits |= f_.permits(f_.terminator(f_.from(loop.back)));
    return permits & permit::ends;
  }

  bool writable(const Recurrence& recurrence, Value v, const Rounds& rounds) const {
    size_t terms = 0;
    for (const Sum& s : recurrence) terms += s.terms.size();
    unsigned width = std::max(f_.type(v).bits(), f_.type(rounds.start).bits());
    return recurrence.size() <= most_degree + 1 && terms <= most_terms && width <= 64;
  }

  void numbers_only(const std::vector<std::pair<Slot, Recurrence>>& known, const Rounds& rounds) {
    for (const auto& [slot, recurrence] : known) {
      if (!std::all_of(recurrence.begin(), recurrence.end(), [](const Sum& s) { return s.is_constant(); }))
        continue;
      Bits n = *rounds.known, sum = recurrence[0].constant, choose = n;
      for (size_t k = 1; k < recurrence.size(); ++k) {
        sum += recurrence[k].constant * choose;
        if (n <= k || k + 1 == recurrence.size()) break;
        if (n > (Bits(1) << 30)) return;  // the product below would not fit
        choose = choose * (n - k) / (k + 1);
      }
      Value v = f_.value(slot), c = f_.constant(f_.type(v), sum & mask_of(f_.type(v).bits()));
      if (c_.wants_notes())
        c_.done({}, c_.name(v), "is " + c_.name(c) + " behind the loop", "how many rounds there are is known",
                {{"rounds", fmt::to_string(*rounds.known + 1)}});
      f_.set(slot, c);
    }
  }

  void remove(const Loops& loops, const LoopShape& loop, const Rounds* rounds,
              const std::vector<std::pair<Slot, Recurrence>>& known) {
    if (c_.wants_notes())
      c_.done(
          f_.position(f_.terminator(loop.head)), block_text(c_.module, f_, loop.head), "the loop is gone",
          known.empty() ? "nothing of it is used, and it ends" : "what it leaves is computed in front of it",
          {{"values", fmt::to_string(known.size())}});
    Block front = block_in_front(f_, loops, loop.head);
    Edge leaves = loop.exits[0];
    RecurrenceWriter writer(c_.module, f_, loops, loop.head, front,
                            f_.position(f_.terminator(f_.from(leaves))));
    if (rounds) writer.count(*rounds);
    for (const auto& [slot, recurrence] : known)
      f_.set(slot, writer.value(f_.type(f_.value(slot)), recurrence));
    // The block in front goes where the loop went.
    Edge way = f_.edges(front)[0];
    std::vector<Value> arguments;
    for (Value v : f_.arguments(leaves)) arguments.push_back(v);
    f_.redirect(way, f_.to(leaves));
    for (Value v : arguments) f_.add_argument(way, v);
  }

  FunctionContext& c_;
  Function& f_;
};

}  // namespace

void outcome(FunctionContext& c) { Foreteller(c).run(); }

}  // namespace porphyry
