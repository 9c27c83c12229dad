// mark-lines: a `here` in front of each stretch of instructions of one source line, so that the line stays a
// place to stop at whatever becomes of them. O(instructions).
#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"

namespace porphyry {

void mark_lines(FunctionContext& c) {
  Function& f = c.function;
  Pen pen(c.module, f);
  size_t marked = 0;
  for (Block b : f.blocks()) {
    PositionRow last;
    for (Instruction i = f.first(b); i.exists(); i = f.next(i)) {
      const Position p = f.position(i);
      if (!p.exists()) continue;
      const PositionRow& row = c.module.position(p);
      const bool same = row.same_line(last);
      last = row;
      if (same || f.op(i) == Op::Here) continue;
      pen.before(i).from(p).here();
      ++marked;
    }
  }
  if (marked && c.wants_notes())
    c.done({}, {}, "its lines are kept", std::to_string(marked) + " places to stop at");
}

}  // namespace porphyry
