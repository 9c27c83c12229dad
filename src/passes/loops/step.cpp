// step: values of a loop that move on by the same amount each round are kept in as few places as they need.
//
// * Two that move on alike, a number apart: one is the other and that number.
// * A pointer that moves on as a counter does, 1, 2, 4 or 8 bytes for each: its accesses take the counter as
//   their index.
// * A narrow counter that is only counted with and widened is counted wide.
// * The sum that makes the next round's value stands behind the uses of this round's, which then share a
// register.
// * A sum that starts from 0 in an inner loop, and is added to another one behind it, starts from that one.
// * A counter that only counts so many rounds, a number, counts down to 0.
// * A product of a counter and what stays the same moves on by a product that stays the same; by a number,
//   where it would take more than one instruction in each round of an innermost loop.
//
// (M. Wolfe, "Beyond Induction Variables", 1992; J. Cocke, K. Kennedy, "An Algorithm for Reduction of
// Operator Strength", 1977.) Parameters that nothing uses any more go with `sweep`. O(parameters * uses) of
// each head.
#include <fmt/format.h>

#include <map>

#include "front.h"
#include "nested_sums.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/relatives.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"
#include "recurrences.h"

namespace porphyry {
namespace {

constexpr unsigned most_products = 2;  // of a loop: each takes a register

class Stepper {
 public:
  explicit Stepper(FunctionContext& c)
      : c_(c), f_(c.function), dominators_(c.facts.get<Dominators>()), loops_(c.facts.get<Loops>()) {}

  void run() {
    carry_sums();
    for (LoopShape& loop : loop_shapes(f_, dominators_, loops_)) {
      find_ways_in(f_, loops_, loop);  // a block may have been made in front of another loop
      if (!loop.entry.exists() || !loop.back.exists()) continue;
      join_equal(loop);
      index_pointers(loop);
      count_wide(loop);
      add_products(loop);
      count_down(loop);
      step_last(loop);
    }
  }

 private:
  bool is_number(const Progress& p) const { return p.step.exists() && f_.is_constant(p.step); }
  std::vector<Progress> progresses(const LoopShape& loop) const {
    std::vector<Progress> out;
    for (Value v : f_.parameters(loop.head))
      if (f_.has_uses(v))
        if (auto p = progress_of(f_, loops_, loop, v)) out.push_back(*p);
    return out;
  }
  // What was the way in then leads to a block that is made.
  Block front_of(LoopShape& loop) {
    Block front = block_in_front(f_, loops_, loop.head);
    loop.entry = f_.edges(front)[0];
    return front;
  }
  void say(Value v, std::string what, std::string why) {
    if (c_.wants_notes()) c_.done({}, c_.name(v), std::move(what), std::move(why));
  }

  // ---- sums of inner loops --------------------------------------------------------------------------------

  void carry_sums() {
    for (Block b : dominators_.order())
      for (Instruction i = f_.first(b), next; i.exists(); i = next) {
        next = f_.next(i);
        auto sum = f_.op(i) == Op::Add ? nested_sum(f_, dominators_, i) : std::nullopt;
        if (!sum) continue;
        say(f_.result(i), "is summed in one place with " + c_.name(sum->outer),
            "a sum that starts from 0 was added to it");
        carry_through(f_, *sum);
      }
  }

  // ---- the same, a number apart ---------------------------------------------------------------------------

  void join_equal(const LoopShape& loop) {
    std::map<std::pair<std::string, uint64_t>, Progress> first;  // by type and step
    for (const Progress& p : progresses(loop)) {
      if (!is_number(p) || f_.type(p.parameter).bits() > 64) continue;
      Type t = f_.type(p.parameter);
      auto [known, is_new] = first.try_emplace({t.name(), f_.constant_bits(p.step)}, p);
      if (is_new) continue;
      const Progress& one = known->second;
      bool numbers = f_.is_constant(p.start) && f_.is_constant(one.start);
      if (p.start != one.start && !numbers) continue;
      Value is = one.parameter;
      if (p.start != one.start) {
        Value apart =
            f_.constant(t, (f_.constant_word(p.start) - f_.constant_word(one.start)) & mask_of(t.bits()));
        Value operands[] = {is, apart};
        is = f_.result(
            f_.insert_before(f_.first(loop.head), {.op = Op::Add, .operands = operands, .results = {&t, 1}}));
      }
      say(p.parameter, "is " + c_.name(one.parameter) + (is == one.parameter ? "" : " and a number"),
          "both move on alike in each round");
      f_.replace_uses(p.parameter, is);
    }
  }

  // ---- pointers -------------------------------------------------------------------------------------------

