// unroll-by: four rounds of a loop become one of a new loop in front of it, which runs while that many are
// left, as far as is known before (see rounds.h); in it the branch that counts is not asked. The loop itself
// stays behind for the rest. Loops with calls or loops inside are left alone. Inner loops only.
// O(instructions that are made).
#include <fmt/format.h>

#include "duplicates.h"
#include "front.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"
#include "recurrences.h"

namespace porphyry {
namespace {

constexpr size_t most_of_round = 10;  // of a round: in more of them, counting takes little
constexpr unsigned most_cost = 12;    // of finding out how many rounds there are
constexpr unsigned factor = 4;

class Repeater {
 public:
  explicit Repeater(FunctionContext& c)
      : c_(c), f_(c.function), loops_(c.facts.get<Loops>()), duplicates_(f_) {}

  void run() {
    const Dominators& dominators = c_.facts.get<Dominators>();
    each_inner_loop(f_, dominators, loops_, [&](const LoopShape& loop) {
      auto rounds = rounds_of(f_, loops_, dominators, loop);
      if (rounds && pays(loop, *rounds)) one(loop, *rounds);
    });
    duplicates_.rejoin();
  }

 private:
  bool pays(const LoopShape& loop, const Rounds& rounds) {
    const auto [size, reserves, calls] = body_of(f_, loop);
    const char* why = reserves ? "it reserves memory" : calls ? "it calls functions" : nullptr;
    if (!why && size > most_of_round) why = "counting takes little of a round";
    if (!why && cost_of_stays(f_, rounds) > most_cost)
      why = "finding out how many rounds there are takes long";
    if (!why && rounds.known && *rounds.known < 2 * factor) why = "it has few rounds";
    if (why && c_.wants_notes())
      c_.declined(f_.position(f_.terminator(loop.head)), block_text(c_.module, f_, loop.head),
                  "the loop goes round by round", why, "a smaller loop without calls",
                  {{"instructions", fmt::to_string(size)}, {"most", fmt::to_string(most_of_round)}});
    return !why;
  }

  void one(const LoopShape& loop, const Rounds& rounds) {
    if (c_.wants_notes())
      c_.done(f_.position(f_.terminator(loop.head)), block_text(c_.module, f_, loop.head),
              "several rounds are one of a new loop in front", "how many there are is known when it begins",
              {{"rounds in one", fmt::to_string(factor)}});
    Block front = block_in_front(f_, loops_, loop.head);
    Position position = f_.position(f_.terminator(f_.from(rounds.stays)));
    RecurrenceWriter writer(c_.module, f_, loops_, loop.head, front, position);
    writer.count(rounds);
    Value times = writer.times(), many = writer.pen().i64(factor);
    Value enough = writer.pen().ge_u(times, many);

    // The last round's way back comes to a block that counts.
    Duplicates::Row row = duplicates_.copy_rounds(loop, rounds.stays, factor);
    Block head = row.head, counts = f_.add_block_after(duplicates_.block(loop.blocks.back()));
    std::vector<Value> next;
    for (size_t k = 0; k < f_.parameters(loop.head).size(); ++k)
      next.push_back(f_.add_parameter(counts, f_.type(f_.parameters(loop.head)[k])));
    lead_to(f_, row.back, counts);
    Value left = f_.add_parameter(head, Type::integer(64));
    Pen pen(c_.module, f_);
    pen.at_end(counts).from(position);
    Value now_left = pen.sub(left, many);
    go_either_way(f_, counts, pen.ge_u(now_left, many), position, head, next, now_left, loop.head);
    std::vector<Value> first;
    for (Value v : f_.arguments(f_.edges(front)[0])) first.push_back(v);
    f_.erase(f_.terminator(front));
    go_either_way(f_, front, enough, position, head, first, times, loop.head);
    for (Edge e : row.stays) always_take(f_, e);
  }
  // To the new loop with what is left, or to the old one without.
  static void go_either_way(Function& f, Block from, Value condition, Position position, Block head,
                            std::vector<Value>& arguments, Value left, Block old_head) {
    std::vector<Value> with = arguments;
    with.push_back(left);
    Function::Draft::Destination ways[] = {{head, with}, {old_head, arguments}};
    f.append(from, {.op = Op::When, .operands = {&condition, 1}, .position = position, .targets = ways});
  }

  FunctionContext& c_;
  Function& f_;
  const Loops& loops_;
  Duplicates duplicates_;
};

}  // namespace

void unroll_by(FunctionContext& c) { Repeater(c).run(); }

}  // namespace porphyry
