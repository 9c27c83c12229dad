// tidy: blocks that only follow another join it, blocks that only jump on are passed by, branches with one
// way become jumps, and block parameters that receive one value alone become that value. A work list of
// blocks; O(instructions + edges).
#include <fmt/format.h>

#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class Tidier {
 public:
  explicit Tidier(FunctionContext& c) : c_(c), f_(c.function), queued_(f_.block_limit()) {}

  void run() {
    for (Block b : f_.blocks()) later(b);
    for (size_t k = 0; k < work_.size(); ++k) {
      Block b = work_[k];
      queued_[b] = 0;
      if (f_.alive(b)) one(b);
    }
  }

 private:
  void later(Block b) {
    if (f_.alive(b) && !std::exchange(queued_[b], uint8_t(1))) work_.push_back(b);
  }

  void one(Block b) {
    single_values(b);
    one_way(b);
    pass_by(b);
    if (f_.alive(b)) join(b);
  }

  // A parameter that all ways in give the same value, or itself.
  void single_values(Block b) {
    if (b == f_.entry() || !f_.first_in(b).exists()) return;
    for (size_t k = f_.parameters(b).size(); k-- > 0;) {
      Value parameter = f_.parameters(b)[k], only;
      bool same = true;
      for (Edge e : f_.edges_into(b)) {
        Value v = f_.argument(e, k);
        if (v == parameter) continue;
        same &= !only.exists() || only == v;
        only = v;
      }
      if (!same || !only.exists()) continue;
      if (c_.wants_notes())
        c_.done({}, c_.name(parameter), "became " + c_.name(only), "all ways to its block bring this value");
      // Parameters that it is an argument of may now have one value, too.
      for (Slot s : f_.uses(parameter))
        if (auto use = f_.use(s); use.edge.exists()) later(f_.to(use.edge));
      f_.replace_uses(parameter, only);
      f_.erase_parameter(b, k);
    }
  }

  // Both ways of a branch go to one place with the same arguments.
  void one_way(Block b) {
    Instruction i = f_.terminator(b);
    if (!i.exists() || (f_.op(i) != Op::When && f_.op(i) != Op::Choose)) return;
    Edge first = f_.edge(i, 0);
    for (Edge e : f_.edges(i)) {
      if (f_.to(e) != f_.to(first)) return;
      for (size_t k = 0; k < f_.argument_count(first); ++k)
        if (f_.argument(e, k) != f_.argument(first, k)) return;
    }
    Block to = f_.to(first);
    if (c_.wants_notes())
      c_.done(f_.position(i), block_text(c_.module, f_, b), "always goes to " + block_text(c_.module, f_, to),
              "all ways of the branch are the same");
    always_take(f_, first);
    later(to);
  }

  // A block that only jumps on, without parameters: who goes to it goes where it goes.
  void pass_by(Block b) {
    Instruction i = f_.first(b);
    if (b == f_.entry() || !i.exists() || f_.op(i) != Op::Go || !f_.parameters(b).empty()) return;
    Edge onward = f_.edge(i, 0);
    Block to = f_.to(onward);
    if (to == b || !f_.first_in(b).exists()) return;
    for (Edge e : f_.edges_into(b)) {
      // Ways of one branch to one block with different arguments would need a block between.
      if (f_.argument_count(onward) && f_.edges(f_.from(e)).size() > 1) return;
    }
    std::vector<Edge> in;
    for (Edge e : f_.edges_into(b)) in.push_back(e);
    for (Edge e : in) {
      f_.redirect(e, to);
      for (size_t k = 0; k < f_.argument_count(onward); ++k) f_.add_argument(e, f_.argument(onward, k));
      later(f_.from(e));
    }
    if (c_.wants_notes())
      c_.done(f_.position(i), block_text(c_.module, f_, b), "the block was removed", "it only jumps on");
    f_.erase(i);
    f_.erase_block(b);
    later(to);
  }

  void join(Block b) {
    for (;;) {
      Instruction end = f_.terminator(b);
      if (!end.exists() || f_.op(end) != Op::Go) break;
      Block next = f_.to(f_.edge(end, 0));
      std::string name = c_.wants_notes() ? block_text(c_.module, f_, next) : "";
      Position position = f_.position(end);
      if (!f_.merge_with_next(b)) break;
      if (c_.wants_notes())
        c_.done(position, name, "the block joined " + block_text(c_.module, f_, b),
                "nothing else goes to it");
      one_way(b);
    }
  }

  FunctionContext& c_;
  Function& f_;
  std::vector<Block> work_;
  Table<Block, uint8_t> queued_;
};

}  // namespace

void tidy(FunctionContext& c) { Tidier(c).run(); }

}  // namespace porphyry
