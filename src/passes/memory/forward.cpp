// forward: stores that nobody sees go. A store is dead when on every way from it the same bytes are written
// again, or their object ends, before anything may read them: those of an object that nothing reads at all
// are seen by that; others are followed forwards from each store along the instructions that touch memory,
// within a budget. Loads of what was stored are taken by `number`. O(stores * budget).
#include <fmt/format.h>

#include "porphyry/analyze/memory_flow.h"
#include "porphyry/analyze/unread.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class Forwarder {
 public:
  explicit Forwarder(FunctionContext& c)
      : c_(c),
        f_(c.function),
        alias_(c.module, f_, c.module[c.symbol].facts),
        effects_(c.in_module.get<CallEffects>()) {}

  void run() {
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b))
        if (f_.op(i) == Op::Reserve) nobody_reads(i);
    for (Block b : f_.blocks()) {
      Rows rows{static_cast<uint32_t>(touching_.size()), 0};
      for (Instruction i = f_.last(b); i.exists(); i = f_.previous(i))
        if (touches(i)) touching_.push_back(i), ++rows.count;
      at_.set(b, rows);
    }
    for (Block b : f_.blocks()) {
      const Rows rows = at_.get(b);
      // What goes leaves the list: else it would be passed over again from each store before it.
      uint32_t kept = 0;
      for (uint32_t k = 0; k < rows.count; ++k) {
        const Instruction i = touching_[rows.first + k];
        if (f_.op(i) == Op::Store && removed(i, {touching_.data() + rows.first, kept})) continue;
        touching_[rows.first + kept++] = i;
      }
      at_.set(b, {rows.first, kept});
    }
  }

 private:
  bool touches(Instruction i) const {
    const OperationInfo& row = info(f_.op(i));
    return row.reads_memory() || row.writes_memory() || row.may_trap() || row.marks() ||
           (row.ends_block() && f_.edge_count(i) == 0);
  }

  void nobody_reads(Instruction reserve) {
    const auto stores = stores_never_read(f_, reserve);
    if (!stores) return;
    for (Instruction store : *stores) {
      if (c_.wants_notes())
        c_.done(f_.position(store), write_text(c_.module, f_, store), "the store was removed",
                "nothing reads the object that it writes to");
      f_.erase(store);
    }
  }

  // `behind`: what is in its block behind it, the last one first.
  bool removed(Instruction store, std::span<const Instruction> behind) {
    const Address& a = f_.address(store);
    if (a.is_volatile || a.masked) return false;
    unsigned budget = 48;
    Seen seen{alias_.access(store), a.guarded, {}};
    if (live_in(f_.block(store), behind, seen, budget)) return false;
    if (c_.wants_notes())
      c_.done(f_.position(store), write_text(c_.module, f_, store), "the store was removed",
              "on every way its bytes are written again, or end, before they are read");
    f_.erase(store);
    return true;
  }

  struct Seen {
    MemoryAccess access;
    bool guarded;  // what it wrote counts at a later trap
    std::vector<Block> blocks;
  };

  // Whether the bytes may be seen in the rest of a block, or behind it.
  bool live_in(Block b, std::span<const Instruction> rest, Seen& seen, unsigned& budget) {
    work_.assign(1, {b, rest});
    while (!work_.empty()) {
      auto [home, list] = work_.back();
      work_.pop_back();
      bool ended = false;
      for (size_t k = list.size(); k-- > 0;) {
        Instruction i = list[k];
        if (!f_.alive(i)) continue;  // a store that went
        if (budget == 0) return true;
        --budget;
        if (ends(i, seen.access, seen.guarded)) {
          ended = true;
          break;
        }
        if (sees(i, seen)) return true;
      }
      if (ended) continue;
      for (Edge e : f_.edges(home)) {
        Block to = f_.to(e);
        // Around a loop the base may be another value: its object may be, too.
        if (std::find(seen.blocks.begin(), seen.blocks.end(), to) != seen.blocks.end()) continue;
        if (changes_address(to, seen.access)) return true;
        seen.blocks.push_back(to);
        const Rows rows = at_.get(to);
        work_.emplace_back(to, std::span(touching_).subspan(rows.first, rows.count));
      }
    }
    return false;
  }
  // Whether what the address is made of is defined in the block: then it means other bytes there.
  bool changes_address(Block b, const MemoryAccess& a) const {
    auto defined = [&](Value v) {
      return v.exists() && !f_.is_constant(v) && f_.kind(v) != ValueKind::Parameter &&
             f_.defining_block(v) == b;
    };
    return defined(a.base) || defined(a.index);
  }

  bool ends(Instruction i, const MemoryAccess& a, bool guarded) const {
    if (guarded && f_.op(i) == Op::Store && !f_.address(i).guarded) return false;
    if (f_.op(i) == Op::Store && !f_.address(i).masked && !f_.address(i).is_volatile &&
        alias_.of(alias_.access(i), a).relation == Overlap::Same)
      return true;
    return f_.op(i) == Op::Release && f_.operand(i, 0) == a.base && a.offset >= 0;
  }
  bool sees(Instruction i, const Seen& seen) const {
    const OperationInfo& row = info(f_.op(i));
    if (row.marks()) return f_.op(i) != Op::Watch && f_.op(i) != Op::Here;
    // A trap shows guarded stores; without them it shows nothing of memory.
    bool traps = row.may_trap() ||
                 ((row.layout == Layout::Load || row.layout == Layout::Store || row.layout == Layout::Fill) &&
                  f_.address(i).guarded);
    if (traps && !row.calls() && seen.guarded) return true;
    if (f_.op(i) == Op::Trap) return seen.guarded;
    // What is called may trap, and show what it reads.
    if (row.calls() && seen.guarded) return true;
    return alias_.may_read(i, seen.access, effects_);
  }

  FunctionContext& c_;
  Function& f_;
  Alias alias_;
  const CallEffects& effects_;
  // Instructions that memory matters to, block by block, the last one of a block first; of each block its
  // own.
  struct Rows {
    uint32_t first, count;
  };
  std::vector<Instruction> touching_;
  SideTable<Block, Rows> at_;
  std::vector<std::pair<Block, std::span<const Instruction>>> work_;  // blocks still to go through
};

}  // namespace

void forward(FunctionContext& c) { Forwarder(c).run(); }

}  // namespace porphyry
