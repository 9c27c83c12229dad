// meet: several ways back into a loop meet in one block, and what they all give the loop is computed there.
//
//     i2 = add i, 1                          a:  go last(x)
//     a:  go head(i2, x)       becomes       b:  go last(y)
//     b:  go head(i2, y)                     last(z):  i2 = add i, 1 … go head(i2, z)
//
// What is computed early and used late keeps a register from here to there, and where the old value is used
// in between a copy on each way back as well; computed last it takes the old one's place. In functions that
// are kept small, as the way to the new block may be a jump more. One operation, without an effect, of values
// that dominate it; nothing else uses it. O(edges into heads of loops *
// their arguments), and uses of what is moved and of what it is made of.
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
  explicit BackWays(FunctionContext& c)
      : c_(c), f_(c.function), dominators_(c.facts.get<Dominators>()), loops_(c.facts.get<Loops>()) {}

  void run() {
    std::vector<Meeting> all;
    for (Block b : f_.blocks())
      if (loops_.is_header(b))
        if (Meeting m = meeting(b); !m.moved.empty()) all.push_back(std::move(m));
    for (const Meeting& m : all) join(m);  // analyses do not know the blocks that this makes
  }

 private:
  struct Meeting {
    Block head;
    std::vector<Edge> back;
    std::vector<Instruction> moved;  // what all of them give
  };
  Meeting meeting(Block head) const {
    Meeting out{head, {}, {}};
    for (Edge e : f_.edges_into(head))
      if (loops_.contains(head, f_.from(e))) out.back.push_back(e);
    if (out.back.size() < 2) return out;
    for (size_t k = 0; k < f_.parameters(head).size(); ++k)
      if (const Instruction d = common(out.back, k); d.exists()) out.moved.push_back(d);
    return out;
  }
  // What all of them give for a parameter, if it may be computed where they meet.
  Instruction common(const std::vector<Edge>& back, size_t k) const {
    const Value v = f_.argument(back[0], k);
    const Instruction d = f_.definition(v);
    if (!d.exists() || !info(f_.op(d)).is_plain() || f_.has_effect(d) || f_.result_count(d) != 1 ||
        costs_much(f_, d))
      return {};
    for (Edge e : back)
      if (f_.argument(e, k) != v) return {};
    return f_.has_uses(v, back.size()) && is_wanted_behind(f_.operand(d, 0), d) ? d : Instruction();
  }
  // Else the new value takes its place where it is.
  bool is_wanted_behind(Value old, Instruction d) const {
    for (Slot s : f_.uses(old))
      if (const Block b = f_.block(f_.use(s).user); b != f_.block(d) && dominators_.dominates(f_.block(d), b))
        return true;
    return false;
  }

  void join(const Meeting& m) {
    const auto& [head, back, moved] = m;
    const size_t count = f_.parameters(head).size();
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
  const Dominators& dominators_;
  const Loops& loops_;
};

}  // namespace

void meet(FunctionContext& c) {
  if (c.keeps_small()) BackWays(c).run();
}

}  // namespace porphyry
