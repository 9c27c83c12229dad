// fold: operations on constants become constants, and branches on constants become plain. A work list follows
// each new constant to its users. O(instructions).
#include <fmt/format.h>

#include "porphyry/ir/compute.h"
#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/text/writer.h"

namespace porphyry {
namespace {

class Folder {
 public:
  explicit Folder(Workplace& w) : w_(w), f_(w.function) {}

  bool run() {
    for (Block b = f_.entry(); b.exists(); b = f_.next(b))
      for (Instruction i = f_.first(b); i.exists(); i = f_.next(i)) work_.push_back(i);
    bool changed = false;
    for (size_t k = 0; k < work_.size(); ++k)
      if (f_.alive(work_[k])) changed |= one(work_[k]);
    return changed;
  }

 private:
  bool one(Instruction i) {
    if (f_.op(i) == Op::When) return branch(i);
    if (f_.op(i) == Op::Pick && f_.is_constant(f_.operand(i, 0))) {
      bool yes = f_.constant_bits(f_.operand(i, 0)) & 1;
      return replace(i, f_.operand(i, yes ? 1 : 2), "the condition is constant");
    }
    const OperationInfo& row = info(f_.op(i));
    if (row.arity() == 0 || f_.result_count(i) != 1) return false;
    Word operands[3];
    for (size_t k = 0; k < f_.operand_count(i); ++k) {
      Value v = f_.operand(i, k);
      // An address's bits are not a number that can be computed with here.
      if (!f_.is_constant(v) || f_.type(v).is_pointer()) return false;
      operands[k] = f_.constant_bits(v);
    }
    Type operand = f_.type(f_.operand(i, f_.operand_count(i) - 1)), result = f_.type(f_.result(i));
    if (result.is_pointer()) return false;
    Computed c = compute(f_.op(i), operand, result, {operands, f_.operand_count(i)});
    if (c.trapped) {
      w_.declined(f_.position(i), w_.name(f_.result(i)), "the operation stays", "it traps whenever it runs",
                  "operands for which it has a result", {{"operation", write_text(w_.module, f_, i)}});
      return false;
    }
    return replace(i, f_.constant(result, static_cast<uint64_t>(c.bits)), "all operands are constant");
  }

  bool replace(Instruction i, Value with, const char* why) {
    Value old = f_.result(i);
    if (w_.wants_notes())
      w_.done(f_.position(i), w_.name(old), "became " + w_.name(with), why,
              {{"operation", write_text(w_.module, f_, i)}});
    for (Slot s = f_.first_use(old); s.exists(); s = f_.next_use(s)) work_.push_back(f_.use(s).user);
    f_.replace_uses(old, with);
    f_.erase(i);
    return true;
  }

  bool branch(Instruction i) {
    Value condition = f_.operand(i, 0);
    if (!f_.is_constant(condition)) return false;
    Edge taken = f_.edge(i, f_.constant_bits(condition) & 1 ? 0 : 1);
    std::vector<Value> arguments;
    for (size_t k = 0; k < f_.argument_count(taken); ++k) arguments.push_back(f_.argument(taken, k));
    Block to = f_.to(taken), home = f_.block(i);
    Position position = f_.position(i);
    if (w_.wants_notes())
      w_.done(position, block_text(w_.module, f_, home), "always goes to " + block_text(w_.module, f_, to),
              "the condition is constant");
    f_.erase(i);
    Function::Draft::Target target{to, arguments};
    f_.append(home, {.op = Op::Go, .position = position, .targets = {&target, 1}});
    return true;
  }

  Workplace& w_;
  Function& f_;
  std::vector<Instruction> work_;
};

}  // namespace

bool fold(Workplace& w) { return Folder(w).run(); }

}  // namespace porphyry
