#include "plan.h"

namespace porphyry::eval {
namespace {

class Planner {
 public:
  explicit Planner(const Function& f) : f_(f), slots_(f.value_limit()) {}

  Plan run() {
    for (size_t k = 0; k < f_.value_limit(); ++k)
      if (f_.is_constant(Value(k))) {
        slots_[k] = static_cast<uint32_t>(plan_.constants.size());
        plan_.constants.push_back({f_.constant_bits(Value(k)), 0});
      }
    uint32_t next = static_cast<uint32_t>(plan_.constants.size());
    for (size_t k = 0; k < f_.value_limit(); ++k)
      if (!f_.is_constant(Value(k))) slots_[k] = next++;
    plan_.slot_count = next;
    for (Value v : f_.parameters()) plan_.parameters.push_back(slots_[v.index]);
    std::vector<uint32_t> starts(f_.block_limit());
    for (Block b = f_.entry(); b.exists(); b = f_.next(b)) {
      starts[b.index] = static_cast<uint32_t>(plan_.steps.size());
      for (Instruction i = f_.first(b); i.exists(); i = f_.next(i)) step(i);
    }
    for (Jump& j : plan_.jumps) j.step = starts[j.step];
    return std::move(plan_);
  }

 private:
  void step(Instruction i) {
    Step s{.op = f_.op(i), .origin = i};
    size_t count = f_.operand_count(i);
    if (s.op == Op::Call || s.op == Op::Return) {
      s.list = static_cast<uint32_t>(plan_.lists.size());
      s.count = static_cast<uint32_t>(count);
      for (size_t k = 0; k < count; ++k) plan_.lists.push_back(slots_[f_.operand(i, k).index]);
    } else {
      for (size_t k = 0; k < count; ++k) s.slots[k] = slots_[f_.operand(i, k).index];
    }
    if (count) s.operand = f_.type(f_.operand(i, s.op == Op::Store ? 0 : count - 1));
    if (f_.result_count(i)) {
      s.result = f_.type(f_.result(i));
      s.out = slots_[f_.result(i).index];
    }
    s.simple = !s.operand.is_float();
    s.jump = static_cast<uint32_t>(plan_.jumps.size());
    for (Edge e : f_.edges(i)) {
      Jump j{f_.to(e).index, static_cast<uint32_t>(plan_.lists.size()),
             static_cast<uint32_t>(f_.argument_count(e))};
      for (size_t k = 0; k < j.count; ++k) {
        plan_.lists.push_back(slots_[f_.argument(e, k).index]);
        plan_.lists.push_back(slots_[f_.parameters(f_.to(e))[k].index]);
      }
      plan_.jumps.push_back(j);
    }
    plan_.steps.push_back(s);
  }

  const Function& f_;
  std::vector<uint32_t> slots_;
  Plan plan_;
};

}  // namespace

Plan make_plan(const Function& function) { return Planner(function).run(); }

}  // namespace porphyry::eval
