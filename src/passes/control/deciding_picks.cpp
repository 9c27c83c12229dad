// `run = pick same, 0, longer; when (ge run, 3) …` asks for `same` first: 0 is never 3 or more.
//
// Idea: the comparison is decided by the range of its other operand, for the pick's side that is a number. On
// the condition's way to that side the branch is known, on the other one it compares the other side. Only the
// comparison, arguments of the branch and blocks that only the branch leads to may use the pick, so that
// either way has its own value of it. O(blocks), and what is computed for the comparison, a few operations
// deep.
#include "deciding_picks.h"

#include <array>

#include "../cost.h"
#include "porphyry/analyze/number.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class PickAsker {
 public:
  explicit PickAsker(FunctionContext& c) : c_(c), f_(c.function) {}

  void run() {
    std::vector<Block> blocks;
    for (Block b : f_.blocks()) blocks.push_back(b);
    for (Block b : blocks)
      if (auto pick = deciding_pick(b)) ask_first(b, *pick);
  }

 private:
  static constexpr unsigned least_spared = 4;  // plain instructions, for a branch more

  struct DecidingPick {
    Instruction pick, comparison;
    size_t side;  // of the pick: the number that decides
    bool holds;   // what the comparison gives for it
  };

  std::optional<DecidingPick> deciding_pick(Block b) const {
    Instruction end = f_.terminator(b);
    if (!end.exists() || f_.op(end) != Op::When || f_.hint(end) != Function::Hint::None) return std::nullopt;
    if (f_.weight(f_.edge(end, 0)) != Function::no_weight) return std::nullopt;
    Value condition = f_.operand(end, 0);
    Instruction d = f_.definition(condition);
    if (!d.exists() || f_.block(d) != b || info(f_.op(d)).result != ResultRule::Truth ||
        !f_.has_one_use(condition))
      return std::nullopt;
    for (size_t k : {0u, 1u}) {
      Instruction pick = f_.definition(f_.operand(d, k));
      if (!pick.exists() || f_.op(pick) != Op::Pick || f_.block(pick) != b || !is_plain_number(pick))
        continue;
      if (!only_for(pick, d, end) || spared(d, pick, b) < least_spared) continue;
      for (size_t side : {1u, 2u}) {
        if (!f_.is_constant(f_.operand(pick, side)) || f_.is_constant(f_.operand(pick, 3 - side))) continue;
        Number in[] = {number_of(f_, f_.operand(d, 0)), number_of(f_, f_.operand(d, 1))};
        in[k] = number_of(f_, f_.operand(pick, side));
        if (auto known = decided(f_.op(d), in[0], in[1])) return DecidingPick{pick, d, side, *known};
      }
    }
    return std::nullopt;
  }
  bool is_plain_number(Instruction pick) const {
    Type t = f_.type(f_.result(pick));
    return t.is_integer() && !t.has_lanes() && !f_.type(f_.operand(pick, 0)).has_lanes();
  }
  // Whether only the comparison, arguments of the branch, and blocks that nothing else leads to use it.
  bool only_for(Instruction pick, Instruction comparison, Instruction end) const {
    for (Slot s : f_.uses(f_.result(pick))) {
      auto use = f_.use(s);
      if (use.user != comparison && !(use.user == end && use.edge.exists()) &&
          !is_in_own_block(f_.block(use.user), end))
        return false;
    }
    return true;
  }
  bool is_in_own_block(Block b, Instruction end) const {
    return (b == f_.to(f_.edge(end, 0)) || b == f_.to(f_.edge(end, 1))) &&
           !f_.next_in(f_.first_in(b)).exists();
  }
  // What is computed in the block for the comparison alone, the pick and its sides among it.
  unsigned spared(Instruction comparison, Instruction pick, Block b) const {
    std::vector<Instruction> own{comparison, pick};
    unsigned cost = cost_of(f_.op(comparison)) + cost_of(f_.op(pick));
    for (size_t k = 0; k < own.size() && own.size() < 16; ++k)
      for (size_t o = own[k] == pick ? 1 : 0; o < f_.operand_count(own[k]); ++o) {
        Instruction d = f_.definition(f_.operand(own[k], o));
        if (!d.exists() || d == pick || f_.block(d) != b || f_.has_effect(d) || !f_.has_one_use(f_.result(d)))
          continue;
        cost += cost_of(f_.op(d));
        own.push_back(d);
      }
    return cost;
  }

  void ask_first(Block b, const DecidingPick& p) {
    Instruction end = f_.terminator(b);
    if (c_.wants_notes())
      c_.done(f_.position(p.pick), c_.name(f_.result(p.pick)), "its condition is asked before the branch",
              "one side of the pick decides it", {{"operation", write_text(c_.module, f_, p.comparison)}});
    const Value condition = f_.operand(p.pick, 0), number = f_.operand(p.pick, p.side),
                other = f_.operand(p.pick, 3 - p.side);
    const size_t w = p.holds ? 0 : 1;
    const Block known = f_.to(f_.edge(end, w));
    for (size_t k : {w, 1 - w}) tell_block(f_.edge(end, k), p, k == w ? Value() : other);
    Ways decided_ways = ways_with(end, p, number), open = ways_with(end, p, other);
    Block rest = f_.add_block_after(b);
    Pen pen(c_.module, f_);
    pen.at_end(rest).from(f_.position(p.comparison));
    Value in[] = {f_.operand(p.comparison, 0), f_.operand(p.comparison, 1)};
    for (Value& v : in)
      if (v == f_.result(p.pick)) v = other;
    Value compared = pen.write(f_.op(p.comparison), {in[0], in[1]});
    pen.from(f_.position(end));
    pen.when(compared, f_.to(f_.edge(end, 0)), open[0], f_.to(f_.edge(end, 1)), open[1]);
    Position position = f_.position(end);
    f_.erase(end);
    f_.erase(p.comparison);
    f_.erase(p.pick);
    pen.at_end(b).from(position);
    if (p.side == 1)
      pen.when(condition, known, decided_ways[w], rest, {});
    else
      pen.when(condition, rest, {}, known, decided_ways[w]);
  }
  // Uses in a block that only this edge leads to: the other side of the pick where that is the only one to
  // come there, or else a parameter, which gets the pick for now.
  void tell_block(Edge e, const DecidingPick& p, Value only) {
    Block to = f_.to(e);
    if (f_.next_in(f_.first_in(to)).exists()) return;
    std::vector<Slot> uses;
    for (Slot s : f_.uses(f_.result(p.pick)))
      if (f_.block(f_.use(s).user) == to) uses.push_back(s);
    if (uses.empty()) return;
    if (!only.exists()) {
      only = f_.add_parameter(to, f_.type(f_.result(p.pick)));
      f_.add_argument(e, f_.result(p.pick));
    }
    for (Slot s : uses) f_.set(s, only);
  }
  // The arguments of both ways out, with one side of the pick in its place.
  using Ways = std::array<std::vector<Value>, 2>;
  Ways ways_with(Instruction end, const DecidingPick& p, Value side) const {
    Ways out;
    for (size_t w : {0u, 1u})
      for (Value a : f_.arguments(f_.edge(end, w))) out[w].push_back(a == f_.result(p.pick) ? side : a);
    return out;
  }

  FunctionContext& c_;
  Function& f_;
};

}  // namespace

void ask_deciding_picks_first(FunctionContext& c) {
  if (!c.keeps_small()) PickAsker(c).run();
}

}  // namespace porphyry
