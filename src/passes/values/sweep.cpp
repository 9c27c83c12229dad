// sweep: removes dead code. What has an effect is live; what a live instruction or block parameter
// takes is live in turn; the rest is erased, cycles of unused block parameters included. Blocks that cannot
// be reached go with all they hold. O(instructions + arguments).
#include "porphyry/analyze/effects.h"
#include "porphyry/ir/order.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class Sweeper {
 public:
  explicit Sweeper(FunctionContext& c) : c_(c), f_(c.function), wanted_(f_.value_limit()) {}

  void run() {
    unreachable_blocks();
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b))
        if (has_effect(i)) want_operands(i);
    while (!work_.empty()) {
      Value v = work_.back();
      work_.pop_back();
      if (Instruction d = f_.definition(v); d.exists()) want_operands(d);
      if (f_.kind(v) == ValueKind::BlockParameter) want_arguments(f_.defining_block(v), f_.result_index(v));
    }
    erase_parameters();
    erase_instructions();
  }

 private:
  bool has_effect(Instruction i) const {
    if (f_.op(i) == Op::Call) return !c_.in_module.get<CallEffects>().of(f_, i).leaves_nothing();
    return f_.has_effect(i);
  }

  void want(Value v) {
    if (wanted_[v]) return;
    wanted_[v] = 1;
    work_.push_back(v);
  }
  void want_operands(Instruction i) {
    for (Value v : f_.operands(i)) want(v);
  }
  void want_arguments(Block b, size_t index) {
    for (Edge e : f_.edges_into(b)) want(f_.argument(e, index));
  }

  void unreachable_blocks() {
    const Dominators& dominators = c_.facts.get<Dominators>();
    bool any = false;
    for (Block b : f_.blocks()) {
      if (dominators.reachable(b)) continue;
      any = true;
      if (c_.wants_notes())
        c_.done({}, block_text(c_.module, f_, b), "the block was removed", "it is unreachable");
    }
    if (any) remove_unreachable_blocks(f_);
  }

  void erase_parameters() {
    for (Block b : f_.blocks()) {
      for (size_t k = f_.parameters(b).size(); k-- > 0;) {
        Value v = f_.parameters(b)[k];
        if (wanted_[v]) continue;
        if (c_.wants_notes()) c_.done({}, c_.name(v), "the block parameter was removed", "it is unused");
        // Its uses are arguments and instructions that go as well.
        f_.replace_uses(v, f_.constant(f_.type(v), 0));
        f_.erase_parameter(b, k);
      }
    }
  }

  void erase_instructions() {
    for (Block b : f_.blocks()) {
      for (Instruction i = f_.last(b), before; i.exists(); i = before) {
        before = f_.previous(i);
        bool used = false;
        for (Value v : f_.results(i)) used |= wanted_[v] != 0;
        if (used) continue;
        if (has_effect(i)) {
          if (f_.result_count(i) && !info(f_.op(i)).calls() && info(f_.op(i)).may_trap())
            c_.declined(f_.position(i), c_.name(f_.result(i)), "the unused operation stays", "it may trap",
                        "a divisor that is shown not to be zero");
          continue;
        }
        if (c_.wants_notes())
          c_.done(f_.position(i), f_.result_count(i) ? c_.name(f_.result(i)) : "",
                  info(f_.op(i)).calls() ? "the call was removed" : "the value was removed",
                  info(f_.op(i)).calls() ? "it leaves nothing, returns, and its results are unused"
                                         : "it is unused",
                  {{"operation", write_text(c_.module, f_, i)}});
        for (Value v : f_.results(i)) f_.replace_uses(v, f_.constant(f_.type(v), 0));
        f_.erase(i);
      }
    }
  }

  FunctionContext& c_;
  Function& f_;
  Table<Value, uint8_t> wanted_;
  std::vector<Value> work_;
};

}  // namespace

void sweep(FunctionContext& c) { Sweeper(c).run(); }

}  // namespace porphyry
