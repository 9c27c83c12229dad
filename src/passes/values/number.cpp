// number: what was computed before is not computed again. Blocks are gone through along the dominator tree's
// order; each operation is looked up by what it does and takes, and one that dominates it takes its place.
// Loads are looked up with the version of memory that they may see, and one that sees a store or fill of its
// bytes takes what was written; one that sees a copy is loaded from where that copied from. Then what some
// ways into a block computed is looked at: number_paths.cpp.
//
// B. Alpern, M. Wegman, K. Zadeck, "Detecting Equality of Variables in Programs", 1988, in its hashing form,
// with memory as one more operand. O(instructions), and the budget of memory queries for each load.
#include <fmt/format.h>

#include "../memory/written.h"
#include "number_paths.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class Numberer {
 public:
  explicit Numberer(FunctionContext& c)
      : c_(c),
        f_(c.function),
        dominators_(c.facts.get<Dominators>()),
        alias_(c.module, f_, c.module[c.symbol].facts),
        known_(f_),
        pen_(c.module, f_) {}

  void run() {
    bool loads = false;
    for (Block b : dominators_.order())
      for (Instruction i : f_.instructions(b)) loads |= f_.op(i) == Op::Load;
    if (loads) flow_.emplace(f_, dominators_, alias_, c_.in_module.get<CallEffects>());
    for (Block b : dominators_.order())
      for (Instruction i = f_.first(b), next; i.exists(); i = next) {
        next = f_.next(i);
        if (f_.op(i) == Op::Load)
          load(i);
        else if (computes(f_.op(i)) || only_computes(i))
          look_up(i, {});
      }
    number_on_some_paths(c_, dominators_, alias_, flow_ ? &*flow_ : nullptr, known_);
  }

 private:
  // A call whose results depend on its arguments alone, and which shows nothing else.
  bool only_computes(Instruction i) const {
    if (f_.op(i) != Op::Call || !f_.result_count(i)) return false;
    const Effect& e = c_.in_module.get<CallEffects>().of(f_, i);
    return e.leaves_nothing() && e.reads.is_empty();
  }

  void load(Instruction i) {
    const Address& a = f_.address(i);
    if (a.is_volatile || a.masked) return;
    MemoryAccess access = alias_.access(i);
    MemoryVersion seen = flow_->seen_by(i, access);
    // What a copy wrote is loaded from where it was copied from, when that is as it was.
    for (unsigned copies = 0; copies < 4 && through_copy(i, seen, access); ++copies) {
    }
    Instruction writer = seen.writer();
    if (writer.exists() && forward(i, access, writer)) return;
    look_up(i, seen);
  }

  bool through_copy(Instruction& i, MemoryVersion& seen, MemoryAccess& access) {
    Instruction copy = seen.writer();
    if (!copy.exists() || f_.op(copy) != Op::Copy || f_.address(i).guarded || !dominates(copy, i))
      return false;
    auto from = copied_from(f_, alias_, copy, access);
    if (!from) return false;
    MemoryVersion now = flow_->seen_by(i, from->access);
    if (!(now == flow_->seen_by(copy, from->access))) return false;
    Type type = f_.type(f_.result(i));
    Instruction made = f_.insert_before(i, {.op = Op::Load,
                                            .operands = from->operands,
                                            .results = {&type, 1},
                                            .detail = f_.add_address(from->address),
                                            .position = f_.position(i)});
    flow_->add_read(made, now);
    replace(i, f_.result(made), "the bytes were copied from there", copy);
    i = made, seen = now, access = from->access;
    return true;
  }

  // What a store or fill wrote, or the part of it that is loaded.
  bool forward(Instruction i, const MemoryAccess& access, Instruction write) {
    if (!dominates(write, i)) return false;
    pen_.before(i).from(f_.position(i));
    Value v = value_written(pen_, alias_, write, access, f_.type(f_.result(i)));
    if (!v.exists()) return false;
    replace(i, v, "the bytes hold what was stored there", write);
    return true;
  }

  bool dominates(Instruction a, Instruction b) const {
    return f_.block(a) == f_.block(b) ? f_.comes_before(a, b)
                                      : dominators_.dominates(f_.block(a), f_.block(b));
  }

  void look_up(Instruction i, MemoryVersion memory) {
    known_.read_operands(i, operands_);
    Instruction known = known_.find(i, operands_, memory, [&](Instruction k) { return dominates(k, i); });
    if (!known.exists()) return known_.add(i, memory);
    // The one that stays may do what both may.
    if (f_.permits(known) & ~f_.permits(i)) f_.set_permits(known, f_.permits(known) & f_.permits(i));
    for (size_t k = 1; k < f_.result_count(i); ++k) f_.replace_uses(f_.result(i, k), f_.result(known, k));
    replace(
        i, f_.result(known),
        f_.op(i) == Op::Load ? "nothing wrote the bytes since they were loaded" : "it was computed before",
        known);
  }

  void replace(Instruction i, Value by, const char* why, Instruction from) {
    Value old = f_.result(i);
    if (c_.wants_notes())
      c_.done(f_.position(i), c_.name(old), "became " + c_.name(by), why,
              {{"operation", write_text(c_.module, f_, i)}, {"the same", write_text(c_.module, f_, from)}});
    hand_name_over(f_, old, by);
    f_.replace_uses(old, by);
    f_.erase(i);
  }

  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  Alias alias_;
  std::optional<MemoryFlow> flow_;
  KnownOperations known_;
  std::vector<Value> operands_;
  Pen pen_;
};

}  // namespace

void number(FunctionContext& c) { Numberer(c).run(); }

}  // namespace porphyry
