// flatten: a branch around a few cheap operations becomes picks. Both ways meet again at once, what they
// compute has no effect and costs little, and nothing says that one way is taken far more often. Moved
// instructions lose their promises. O(blocks), and the operations moved.
#include <fmt/format.h>

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
  }

 private:
  static constexpr unsigned most_cost = 3, most_picks = 1;

  // A way from a branch: straight to the meeting, or through a block of its own.
  struct Way {
    Edge to_meeting;
    Block own;
    unsigned cost = 0;
    const char* why = nullptr;  // it cannot go
  };

  Way way_of(Edge e) const {
    Way w{e, {}, 0, nullptr};
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
        w.why = "what it goes around has an effect or reads memory";
      w.cost += cost_of(f_.op(i));
    }
    return w;
  }
  static unsigned cost_of(Op op) {
    switch (op) {
      case Op::Mul: return 3;
      case Op::Div:
      case Op::Sqrt:
      case Op::Fma:
      case Op::Rem: return 20;
      default: return info(op).layout == Layout::Pick ? 2 : 1;
    }
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
          w = {f_.edge(end, &w == &ways[0] ? 0 : 1), {}, 0, nullptr};
    meeting = f_.to(ways[0].to_meeting);
    if (meeting != f_.to(ways[1].to_meeting) || meeting == b) return;
    if (!ways[0].own.exists() && !ways[1].own.exists() && f_.argument_count(ways[0].to_meeting) == 0) return;
    unsigned picks = 0;
    for (size_t k = 0; k < f_.parameters(meeting).size(); ++k)
      picks += f_.argument(ways[0].to_meeting, k) != f_.argument(ways[1].to_meeting, k);
    if (auto why = refusal(end, ways, picks)) {
      if (c_.wants_notes())
        c_.declined(
            f_.position(end), block_text(c_.module, f_, b), "the branch stays", why,
            "cheap operations without effects, one value that differs, and ways taken alike often",
            {{"cost", std::to_string(ways[0].cost + ways[1].cost)}, {"picks", std::to_string(picks)}});
      return;
    }
    flatten(b, end, ways, meeting, picks);
  }
  const char* refusal(Instruction end, const Way ways[2], unsigned picks) const {
    if (ways[0].why) return ways[0].why;
    if (ways[1].why) return ways[1].why;
    if (f_.hint(end) != Function::Hint::None) return "one way is taken far more often";
    uint64_t a = f_.weight(f_.edge(end, 0)), b = f_.weight(f_.edge(end, 1));
    if (a != Function::no_weight && b != Function::no_weight && (a / 8 > b || b / 8 > a))
      return "one way is taken far more often";
    if (ways[0].cost + ways[1].cost > most_cost) return "what it goes around costs more than the branch";
    if (picks > most_picks) return "it would take too many picks";
    return nullptr;
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