  void index_pointers(const LoopShape& loop) {
    Progress counter;
    for (const Progress& p : progresses(loop))
      if (is_number(p) && f_.type(p.parameter) == Type::integer(64) && f_.is_constant(p.start)) counter = p;
    if (!counter.parameter.exists()) return;
    for (const Progress& p : progresses(loop)) {
      if (!p.bytes || !f_.has_one_use(f_.result(p.next))) continue;
      const int64_t scales[] = {1, 2, 4, 8};
      auto scale = std::find_if(scales, std::end(scales), [&](int64_t n) {
        return static_cast<uint64_t>(p.bytes) == static_cast<uint64_t>(n) * f_.constant_bits(counter.step);
      });
      if (scale == std::end(scales)) continue;
      std::vector<Instruction> accesses = plain_accesses(p);
      if (accesses.empty()) continue;
      say(p.parameter, "its accesses are indexed by " + c_.name(counter.parameter),
          "it moves on as that does");
      int64_t start = static_cast<int64_t>(f_.constant_bits(counter.start));
      for (Instruction i : accesses) index_by(i, p, counter.parameter, *scale, start);
    }
  }
  // Loads and stores by the pointer and an offset, when there is nothing else but its sum.
  std::vector<Instruction> plain_accesses(const Progress& p) const {
    std::vector<Instruction> out;
    for (Slot s : f_.uses(p.parameter)) {
      auto use = f_.use(s);
      if (use.user == p.next && !use.edge.exists()) continue;
      Op op = f_.op(use.user);
      size_t at = op == Op::Store ? 1 : 0;
      if (use.edge.exists() || (op != Op::Load && op != Op::Store) || s != f_.operand_slot(use.user, at) ||
          f_.address(use.user).indexed || f_.address(use.user).masked)
        return {};
      out.push_back(use.user);
    }
    return out;
  }
  void index_by(Instruction i, const Progress& p, Value counter, int64_t scale, int64_t start) {
    Address a = f_.address(i);
    a.indexed = true, a.scale = scale;
    a.offset = static_cast<int64_t>(static_cast<uint64_t>(a.offset) -
                                    static_cast<uint64_t>(scale) * static_cast<uint64_t>(start));
    bool stores = f_.op(i) == Op::Store;
    std::vector<Value> operands;
    if (stores) operands.push_back(f_.operand(i, 0));
    operands.push_back(p.start), operands.push_back(counter);
    Type t = stores ? Type() : f_.type(f_.result(i));
    Instruction made = f_.insert_before(i, {.op = f_.op(i),
                                            .operands = operands,
                                            .results = {&t, stores ? 0u : 1u},
                                            .detail = f_.add_address(a),
                                            .position = f_.position(i),
                                            .promises = f_.promises(i),
                                            .permits = f_.permits(i)});
    if (!stores) {
      hand_name_over(f_, f_.result(i), f_.result(made));
      f_.replace_uses(f_.result(i), f_.result(made));
    }
    f_.erase(i);
  }

  // ---- narrow counters ------------------------------------------------------------------------------------

