// What a call may do to memory, and whether it returns, from declarations and bodies, for whole groups of
// functions that call each other.
//
//   const Effect& e = effects.of(module, f, call);
//   if (!e.writes.may(module.kinds, access.kind)) … the call leaves it alone
#pragma once

#include <vector>

#include "porphyry/ir/module.h"

namespace porphyry {

// Kinds of memory, few of them or all.
class KindSet {
 public:
  static KindSet all() {
    KindSet out;
    out.all_ = true;
    return out;
  }
  // Whether an access of this kind may meet one of the set.
  bool may(const Kinds& kinds, KindPath kind) const;
  void add(KindPath kind);
  void add(const KindSet& other);
  bool is_empty() const { return !all_ && kinds_.empty(); }
  bool is_all() const { return all_; }
  bool operator==(const KindSet&) const = default;

 private:
  static constexpr size_t limit = 8;  // more kinds are all
  bool all_ = false;
  std::vector<KindPath> kinds_;
};

struct Effect {
  KindSet reads, writes;
  bool returns = false;  // always: it neither traps nor runs on for ever
  // A call whose results nobody wants may go.
  bool leaves_nothing() const { return returns && writes.is_empty(); }
  bool operator==(const Effect&) const = default;
};

class CallEffects {
 public:
  // Groups of functions that call each other are done callees first (R. Tarjan, "Depth-First Search and
  // Linear Graph Algorithms", 1972). O(instructions + calls). Stays right while passes neither add accesses
  // nor calls.
  explicit CallEffects(const Module& module);

  const Effect& of(Symbol function) const { return by_symbol_[function.index]; }
  // Of a call instruction; of one through a pointer everything.
  const Effect& of(const Function& f, Instruction call) const;
  size_t symbol_count() const { return by_symbol_.size(); }  // of the module when this was made
  // Functions with a body, each after those that it calls, as far as they do not call each other.
  const std::vector<Symbol>& callees_first() const { return order_; }
  // Whether two functions call each other, maybe by way of others; also whether one calls itself.
  bool in_one_ring(Symbol a, Symbol b) const { return ring_[a.index] && ring_[a.index] == ring_[b.index]; }

 private:
  std::vector<Effect> by_symbol_;
  std::vector<Symbol> order_;
  std::vector<uint32_t> ring_;  // by symbol: numbered from 1; 0: it does not call itself, in any way
};

}  // namespace porphyry
