// observe: a place in the frame for each watched variable and each parameter with a name, which is written
// where the variable changes; only where debuggers are to find all of them. O(instructions).
#include <bit>
#include <map>

#include "porphyry/ir/pen.h"
#include "state.h"

namespace porphyry::machine {
namespace {

class Observer {
 public:
  explicit Observer(FunctionContext& c) : f_(c.function), watches_(state(c).watches), pen_(c.module, f_) {}

  void run() {
    const Block entry = f_.entry();
    std::vector<Instruction> all;
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b))
        if (f_.op(i) == Op::Watch) all.push_back(i);
    first_ = f_.first(entry);
    pen_.before(first_);
    for (uint32_t k = 0; k < f_.parameters().size();
         ++k)  // where they arrive, until they have their own places
      if (const Value v = f_.parameters()[k]; f_.name(v).exists())
        watches_.mark(pen_, {f_.name(v), f_.type(v), true}, k);
    for (Value v : f_.parameters())
      if (Name name = f_.name(v); name.exists()) keep(first_, {name, f_.type(v), true}, v);
    for (Instruction i : all) {
      const Value v = f_.operand(i, 0);
      keep(i, {f_.watched(i), f_.type(v), false, InlineScope::of(pen_.module(), f_.position(i))}, v);
      f_.erase(i);
    }
  }

 private:
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
    watches_.mark(pen_, variable, {});
  }

  Function& f_;
  Watches& watches_;
  Pen pen_;
  Instruction first_;                                                         // of the function, as it was
  std::map<std::tuple<InlineScope, uint32_t, unsigned>, Instruction> slots_;  // by name and bits
};

}  // namespace

namespace legal {

void observe(FunctionContext& c) {
  Watches& w = state(c).watches;
  w.begin();
  if (w.how == Variables::Observed) Observer(c).run();
}

}  // namespace legal

}  // namespace porphyry::machine
