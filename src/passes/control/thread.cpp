// thread: a way into a block that only decides on what the way brings goes to where that leads. The block
// holds its branch and at most a comparison of a parameter with a constant, and nothing outside uses its
// parameters. A pick in front of a branch may bring such a way as well (deciding_picks.h). O(blocks + edges),
// and the arguments of redirected edges.
#include <fmt/format.h>

#include "deciding_picks.h"
#include "porphyry/ir/compute.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class Threader {
 public:
  explicit Threader(FunctionContext& c) : c_(c), f_(c.function) {}

  void run() {
    std::vector<Block> blocks;
    for (Block b : f_.blocks()) blocks.push_back(b);
    for (Block b : blocks)
      if (decides(b)) one(b);
  }

 private:
  bool decides(Block b) {
    Instruction end = f_.terminator(b);
    if (b == f_.entry() || !end.exists() || (f_.op(end) != Op::When && f_.op(end) != Op::Choose))
      return false;
    Value v = f_.operand(end, 0);
    comparison_ = {};
    if (f_.first(b) != end) {
      comparison_ = f_.first(b);
      if (f_.next(comparison_) != end || f_.result_count(comparison_) != 1 || f_.result(comparison_) != v ||
          !f_.has_one_use(v))
        return false;
      const OperationInfo& row = info(f_.op(comparison_));
      if (!row.is_plain() || row.may_trap() || f_.operand_count(comparison_) > 2 ||
          row.layout == Layout::Shuffle)
        return false;
    }
    for (Value p : f_.parameters(b))
      for (Slot s : f_.uses(p)) {
        auto use = f_.use(s);
        if (f_.block(use.user) != b) return false;
      }
    return true;
  }

  void one(Block b) {
    Instruction end = f_.terminator(b);
    std::vector<Edge> in;
    for (Edge e : f_.edges_into(b)) in.push_back(e);
    for (Edge e : in) {
      if (f_.from(e) == b) continue;
      auto value = decided(b, e, f_.operand(end, 0));
      if (!value) continue;
      go_along(b, e, f_.edge(end, way_of(f_, end, *value)));
    }
  }

  // A value of the block for one way in; nothing when it is not constant.
  std::optional<Bits> decided(Block b, Edge e, Value v) const {
    if (comparison_.exists() && v == f_.result(comparison_)) {
      Bits in[2];
      Type operand = f_.type(f_.operand(comparison_, 0));
      if (operand.is_pointer() || operand.has_lanes()) return std::nullopt;
      for (size_t k = 0; k < f_.operand_count(comparison_); ++k) {
        auto one = decided(b, e, f_.operand(comparison_, k));
        if (!one) return std::nullopt;
        in[k] = *one;
      }
      return compute(f_.op(comparison_), operand, f_.type(v), {in, f_.operand_count(comparison_)}).bits;
    }
    if (f_.kind(v) == ValueKind::BlockParameter && f_.defining_block(v) == b)
      v = f_.argument(e, f_.result_index(v));
    if (!f_.is_constant(v) || f_.type(v).has_lanes()) return std::nullopt;
    return f_.constant_word(v);
  }
  void go_along(Block b, Edge e, Edge onward) {
    std::vector<Value> arguments;
    for (Value v : f_.arguments(onward)) {
      bool own = f_.kind(v) == ValueKind::BlockParameter && f_.defining_block(v) == b;
      // What is made in the block exists only there.
      if (comparison_.exists() && v == f_.result(comparison_)) return;
      arguments.push_back(own ? f_.argument(e, f_.result_index(v)) : v);
    }
    Block to = f_.to(onward);
    if (c_.wants_notes())
      c_.done(f_.position(f_.terminator(f_.from(e))), block_text(c_.module, f_, f_.from(e)),
              "goes to " + block_text(c_.module, f_, to) + " instead of " + block_text(c_.module, f_, b),
              "what it brings decides the branch there");
    f_.redirect(e, to);
    for (Value v : arguments) f_.add_argument(e, v);
  }

  FunctionContext& c_;
  Function& f_;
  Instruction comparison_;
};

}  // namespace

void thread(FunctionContext& c) {
  Threader(c).run();
  ask_deciding_picks_first(c);
}

}  // namespace porphyry