  void count_wide(LoopShape& loop) {
    auto rounds = rounds_of(f_, loops_, dominators_, loop);
    if (!rounds || rounds->kind != Rounds::Kind::Counted) return;
    RecurrenceReader reader(f_, loops_, loop, *rounds);
    for (const Progress& p : progresses(loop)) {
      if (!is_number(p) || rounds->parameter != p.parameter || f_.type(p.parameter).bits() >= 64) continue;
      std::vector<Instruction> widened;
      Instruction compare;
      if (!only_counts(p, *rounds, widened, compare)) continue;
      Op op = f_.op(widened[0]);
      if (!reader.describe(f_.result(widened[0]))) continue;  // it may wrap
      say(p.parameter, "is counted as i64", "it is only compared and widened");
      widen_counter(loop, p, *rounds, op, widened, compare);
    }
  }
  // Whether a counter is only widened in one way, added to, and compared by the branch that counts.
  bool only_counts(const Progress& p, const Rounds& rounds, std::vector<Instruction>& widened,
                   Instruction& compare) const {
    compare = f_.definition(f_.operand(f_.terminator(f_.from(rounds.stays)), 0));
    if (!f_.has_one_use(f_.result(compare))) return false;
    bool with_sign = false, without = false;
    for (Value v : {p.parameter, f_.result(p.next)})
      for (Slot s : f_.uses(v)) {
        auto use = f_.use(s);
        Op op = f_.op(use.user);
        if (use.edge.exists()) {
          if (v == p.parameter || f_.to(use.edge) != f_.defining_block(p.parameter)) return false;
        } else if ((op == Op::WidenS || op == Op::WidenU) && v == p.parameter &&
                   f_.type(f_.result(use.user)) == Type::integer(64)) {
          widened.push_back(use.user);
          (op == Op::WidenS ? with_sign : without) = true;
        } else if (use.user != p.next && use.user != compare) {
          return false;
        }
      }
    Op relation = f_.op(compare);
    bool counts = f_.operand(p.next, 0) == p.parameter && f_.is_constant(f_.operand(p.next, 1));
    return !widened.empty() && with_sign != without && with_sign == sees_signs(relation) && counts &&
           relation != Op::Ne && relation != Op::Eq;
  }
  void widen_counter(LoopShape& loop, const Progress& p, const Rounds& rounds, Op op,
                     std::span<const Instruction> widened, Instruction compare) {
    Type wide = Type::integer(64);
    Block front = front_of(loop);
    Pen pen(c_.module, f_);
    pen.before(f_.terminator(front)).from(f_.position(compare));
    Value start = pen.convert(op, wide, f_.argument(loop.entry, f_.result_index(p.parameter)));
    Value limit = pen.convert(op, wide, rounds.limit), step = pen.convert(op, wide, p.step);
    Value counter = f_.add_parameter(loop.head, wide);
    pen.before(p.next).from(f_.position(p.next));
    Value next = pen.add(counter, step);
    f_.add_argument(loop.entry, start), f_.add_argument(loop.back, next);
    auto wider = [&](Value v) { return v == rounds.limit ? limit : v == f_.result(p.next) ? next : counter; };
    pen.before(compare).from(f_.position(compare));
    Value holds = pen.write(f_.op(compare), {wider(f_.operand(compare, 0)), wider(f_.operand(compare, 1))});
    f_.replace_uses(f_.result(compare), holds);
    for (Instruction i : widened) f_.replace_uses(f_.result(i), counter);
  }

  // ---- rounds counted down -------------------------------------------------------------------------------

  // What counts down to 0 needs no comparison: the processor tells of a difference whether it is 0.
  void count_down(const LoopShape& loop) {
    auto rounds = rounds_of(f_, loops_, dominators_, loop);
    if (!rounds || rounds->kind != Rounds::Kind::Counted || !rounds->known) return;
    auto p = progress_of(f_, loops_, loop, rounds->parameter);
    if (!p || !is_number(*p) || f_.op(p->next) != Op::Add) return;
    const Instruction branch = f_.terminator(f_.from(rounds->stays));
    const Instruction compare = f_.definition(f_.operand(branch, 0));
    const Value next = f_.result(p->next);
    const Type t = f_.type(p->parameter);
    if (!f_.has_one_use(f_.result(compare)) || !only_counts_rounds(*p, loop.back, compare)) return;
    const bool of_next = is_operand(compare, next);
    if (of_next == is_operand(compare, p->parameter)) return;
    const Bits start = Bits(*rounds->known) + (of_next ? 1 : 0);
    const Value zero = f_.constant(t, 0), down = f_.constant(t, mask_of(t.bits()));
    if (start > mask_of(t.bits()) || (p->step == down && is_operand(compare, zero))) return;
    say(p->parameter, "counts down to 0", "nothing else is asked of it but how many rounds there are");
    f_.set(f_.argument_slot(loop.entry, f_.result_index(p->parameter)), f_.constant(t, start));
    f_.set(f_.operand_slot(p->next, f_.operand(p->next, 0) == p->parameter ? 1 : 0), down);
    f_.set_promises(p->next, 0);
    Pen pen(c_.module, f_);
    pen.before(compare).from(f_.position(compare));
    const bool stays_where_true = f_.edge(branch, 0) == rounds->stays;
    const Value holds = pen.write(stays_where_true ? Op::Ne : Op::Eq, {of_next ? next : p->parameter, zero});
    f_.replace_uses(f_.result(compare), holds);
  }
  bool is_operand(Instruction i, Value v) const {
    for (Value o : f_.operands(i))
      if (o == v) return true;
    return false;
  }
  bool only_counts_rounds(const Progress& p, Edge back, Instruction compare) const {
    for (Value v : {p.parameter, f_.result(p.next)})
      for (Slot s : f_.uses(v)) {
        const auto use = f_.use(s);
        if (use.edge.exists() ? v == p.parameter || use.edge != back
                              : use.user != p.next && use.user != compare)
          return false;
      }
    return true;
  }

  // ---- products -------------------------------------------------------------------------------------------

