// split-rounds: a branch that compares a counter with what stays the same goes one way in the first rounds
// and the other way in all that follow. The loop then stands there twice, without the branch: the first one
// runs until the counter gets there, the second one takes over with what the first one has. One branch of a
// loop; a loop is copied only while it is small. Inner loops only. O(instructions that are copied).
#include <fmt/format.h>

#include "duplicates.h"
#include "front.h"
#include "porphyry/ir/compute.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/ir/relatives.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

// A branch whose condition changes once.
struct Turn {
  Instruction branch;
  Op relation = Op::Eq;  // of the parameter and the limit
  Value parameter, limit;
  size_t first_way = 0;  // of the branch, in the first rounds
};

class RoundSplitter {
 public:
  explicit RoundSplitter(FunctionContext& c)
      : c_(c), f_(c.function), loops_(c.facts.get<Loops>()), duplicates_(f_) {}

  void run() {
    const Dominators& dominators = c_.facts.get<Dominators>();
    each_inner_loop(f_, dominators, loops_, [&](const LoopShape& loop) {
      if (!loop.entry.exists() || !loop.back.exists()) return;
      const auto rounds = rounds_of(f_, loops_, dominators, loop);
      for (Block b : loop.blocks)
        if (auto turn = turn_at(loop, f_.terminator(b), rounds)) {
          if (copies_.take(c_, loop, turn->branch, "the loop stays one")) one(loop, *turn);
          break;
        }
    });
    duplicates_.rejoin();
  }

 private:
  std::optional<Turn> turn_at(const LoopShape& loop, Instruction branch,
                              const std::optional<Rounds>& rounds) const {
    if (f_.op(branch) != Op::When) return std::nullopt;
    const Block yes = f_.to(f_.edge(branch, 0)), no = f_.to(f_.edge(branch, 1));
    const bool stays = loops_.contains(loop.head, yes) && loops_.contains(loop.head, no);
    if (yes == no || yes == loop.head || no == loop.head || !stays) return std::nullopt;
    const Instruction compare = f_.definition(f_.operand(branch, 0));
    if (!compare.exists() || !is_ordering(f_.op(compare))) return std::nullopt;
    for (bool turned : {false, true}) {
      const Value counter = f_.operand(compare, turned), limit = f_.operand(compare, !turned);
      const Op relation = turned ? relatives_of(f_.op(compare))->mirrored : f_.op(compare);
      if (!stays_same(f_, loops_, loop.head, limit) || f_.kind(counter) != ValueKind::BlockParameter ||
          f_.defining_block(counter) != loop.head)
        continue;
      if (const int step = direction(loop, counter, sees_signs(relation), rounds))
        return Turn{branch, relation, counter, limit, (step > 0) == is_below(relation) ? 0u : 1u};
    }
    return std::nullopt;
  }
  static bool is_ordering(Op op) {
    return sees_signs(op) || op == Op::LtU || op == Op::LeU || op == Op::GtU || op == Op::GeU;
  }
  // Which way the counter moves, seen with or without a sign; 0 where it may wrap, or nothing is known.
  int direction(const LoopShape& loop, Value counter, bool is_signed,
                const std::optional<Rounds>& rounds) const {
    const auto progress = progress_of(f_, loops_, loop, counter);
    const Type t = f_.type(counter);
    if (!progress || !progress->step.exists() || !t.is_integer() || t.bits() > 64 ||
        !f_.is_constant(progress->step))
      return 0;
    const auto step = static_cast<__int128>(sign_extended(f_.constant_bits(progress->step), t.bits()));
    const bool promised = is_signed ? progress->fits_s : progress->fits_u && step > 0;
    if (!promised && !counts(*progress, step, is_signed, rounds)) return 0;
    return step > 0 ? 1 : step < 0 ? -1 : 0;
  }
  // Whether the counter is what decides how many rounds there are, and so does not wrap before it leaves.
  // Where that is asked of the next round's, the first step has to be known not to.
  bool counts(const Progress& p, __int128 step, bool is_signed, const std::optional<Rounds>& rounds) const {
    const bool decides = rounds && rounds->kind == Rounds::Kind::Counted &&
                         rounds->parameter == p.parameter && rounds->scale == 1 && rounds->only_exit &&
                         rounds->relation != Op::Ne && rounds->relation != Op::Eq &&
                         sees_signs(rounds->relation) == is_signed;
    if (!decides || rounds->offset == 0) return decides;
    if (!f_.is_constant(p.start)) return false;
    const unsigned width = f_.type(p.start).bits();
    const Bits start = f_.constant_bits(p.start);
    const __int128 next =
        (is_signed ? static_cast<__int128>(sign_extended(start, width)) : static_cast<__int128>(start)) +
        step;
    const __int128 most = static_cast<__int128>(mask_of(is_signed ? width - 1 : width));
    return (rounds->offset & mask_of(width)) == (static_cast<Bits>(step) & mask_of(width)) && next <= most &&
           next >= (is_signed ? -most - 1 : 0);
  }

  void one(const LoopShape& loop, const Turn& turn) {
    if (c_.wants_notes())
      c_.done(f_.position(turn.branch), c_.name(f_.operand(turn.branch, 0)),
              "the loop became two, without the branch",
              "it goes one way until a counter reaches what stays the same, and the other way from there on",
              {{"loop", block_text(c_.module, f_, loop.head)}});
    const Position position = f_.position(turn.branch);
    size_t counter = 0;
    while (f_.parameters(loop.head)[counter] != turn.parameter) ++counter;
    const Block front = block_in_front(f_, loops_, loop.head);
    duplicates_.copy(loop.blocks, loop.blocks.back());
    const Block second = duplicates_.block(loop.head);
    const Edge second_way = duplicates_.edge(f_.edge(turn.branch, 1 - turn.first_way));

    // What goes on comes to the first loop or the second one, when it begins and behind each round of the
    // first.
    Block again = f_.add_block_after(loop.blocks.back());
    std::vector<Value> next;
    for (size_t k = 0; k < f_.parameters(loop.head).size(); ++k)  // a span would move with each that is added
      next.push_back(f_.add_parameter(again, f_.type(f_.parameters(loop.head)[k])));
    lead_to(f_, loop.back, again);
    std::vector<Value> start;
    for (Value v : f_.arguments(f_.edges(front)[0])) start.push_back(v);
    f_.erase(f_.terminator(front));
    go_on(front, turn, start[counter], start, loop.head, second, position);
    go_on(again, turn, next[counter], next, loop.head, second, position);
    always_take(f_, f_.edge(turn.branch, turn.first_way));
    always_take(f_, second_way);
  }
  void go_on(Block from, const Turn& turn, Value counter, const std::vector<Value>& arguments, Block first,
             Block second, Position position) {
    Pen pen(c_.module, f_);
    pen.at_end(from).from(position);
    const Value holds = pen.write(turn.relation, {counter, turn.limit});
    if (turn.first_way) std::swap(first, second);
    Function::Draft::Destination ways[] = {{first, arguments}, {second, arguments}};
    f_.append(from, {.op = Op::When, .operands = {&holds, 1}, .position = position, .targets = ways});
  }

  FunctionContext& c_;
  Function& f_;
  const Loops& loops_;
  Duplicates duplicates_;
  LoopCopies copies_;
};

}  // namespace

void split_rounds(FunctionContext& c) { RoundSplitter(c).run(); }

}  // namespace porphyry
