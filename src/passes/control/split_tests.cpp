// split-tests: a branch on two conditions that are joined becomes two branches, in functions that are kept
// small: a comparison that only a branch wants is one jump behind it, one that goes into `and` or `or` is
// written into a register first, which takes more bytes than the jump.
//
//     c = or a, b                            when a go yes else rest
//     when c go yes else no      becomes     rest:  when b go yes else no
//
// Arguments of the way that both take are given once, in a block of their own. One of the two at least is a
// comparison that nothing else uses. O(branches).
#include <unordered_map>

#include "../cost.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class TestSplitter {
 public:
  explicit TestSplitter(FunctionContext& c) : c_(c), f_(c.function) {}

  void run() {
    std::vector<Block> blocks;
    for (Block b : f_.blocks()) blocks.push_back(b);
    while (!blocks.empty()) {
      const Block b = blocks.back();
      blocks.pop_back();
      const Instruction end = f_.terminator(b);
      if (!end.exists() || !is_joined(end)) continue;
      blocks.push_back(split(b, end));
      blocks.push_back(b);  // what it asks now may be joined as well
    }
  }

 private:
  static constexpr unsigned deepest = 4;

  // Where conditions were computed that a block asks for, which may be part of what was one.
  Block home(Block b) const {
    const auto known = homes_.find(b.index);
    return known == homes_.end() ? b : known->second;
  }
  bool is_joined(Instruction end) const {
    if (f_.op(end) != Op::When || f_.hint(end) != Function::Hint::None) return false;
    if (f_.weight(f_.edge(end, 0)) != Function::no_weight) return false;
    const Value c = f_.operand(end, 0);
    const Instruction d = f_.definition(c);
    if (!d.exists() || !f_.has_one_use(c) || f_.block(d) != home(f_.block(end))) return false;
    if (f_.op(d) != Op::And && f_.op(d) != Op::Or) return false;
    return holds_comparison(d, deepest);
  }
  // Whether a comparison for one is among what is joined.
  bool holds_comparison(Instruction joined, unsigned depth) const {
    for (size_t k : {0u, 1u}) {
      const Value v = f_.operand(joined, k);
      if (is_comparison_for_one(f_, v)) return true;
      const Instruction d = f_.definition(v);
      if (depth > 0 && d.exists() && (f_.op(d) == Op::And || f_.op(d) == Op::Or) && f_.has_one_use(v) &&
          holds_comparison(d, depth - 1))
        return true;
    }
    return false;
  }

  // Gives the block in which the second one is asked.
  Block split(Block b, Instruction end) {
    const Instruction joined = f_.definition(f_.operand(end, 0));
    if (c_.wants_notes())
      c_.done(f_.position(joined), c_.name(f_.result(joined)), "became two branches",
              "jumps are shorter than conditions in registers",
              {{"operation", write_text(c_.module, f_, joined)}});
    const size_t both = f_.op(joined) == Op::Or ? 0 : 1;  // the way that either of the two takes
    const Value first = f_.operand(joined, 0), second = f_.operand(joined, 1);
    const Position position = f_.position(end);
    Pen pen(c_.module, f_);
    Block to[2];
    std::vector<Value> arguments[2];
    for (size_t k : {0u, 1u}) {
      to[k] = f_.to(f_.edge(end, k));
      for (Value a : f_.arguments(f_.edge(end, k))) arguments[k].push_back(a);
    }
    const Block rest = f_.add_block_after(b);
    if (!arguments[both].empty()) {
      const Block meeting = f_.add_block_after(rest);
      pen.at_end(meeting).from(position).go(to[both], arguments[both]);
      to[both] = meeting, arguments[both].clear();
    }
    f_.erase(end);
    f_.erase(joined);
    pen.at_end(b).from(position);
    both == 0 ? pen.when(first, to[0], {}, rest, {}) : pen.when(first, rest, {}, to[1], {});
    pen.at_end(rest).from(position);
    pen.when(second, to[0], arguments[0], to[1], arguments[1]);
    homes_.emplace(rest.index, home(b));
    if (const Instruction d = f_.definition(second);
        d.exists() && f_.block(d) == home(b) && is_comparison_for_one(f_, second))
      f_.move_before(d, f_.terminator(rest));
    return rest;
  }

  FunctionContext& c_;
  Function& f_;
  std::unordered_map<uint32_t, Block> homes_;  // of blocks made here
};

}  // namespace

void split_tests(FunctionContext& c) {
  if (c.keeps_small()) TestSplitter(c).run();
}

}  // namespace porphyry
