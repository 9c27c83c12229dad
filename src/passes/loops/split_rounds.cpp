// split-rounds: a branch that compares a counter with what stays the same goes one way in the first rounds
// and the other way in all that follow. The loop then stands there twice, without the branch: the first one
// runs until the counter gets there, the second one takes over with what the first one has. One branch of a
// loop; a loop is copied only while it is small. Inner loops only. O(instructions that are copied).
#include <fmt/format.h>

#include "duplicates.h"
#include "front.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr size_t most_instructions = 64;  // of a loop that is copied
constexpr size_t most_copied = 256;       // in a function

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
    for (LoopShape& loop : loop_shapes(f_, dominators, loops_)) {
      if (!loop.innermost) continue;
      find_ways_in(f_, loops_, loop);  // those of loops in front may have been copied
      if (!loop.entry.exists() || !loop.back.exists()) continue;
      const auto rounds = rounds_of(f_, loops_, dominators, loop);
      for (Block b : loop.blocks)
        if (auto turn = turn_at(loop, f_.terminator(b), rounds)) {
          if (fits(loop, *turn)) one(loop, *turn);
          break;
        }
    }
    duplicates_.rejoin();
  }

 private:
  bool in_loop(const LoopShape& loop, Block b) const {
    return loops_.knows(b) && loops_.contains(loop.head, b);
  }

  std::optional<Turn> turn_at(const LoopShape& loop, Instruction branch,
                              const std::optional<Rounds>& rounds) const {
    if (f_.op(branch) != Op::When) return std::nullopt;
    const Block yes = f_.to(f_.edge(branch, 0)), no = f_.to(f_.edge(branch, 1));
    if (yes == no || yes == loop.head || no == loop.head || !in_loop(loop, yes) || !in_loop(loop, no))
      return std::nullopt;
    const Instruction compare = f_.definition(f_.operand(branch, 0));
    if (!compare.exists() || f_.operand_count(compare) != 2) return std::nullopt;
    for (bool turned : {false, true}) {
      const Value counter = f_.operand(compare, turned), limit = f_.operand(compare, !turned);
      const auto relation = relation_of(f_.op(compare), turned);
      if (!relation || !stays_same(f_, loops_, loop.head, limit) ||
          f_.kind(counter) != ValueKind::BlockParameter || f_.defining_block(counter) != loop.head)
        continue;
      if (const int step = direction(loop, counter, *relation, rounds)) {
        const bool holds_first = (step > 0) == (*relation == Op::LtS || *relation == Op::LeS ||
                                                *relation == Op::LtU || *relation == Op::LeU);
        return Turn{branch, *relation, counter, limit, holds_first ? 0u : 1u};
      }
    }
    return std::nullopt;
  }
  static std::optional<Op> relation_of(Op op, bool turned) {
    switch (op) {
      case Op::LtS: return turned ? Op::GtS : op;
      case Op::LeS: return turned ? Op::GeS : op;
      case Op::GtS: return turned ? Op::LtS : op;
      case Op::GeS: return turned ? Op::LeS : op;
      case Op::LtU: return turned ? Op::GtU : op;
      case Op::LeU: return turned ? Op::GeU : op;
      case Op::GtU: return turned ? Op::LtU : op;
      case Op::GeU: return turned ? Op::LeU : op;
      default: return std::nullopt;
    }
  }
  // Which way the counter moves, seen with or without a sign; 0 where it may wrap, or nothing is known.
  int direction(const LoopShape& loop, Value counter, Op relation,
                const std::optional<Rounds>& rounds) const {
    const auto progress = progress_of(f_, loops_, loop, counter);
    const Type t = f_.type(counter);
    if (!progress || !progress->step.exists() || !t.is_integer() || t.bits() > 64 ||
        !f_.is_constant(progress->step))
      return 0;
    const auto sign = [](Op op) { return op == Op::LtS || op == Op::LeS || op == Op::GtS || op == Op::GeS; };
    const bool is_signed = sign(relation);
    const unsigned spare = 64 - t.bits();
    const auto step =
        static_cast<int64_t>(static_cast<uint64_t>(f_.constant_bits(progress->step)) << spare) >> spare;
    // What decides how many rounds there are does not wrap before it leaves.
    const bool counts = rounds && rounds->kind == Rounds::Kind::Counted && rounds->parameter == counter &&
                        rounds->scale == 1 && rounds->only_exit && rounds->relation != Op::Ne &&
                        rounds->relation != Op::Eq && sign(rounds->relation) == is_signed;
    if (!counts && !(is_signed ? progress->fits_s : progress->fits_u && step > 0)) return 0;
    return step > 0 ? 1 : step < 0 ? -1 : 0;
  }

  bool fits(const LoopShape& loop, const Turn& turn) {
    const auto [size, reserves, calls] = body_of(f_, loop);
    if (!reserves && size <= most_instructions && copied_ + size <= most_copied) return copied_ += size, true;
    if (c_.wants_notes())
      c_.declined(f_.position(turn.branch), c_.name(f_.operand(turn.branch, 0)), "the loop stays one",
                  reserves ? "it reserves memory" : "it would be copied, and is too large",
                  reserves ? "memory reserved in front of it" : "a smaller loop",
                  {{"instructions", fmt::to_string(size)}, {"most", fmt::to_string(most_instructions)}});
    return false;
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
    for (Value v : f_.parameters(loop.head)) next.push_back(f_.add_parameter(again, f_.type(v)));
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
  size_t copied_ = 0;
};

}  // namespace

void split_rounds(FunctionContext& c) { RoundSplitter(c).run(); }

}  // namespace porphyry
