// meet: several ways back into a loop meet in one block, and what they all give the loop is computed there.
//
//     i2 = add i, 1                          a:  go last(x)
//     a:  go head(i2, x)       becomes       b:  go last(y)
//     b:  go head(i2, y)                     last(z):  i2 = add i, 1 … go head(i2, z)
//
// What is computed early and used late keeps a register from here to there, and where the old value is used
// in between a copy on each way back as well; computed last it takes the old one's place. In functions that
// are kept small, as the way to the new block may be a jump more. One operation, without an effect, of values
// that dominate it; nothing else uses it. O(edges into heads of loops * their arguments).
#include <fmt/format.h>

#include "../cost.h"
#include "front.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"

namespace porphyry {
namespace {

class BackWays {
 public:
  explicit BackWays(FunctionContext& c) : c_(c), f_(c.function) {}

  void run() {
    const Loops& loops = c_.facts.get<Loops>();
    std::vector<Block> heads;
    for (Block b : f_.blocks())
      if (loops.is_header(b)) heads.push_back(b);
    for (Block head : heads) {
      std::vector<Edge> back;
      for (Edge e : f_.edges_into(head))
        if (loops.contains(head, f_.from(e))) back.push_back(e);
      if (back.size() > 1) join(head, back);
    }
  }

 private:
  // What all of them give for a parameter, if it may be computed where they meet.
  Instruction common(const std::vector<Edge>& back, size_t k) const {
    const Value v = f_.argument(back[0], k);
    const Instruction d = f_.definition(v);
    if (!d.exists() || !info(f_.op(d)).is_plain() || f_.has_effect(d) || f_.result_count(d) != 1 ||
        costs_much(f_, d))
      return {};
    size_t uses = 0;
    for ([[maybe_unused]] Slot s : f_.uses(v)) ++uses;
    for (Edge e : back)
      if (f_.argument(e, k) != v) return {};
    return uses == back.size() && is_wanted_behind(f_.operand(d, 0), d) ? d : Instruction();
  }
  // Else the new value takes its place where it is.
  bool is_wanted_behind(Value old, Instruction d) const {
    for (Slot s : f_.uses(old))
      if (f_.block(f_.use(s).user) != f_.block(d)) return true;
    return false;
  }

  void join(Block head, const std::vector<Edge>& back) {
    const size_t count = f_.parameters(head).size();
    std::vector<Instruction> moved;
    for (size_t k = 0; k < count; ++k)
      if (const Instruction d = common(back, k); d.exists()) moved.push_back(d);
    if (moved.empty()) return;
    if (c_.wants_notes())
      c_.done(f_.position(moved[0]), c_.name(f_.result(moved[0])), "is computed where the ways back meet",
              "all of them give it to the loop", {{"ways", std::to_string(back.size())}});
    const Block last = f_.add_block_after(f_.from(back.back()));
    std::vector<Value> given;
    std::vector<std::vector<Value>> own(back.size());
    for (size_t k = 0; k < count; ++k) {
      const Value first = f_.argument(back[0], k);
      bool same = true;
      for (Edge e : back) same &= f_.argument(e, k) == first;
      given.push_back(same ? first : f_.add_parameter(last, f_.type(first)));
      if (same) continue;
      for (size_t w = 0; w < back.size(); ++w) own[w].push_back(f_.argument(back[w], k));
    }
    for (size_t w = 0; w < back.size(); ++w) {
      f_.redirect(back[w], last);
      for (Value v : own[w]) f_.add_argument(back[w], v);
    }
    Pen pen(c_.module, f_);
    pen.at_end(last).from(f_.position(moved[0])).go(head, given);
    for (Instruction d : moved) f_.move_before(d, f_.terminator(last));
  }

  FunctionContext& c_;
  Function& f_;
};

}  // namespace

void meet(FunctionContext& c) {
  if (c.module[c.symbol].facts.keep_small) BackWays(c).run();
}

}  // namespace porphyry