  void add_products(LoopShape& loop) {
    unsigned made = 0;
    for (const Progress& p : progresses(loop)) {
      if (!is_number(p)) continue;
      std::vector<Instruction> products;
      for (Slot s : f_.uses(p.parameter)) {
        auto use = f_.use(s);
        if (use.edge.exists() || f_.op(use.user) != Op::Mul ||
            !loops_.contains(loop.head, f_.block(use.user)))
          continue;
        if (!pays_as_sum(loop, p, use.user)) continue;
        if (std::find(products.begin(), products.end(), use.user) == products.end())
          products.push_back(use.user);
      }
      for (Instruction i : products)
        if (made < most_products) add_product(loop, p, i), ++made;
    }
  }
  Value factor(const Progress& p, Instruction product) const {
    return f_.operand(product, f_.operand(product, 0) == p.parameter ? 1 : 0);
  }
  // A sum takes a register all the way around and an addition in each round.
  bool pays_as_sum(const LoopShape& loop, const Progress& p, Instruction product) const {
    Value by = factor(p, product);
    if (!f_.is_constant(by)) return stays_same(f_, loops_, loop.head, by);
    return loop.innermost && !f_.type(by).has_lanes() && takes_several(f_.constant_word(by)) &&
           stands_in_each_round(f_.block(product), f_.from(loop.back));
  }
  bool stands_in_each_round(Block b, Block latch) const {
    return dominators_.knows(b) && dominators_.knows(latch) && dominators_.dominates(b, latch);
  }
  // Whether to multiply by the number takes more than a shift, or a sum of two with one of them shifted.
  static bool takes_several(Bits by) {
    if (by == 0) return false;
    const Bits lowest = by & (~by + 1), odd = by / lowest;
    return odd != 1 && !(lowest == 1 && (odd == 3 || odd == 5 || odd == 9));
  }
  void add_product(LoopShape& loop, const Progress& p, Instruction product) {
    Value by = factor(p, product);
    const bool number = f_.is_constant(by);
    say(f_.result(product), "became a sum",
        number ? "a product with a number moves on by a number, in one instruction"
               : "a product with what stays the same moves on by a product that does");
    Type t = f_.type(by);
    Block front = front_of(loop);
    Pen pen(c_.module, f_);
    pen.before(f_.terminator(front)).from(f_.position(product));
    Value start = pen.mul(f_.argument(loop.entry, f_.result_index(p.parameter)), by),
          step = pen.mul(p.step, by);
    Value sum = f_.add_parameter(loop.head, t);
    pen.before(p.next).from(f_.position(p.next));
    Value next = pen.add(sum, step);
    f_.add_argument(loop.entry, start), f_.add_argument(loop.back, next);
    f_.replace_uses(f_.result(product), sum);
  }

  // ---- the order of a round -------------------------------------------------------------------------------

  void step_last(const LoopShape& loop) {
    for (const Progress& p : progresses(loop)) {
      if (is_number(p)) to_the_latch(loop, p);
      Block b = f_.block(p.next);
      Instruction last;
      bool alone = true;
      for (Slot s : f_.uses(p.parameter)) {
        auto use = f_.use(s);
        Block at = f_.block(use.user);
        if (use.user == p.next && !use.edge.exists()) continue;
        if (at != b) {
          alone = alone && dominators_.knows(at) && !dominators_.dominates(b, at);
        } else if (use.edge.exists()) {
          alone = false;
        } else if (f_.comes_before(p.next, use.user) && (!last.exists() || f_.comes_before(last, use.user))) {
          last = use.user;
        }
      }
      if (!alone || !last.exists() || info(f_.op(last)).ends_block()) continue;
      bool used_between = false;
      for (Slot s : f_.uses(f_.result(p.next))) {
        auto use = f_.use(s);
        used_between |= !use.edge.exists() && f_.block(use.user) == b && !f_.comes_before(last, use.user);
      }
      if (!used_between) f_.move_before(p.next, f_.next(last));
    }
  }

  // A sum that only the block with the way back uses is made there: this round's value is wanted until then,
  // or dies for the next one.
  void to_the_latch(const LoopShape& loop, const Progress& p) {
    Block latch = f_.from(loop.back);
    if (f_.block(p.next) == latch) return;
    for (Slot s : f_.uses(f_.result(p.next)))
      if (!dominators_.dominates(latch, f_.block(f_.use(s).user))) return;
    say(f_.result(p.next), "moved to the end of the round", "nothing before uses it");
    f_.move_before(p.next, f_.first(latch));
  }

  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  const Loops& loops_;
};

}  // namespace

void step(FunctionContext& c) { Stepper(c).run(); }

}  // namespace porphyry
