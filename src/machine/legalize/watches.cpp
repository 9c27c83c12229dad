// watches: notes what legal values watched variables have, and from which instruction on; the marks that said
// so go. O(instructions).
#include <unordered_map>

#include "porphyry/ir/pen.h"
#include "porphyry/machine/passing.h"
#include "state.h"

namespace porphyry::machine {

void Watches::mark(Pen& pen, const Watched& variable, std::optional<uint32_t> parameter) {
  const Value nothing = pen.truth(false);
  Instruction at = pen.put({.op = Op::Watch, .operands = {&nothing, 1}, .detail = variable.name.index});
  marks.push_back({at, variable, parameter, false});
}

namespace {

// The legal value that is all of a parameter of the program; nothing when there is none.
Value legal_parameter(const FunctionContext& c, const Legalization& s, uint32_t parameter, Type type) {
  const Passing way = passing(s.target.convention, s.source_signatures[c.symbol.index]);
  Value out;
  if (way.same) return c.function.parameters()[parameter];
  for (size_t k = 0; k < way.parameters.size(); ++k) {
    if (way.parameters[k].owner != static_cast<int>(parameter)) continue;
    if (out.exists() || k >= c.function.parameters().size()) return {};
    out = c.function.parameters()[k];
  }
  const bool is_whole = out.exists() && c.function.type(out).total_bits() >= type.total_bits() &&
                        c.function.type(out).is_float() == type.is_float();
  return is_whole ? out : Value();
}

}  // namespace

namespace legal {

void watches(FunctionContext& c) {
  Legalization& s = state(c);
  if (s.watches.how == Variables::Ignored) return;
  Function& f = c.function;
  std::unordered_map<uint32_t, const Watches::Mark*> marks;
  for (const Watches::Mark& m : s.watches.marks) marks[m.at.index] = &m;
  size_t placed = 0;  // of those found: the instruction behind them is known
  for (Block b : f.blocks())
    for (Instruction i = f.first(b), next; i.exists(); i = next) {
      next = f.next(i);
      if (f.op(i) != Op::Watch) {
        for (; placed < s.watches.found.size(); ++placed) s.watches.found[placed].before = i;
        continue;
      }
      if (auto at = marks.find(i.index); at != marks.end()) {
        Watched out = at->second->variable;
        if (at->second->of_operand) out.value = f.operand(i, 0);
        if (at->second->parameter) out.value = legal_parameter(c, s, *at->second->parameter, out.type);
        s.watches.found.push_back(out);
      }
      f.erase(i);
    }
}

}  // namespace legal

}  // namespace porphyry::machine
