// observe: what is to be known of variables is put into a form that the steps behind it keep. Observed, each
// watched variable and each parameter with a name gets a place in the frame, which is written where the
// variable changes. Followed, a variable keeps its values; of those whose values will be taken apart it is
// only known that they change. O(instructions).
#include <bit>
#include <map>

#include "porphyry/ir/pen.h"
#include "state.h"

namespace porphyry::machine {
namespace {

class Observer {
 public:
  explicit Observer(FunctionContext& c)
      : f_(c.function), s_(state(c)), pen_(c.module, f_), first_(f_.first(f_.entry())) {}

  void run() {
    std::vector<Instruction> all;
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b))
        if (f_.op(i) == Op::Watch) all.push_back(i);
    const bool observed = s_.watches.how == Variables::Observed;
    arrive(observed);
    for (Instruction i : all) {
      const Value v = f_.operand(i, 0);
      const Watched variable{f_.watched(i), f_.type(v), false,
                             InlineScope::of(pen_.module(), f_.position(i))};
      if (observed)
        keep(i, variable, v);
      else if (stays_whole(variable.type))
        s_.watches.marks.push_back({i, variable, {}, true});
      else
        s_.watches.mark(pen_.before(i), variable, {});
      if (observed || !stays_whole(variable.type)) f_.erase(i);
    }
  }

 private:
  // Parameters lie where they arrive, until they have their own places.
  void arrive(bool observed) {
    pen_.before(first_);
    for (uint32_t k = 0; k < f_.parameters().size(); ++k)
      if (const Watched variable = parameter(k); variable.name.exists()) s_.watches.mark(pen_, variable, k);
    for (uint32_t k = 0; observed && k < f_.parameters().size(); ++k)
      if (const Watched variable = parameter(k); variable.name.exists())
        keep(first_, variable, f_.parameters()[k]);
  }
  Watched parameter(size_t k) const {
    const Value v = f_.parameters()[k];
    return {f_.name(v), f_.type(v), true};
  }
  // Whether a value of this type is one value to the end of all steps.
  bool stays_whole(Type t) const {
    if (t.has_lanes()) return false;
    const bool has_register =
        std::has_single_bit(t.bits()) && t.bits() >= 8 && t.bits() <= s_.target.word_bits;
    return t.is_bool() || t.is_float() || t.is_pointer() || has_register;
  }

  // Writes the value to the variable's place before `at`.
  void keep(Instruction at, Watched variable, Value v) {
    Instruction& slot =
        slots_.try_emplace({variable.scope, variable.name.index, variable.type.total_bits()}).first->second;
    const auto bytes = static_cast<uint32_t>(variable.type.bytes());
    if (!slot.exists()) {
      pen_.before(first_);
      slot = f_.definition(pen_.reserve(bytes, std::min(16u, std::bit_ceil(bytes))));
    }
    variable.slot = slot;
    pen_.before(at);
    const Value address = f_.result(slot);
    pen_.store(v, {.align = 1}, {&address, 1});
    s_.watches.mark(pen_, variable, {});
  }

  Function& f_;
  Legalization& s_;
  Pen pen_;
  Instruction first_;                                                         // of the function, as it was
  std::map<std::tuple<InlineScope, uint32_t, unsigned>, Instruction> slots_;  // by name and bits
};

}  // namespace

namespace legal {

void observe(FunctionContext& c) {
  Watches& w = state(c).watches;
  w.begin();
  if (w.how != Variables::Ignored) Observer(c).run();
}

}  // namespace legal

}  // namespace porphyry::machine
