#include "plan.h"

#include <unordered_set>

namespace porphyry::eval {
namespace {

class Planner {
 public:
  Planner(const Function& f, const FunctionFacts& facts) : f_(f), facts_(facts), slots_(f.value_limit()) {}

  Plan run() {
    give_slots();
    std::vector<uint32_t> starts(f_.block_limit());
    for (Block b : f_.blocks()) {
      starts[b.index] = static_cast<uint32_t>(plan_.steps.size());
      for (Instruction i : f_.instructions(b)) step(i);
    }
    for (Jump& j : plan_.jumps) j.step = starts[j.step];
    plan_.slot_count = next_;
    plan_.places = std::move(slots_);
    return std::move(plan_);
  }

 private:
  void give_slots() {
    for (size_t k = 0; k < f_.value_limit(); ++k) {
      Value v(k);
      if (!f_.is_constant(v)) continue;
      slots_[k] = static_cast<uint32_t>(plan_.constants.size());
      for (unsigned lane = 0; lane < f_.type(v).lanes(); ++lane)
        plan_.constants.push_back(Datum::of(f_.constant_word(v, lane)));
    }
    next_ = static_cast<uint32_t>(plan_.constants.size());
    for (size_t k = 0; k < f_.value_limit(); ++k) {
      if (f_.is_constant(Value(k))) continue;
      slots_[k] = next_;
      next_ += f_.type(Value(k)).lanes();
    }
    for (size_t p = 0; p < f_.parameters().size(); ++p) {
      Value v = f_.parameters()[p];
      uint8_t marks = facts_.marks_of(p);
      plan_.makes_promises |= (marks & (mark::sole | mark::unwritten)) != 0;
      for (unsigned lane = 0; lane < f_.type(v).lanes(); ++lane) {
        plan_.parameters.push_back(slots_[v.index] + lane);
        plan_.marks.push_back(marks);
      }
    }
  }

  // The operand whose type says what the operation computes on.
  Type operand_type(Instruction i) const {
    if (f_.operand_count(i) == 0) return {};
    bool behind = info(f_.op(i)).roles().starts_with(static_cast<char>(OperandRole::Condition));
    return f_.type(f_.operand(i, behind ? 1 : 0));
  }

  void step(Instruction i) {
    const OperationInfo& row = info(f_.op(i));
    Step s{.op = f_.op(i), .promises = f_.promises(i), .operand = operand_type(i), .origin = i};
    s.permits = f_.permits(i) | facts_.permits;
    if (f_.result_count(i)) {
      s.result = f_.type(f_.result(i));
      s.out = slots_[f_.result(i).index];
    }
    // Permits that make results arbitrary concern floats alone.
    if (!s.operand.is_float() && !s.result.is_float()) s.permits = 0;
    operands(s, i);
    s.spare = static_cast<uint8_t>(s.operand.exists() && s.operand.bits() <= 64 ? 64 - s.operand.bits() : 0);
    bool scalar = !s.operand.has_lanes() && !s.result.has_lanes() && !s.operand.is_float() &&
                  s.operand.bits() <= 64 && s.result.bits() <= 64;
    s.quick = row.layout <= Layout::Convert && scalar && !s.promises && s.op != Op::Bits;
    s.mask = ~uint64_t(0) >> s.spare;
    if (row.detail() == Detail::Address) s.address = &f_.address(i);
    if (s.op == Op::Reserve) {
      s.extra = next_++;
      plan_.reserves.push_back(s.extra);
    }
    if (s.op == Op::Sole) plan_.makes_promises = true;
    if (s.op == Op::Choose) choice(s, i);
    s.jump = static_cast<uint32_t>(plan_.jumps.size());
    for (Edge e : f_.edges(i)) jump(e);
    plan_.steps.push_back(s);
  }

  void operands(Step& s, Instruction i) {
    s.all.first = static_cast<uint32_t>(plan_.lists.size());
    for (size_t k = 0; k < f_.operand_count(i); ++k) {
      Value v = f_.operand(i, k);
      if (k < 3) s.slots[k] = slots_[v.index];
      for (unsigned lane = 0; lane < f_.type(v).lanes(); ++lane)
        plan_.lists.push_back(slots_[v.index] + lane);
    }
    s.all.count = static_cast<uint32_t>(plan_.lists.size()) - s.all.first;
  }

  void choice(Step& s, Instruction i) {
    Plan::Choice c;
    c.otherwise = static_cast<uint32_t>(f_.edge_count(i) - 1);
    for (uint32_t k = 0; k < c.otherwise; ++k) {
      Bits value = f_.case_value(i, k);
      if (value >> 64)
        c.wide.push_back({value, k});
      else
        c.ways.emplace(static_cast<uint64_t>(value), k);
    }
    s.extra = static_cast<uint32_t>(plan_.choices.size());
    plan_.choices.push_back(std::move(c));
  }

  void jump(Edge e) {
    Jump j{f_.to(e).index, static_cast<uint32_t>(plan_.lists.size())};
    std::unordered_set<uint32_t> written;
    for (size_t k = 0; k < f_.argument_count(e); ++k) {
      Value from = f_.argument(e, k), to = f_.parameters(f_.to(e))[k];
      for (unsigned lane = 0; lane < f_.type(to).lanes(); ++lane) {
        uint32_t source = slots_[from.index] + lane, target = slots_[to.index] + lane;
        if (source == target) continue;
        j.overlaps |= written.contains(source);
        written.insert(target);
        plan_.lists.push_back(source);
        plan_.lists.push_back(target);
        ++j.count;
      }
    }
    j.edge = e;
    plan_.jumps.push_back(j);
  }

  const Function& f_;
  const FunctionFacts& facts_;
  std::vector<uint32_t> slots_;
  uint32_t next_ = 0;
  Plan plan_;
};

}  // namespace

Plan make_plan(const Function& function, const FunctionFacts& facts) {
  return Planner(function, facts).run();
}

}  // namespace porphyry::eval
