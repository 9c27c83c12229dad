// flatten: a branch around a few cheap operations becomes picks, and a pick of what costs much a branch.
//
// A branch goes where both ways meet again at once, what they compute has no effect and costs little, and
// nothing says that one way is taken far more often. Moved instructions lose their promises. A pick goes
// where one side of it is computed for it alone, without an effect, at a cost above that of a branch guessed
// wrong every other time: then that side gets a block of its own. In functions that are kept small a branch
// is the shorter one where one side is made of the other by one operation: that changes the value in its
// place, and a pick wants both. O(blocks + picks), and the operations moved.
#include <fmt/format.h>

#include "../cost.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class Flattener {
 public:
  explicit Flattener(FunctionContext& c) : c_(c), f_(c.function), pen_(c.module, c.function) {}

  void run() {
    std::vector<Block> blocks;
    for (Block b : f_.blocks()) blocks.push_back(b);
    // Inner branches first: what they become may be all that an outer one goes around.
    for (size_t k = blocks.size(); k-- > 0;)
      if (f_.alive(blocks[k])) one(blocks[k]);
    for (Block b : f_.blocks())
      for (Instruction i = f_.first(b), next; i.exists(); i = next) {
        next = f_.next(i);
        // What follows is in the block behind, which the outer loop comes to.
        if (f_.op(i) == Op::Pick && unpicked(i)) break;
      }
  }

 private:
  static constexpr unsigned most_cost = 3, most_small_cost = 1, most_picks = 1;
  static constexpr unsigned least_cost = 24;  // of what a branch spares

  // A way from a branch: straight to the meeting, or through a block of its own.
  struct Way {
    Edge to_meeting;
    Block own;
    unsigned cost = 0;
    bool stays = false;  // it cannot go
  };

  Way way_of(Edge e) const {
    Way w{e, {}, 0};
    Block b = f_.to(e);
    Instruction end = f_.terminator(b);
    bool single = !f_.next_in(f_.first_in(b)).exists() && f_.parameters(b).empty();
    if (!single || !end.exists() || f_.op(end) != Op::Go) return w;
    w.own = b;
    w.to_meeting = f_.edge(end, 0);
    for (Instruction i : f_.instructions(b)) {
      if (i == end) break;
      const OperationInfo& row = info(f_.op(i));
      if (f_.has_effect(i) || row.reads_memory() ||
          !(row.is_plain() || f_.op(i) == Op::At || f_.op(i) == Op::AddressOf))
        w.stays = true;
      w.cost += cost_of(f_.op(i));
    }
    return w;
  }

  void one(Block b) {
    Instruction end = f_.terminator(b);
    if (!end.exists() || f_.op(end) != Op::When) return;
    Way ways[2] = {way_of(f_.edge(end, 0)), way_of(f_.edge(end, 1))};
    // The meeting itself may be a block that only goes on: then it is the end of a way without a block.
    Block meeting = f_.to(ways[0].to_meeting);
    if (meeting != f_.to(ways[1].to_meeting))
      for (Way& w : ways)
        if (w.own.exists() && &w == &ways[0] ? w.own == f_.to(ways[1].to_meeting)
                                             : w.own.exists() && w.own == f_.to(ways[0].to_meeting))
          w = {f_.edge(end, &w == &ways[0] ? 0 : 1), {}, 0};
    meeting = f_.to(ways[0].to_meeting);
    if (meeting != f_.to(ways[1].to_meeting) || meeting == b) return;
    if (!ways[0].own.exists() && !ways[1].own.exists() && f_.argument_count(ways[0].to_meeting) == 0) return;
    unsigned picks = 0;
    for (size_t k = 0; k < f_.parameters(meeting).size(); ++k)
      picks += f_.argument(ways[0].to_meeting, k) != f_.argument(ways[1].to_meeting, k);
    if (auto why = refusal(end, ways, picks)) {
      if (c_.wants_notes())
        c_.declined(
            f_.position(end), block_text(c_.module, f_, b), "the branch stays", why->why, why->unlock,
            {{"cost", std::to_string(ways[0].cost + ways[1].cost)}, {"picks", std::to_string(picks)}});
      return;
    }
    flatten(b, end, ways, meeting, picks);
  }
  struct Refusal {
    const char *why, *unlock;
  };
  std::optional<Refusal> refusal(Instruction end, const Way ways[2], unsigned picks) const {
    if (ways[0].stays || ways[1].stays)
      return Refusal{"what it goes around has an effect or reads memory", "operations without effects"};
    constexpr Refusal unlike{"one way is taken far more often", "ways taken alike often"};
    if (f_.hint(end) != Function::Hint::None) return unlike;
    uint64_t a = f_.weight(f_.edge(end, 0)), b = f_.weight(f_.edge(end, 1));
    if (a != Function::no_weight && b != Function::no_weight && (a / 8 > b || b / 8 > a)) return unlike;
    const unsigned most = c_.keeps_small() ? most_small_cost : most_cost;
    if (ways[0].cost + ways[1].cost > most)
      return Refusal{"what it goes around costs more than the branch", "cheaper operations"};
    if (picks > most_picks) return Refusal{"it would take too many picks", "fewer values that differ"};
    if (c_.keeps_small() && is_shorter_as_branch(end, ways))
      return Refusal{"a pick would be longer code", "a function that is not to be kept small"};
    return std::nullopt;
  }
  bool is_shorter_as_branch(Instruction end, const Way ways[2]) const {
    for (size_t k = 0; k < f_.argument_count(ways[0].to_meeting); ++k)
      for (size_t w : {0u, 1u})
        if (is_changed(f_.argument(ways[w].to_meeting, k), f_.argument(ways[1 - w].to_meeting, k)))
          return is_comparison_for_one(f_, f_.operand(end, 0));
    return false;
  }
  // Whether one operation makes `changed` of `value`, which nothing else wants then.
  bool is_changed(Value changed, Value value) const {
    const Instruction d = f_.definition(changed);
    if (!d.exists() || changed == value || !info(f_.op(d)).is_plain() || f_.has_effect(d) ||
        !f_.has_one_use(changed))
      return false;
    return f_.operand_count(d) > 0 && f_.operand(d, 0) == value && f_.has_uses(value, 2);
  }

  void flatten(Block b, Instruction end, const Way ways[2], Block meeting, unsigned picks) {
    if (c_.wants_notes())
      c_.done(f_.position(end), block_text(c_.module, f_, b), "the branch became picks",
              "both ways are cheap and meet again",
              {{"cost", std::to_string(ways[0].cost + ways[1].cost)}, {"picks", std::to_string(picks)}});
    Value condition = f_.operand(end, 0);
    Position position = f_.position(end);
    for (int w = 0; w < 2; ++w)
      if (ways[w].own.exists()) move(ways[w].own, end);
    pen_.before(end).from(position);
    std::vector<Value> arguments;
    for (size_t k = 0; k < f_.parameters(meeting).size(); ++k) {
      Value x = f_.argument(ways[0].to_meeting, k), y = f_.argument(ways[1].to_meeting, k);
      arguments.push_back(x == y ? x : pen_.write(Op::Pick, {condition, x, y}));
    }
    f_.erase(end);
    Function::Draft::Destination target{meeting, arguments};
    f_.append(b, {.op = Op::Go, .position = position, .targets = {&target, 1}});
    for (int w = 0; w < 2; ++w)
      if (ways[w].own.exists()) f_.erase_block(ways[w].own);
  }
  // Whether the pick became a branch.
  bool unpicked(Instruction pick) {
    if (f_.type(f_.operand(pick, 0)).has_lanes()) return false;
    for (size_t side : {1u, 2u}) {
      std::vector<Instruction> own = computed_for(pick, side);
      unsigned cost = 0;
      for (Instruction i : own) cost += cost_of(f_.op(i));
      const bool shorter = c_.keeps_small() && own.size() == 1 &&
                           is_comparison_for_one(f_, f_.operand(pick, 0)) &&
                           is_changed(f_.operand(pick, side), f_.operand(pick, 3 - side));
      if (cost < least_cost && !shorter) continue;
      branch_around(pick, side, own, cost);
      return true;
    }
    return false;
  }
  // What is computed in the pick's block for one side of it alone, in order of need.
  std::vector<Instruction> computed_for(Instruction pick, size_t side) const {
    std::vector<Instruction> out;
    std::vector<Value> work{f_.operand(pick, side)};
    while (!work.empty() && out.size() < 16) {
      Instruction i = f_.definition(work.back());
      work.pop_back();
      if (!i.exists() || f_.block(i) != f_.block(pick) || !info(f_.op(i)).is_plain() || f_.has_effect(i))
        continue;
      bool alone = f_.result_count(i) == 1;
      for (Slot s : f_.uses(f_.result(i))) {
        auto use = f_.use(s);
        bool by_pick = use.user == pick && !use.edge.exists() && s == f_.operand_slot(pick, side);
        alone &= by_pick || (!use.edge.exists() && std::find(out.begin(), out.end(), use.user) != out.end());
      }
      if (!alone) continue;
      out.push_back(i);
      for (Value v : f_.operands(i)) work.push_back(v);
    }
    return out;
  }
  void branch_around(Instruction pick, size_t side, std::span<const Instruction> own, unsigned cost) {
    Block home = f_.block(pick);
    if (c_.wants_notes())
      c_.done(f_.position(pick), c_.name(f_.result(pick)), "the pick became a branch",
              cost < least_cost ? "a branch is shorter code" : "one side of it costs more than a branch",
              {{"cost", std::to_string(cost)}});
    Position position = f_.position(pick);
    Value condition = f_.operand(pick, 0), x = f_.operand(pick, 1), y = f_.operand(pick, 2);
    Block behind = f_.split(home, pick), way = f_.add_block_after(home);
    Value met = f_.add_parameter(behind, f_.type(x));
    hand_name_over(f_, f_.result(pick), met);
    f_.replace_uses(f_.result(pick), met);
    f_.erase(pick);
    f_.erase(f_.terminator(home));
    pen_.at_end(way).from(position);
    pen_.go(behind, {side == 1 ? x : y});
    for (Instruction i : own) f_.move_before(i, f_.first(way));
    pen_.at_end(home).from(position);
    if (side == 1)
      pen_.when(condition, way, {}, behind, {y});
    else
      pen_.when(condition, behind, {x}, way, {});
  }
  // Writes the block's operations before an instruction. Those that are left have no uses.
  void move(Block from, Instruction before) {
    for (Instruction i = f_.first(from), next; i.exists() && !info(f_.op(i)).ends_block(); i = next) {
      next = f_.next(i);
      std::vector<Value> operands;
      std::vector<Type> types;
      for (Value v : f_.operands(i)) operands.push_back(v);
      for (Value v : f_.results(i)) types.push_back(f_.type(v));
      Instruction made = f_.insert_before(before, {.op = f_.op(i),
                                                   .operands = operands,
                                                   .results = types,
                                                   .detail = f_.detail(i),
                                                   .position = f_.position(i),
                                                   .permits = f_.permits(i)});
      for (size_t k = 0; k < types.size(); ++k) {
        hand_name_over(f_, f_.result(i, k), f_.result(made, k));
        f_.replace_uses(f_.result(i, k), f_.result(made, k));
      }
      f_.erase(i);
    }
  }

  FunctionContext& c_;
  Function& f_;
  Pen pen_;
};

}  // namespace

void flatten(FunctionContext& c) { Flattener(c).run(); }

}  // namespace porphyry
