#include "porphyry/analyze/effects.h"

#include <algorithm>

#include "porphyry/ir/order.h"

namespace porphyry {

bool KindSet::may(const Kinds& kinds, KindPath kind) const {
  if (all_) return true;
  return std::any_of(kinds_.begin(), kinds_.end(), [&](KindPath k) { return kinds.may_overlap(k, kind); });
}

void KindSet::add(KindPath kind) {
  if (all_ || std::find(kinds_.begin(), kinds_.end(), kind) != kinds_.end()) return;
  kinds_.push_back(kind);
  if (!kind.exists() || kinds_.size() > limit) *this = all();
}

void KindSet::add(const KindSet& other) {
  if (other.all_) *this = all();
  for (KindPath k : other.kinds_) add(k);
}

namespace {

const Effect everything{KindSet::all(), KindSet::all(), false};

Effect declared(uint8_t outside) {
  if (outside & outside::pure) return {.returns = true};
  Effect out = everything;
  out.returns = outside & outside::returns;
  if (outside & (outside::reads | outside::writes_nothing)) out.writes = {};
  return out;
}

// Of one instruction that is no call.
void add_access(const Function& f, Instruction i, Effect& out) {
  const OperationInfo& row = info(f.op(i));
  const bool access_traps = row.detail() == Detail::Address ? f.address(i).guarded
                            : row.detail() == Detail::Copy
                                ? f.copy_shape(i).from.guarded || f.copy_shape(i).to.guarded
                                : false;
  if (access_traps || (row.may_trap() && f.has_effect(i))) out.returns = false;
  bool stated = row.layout == Layout::Load || row.layout == Layout::Store || row.layout == Layout::Fill;
  if (stated && f.address(i).is_volatile) out.writes = out.reads = KindSet::all();
  KindPath kind = stated ? f.address(i).kind : KindPath();
  if (row.reads_memory())
    row.layout == Layout::Copy ? out.reads.add(f.copy_shape(i).from.kind) : out.reads.add(kind);
  if (row.writes_memory())
    row.layout == Layout::Copy ? out.writes.add(f.copy_shape(i).to.kind) : out.writes.add(kind);
}

// Whether some block is reached from itself.
bool has_loops(const Function& f) {
  std::vector<uint32_t> place(f.block_limit());
  uint32_t count = 0;
  for (Block b : reverse_postorder(f)) place[b.index] = ++count;
  for (Block b : f.blocks())
    for (Edge e : f.edges(b))
      if (place[b.index] && place[f.to(e).index] <= place[b.index]) return true;
  return false;
}

class Groups {
 public:
  Groups(const Module& module, std::vector<Effect>& effects, std::vector<Symbol>& order,
         std::vector<uint32_t>& rings)
      : module_(module),
        effects_(effects),
        order_(order),
        rings_(rings),
        number_(module.symbol_count()),
        low_(module.symbol_count()) {}

  // Without the host's stack: chains of calls are long.
  void from(Symbol root) {
    if (number_[root.index]) return;
    enter(root);
    while (!visits_.empty()) {
      Visit& v = visits_.back();
      if (v.next < v.callees.size()) {
        Symbol callee = v.callees[v.next++];
        if (!number_[callee.index])
          enter(callee);
        else if (low_[callee.index])
          low_[v.function.index] = std::min(low_[v.function.index], number_[callee.index]);
        continue;
      }
      leave();
    }
  }

 private:
  struct Visit {
    Symbol function;
    std::vector<Symbol> callees;
    size_t next = 0;
  };

  void enter(Symbol s) {
    number_[s.index] = low_[s.index] = ++count_;
    stack_.push_back(s);
    Visit v{s, {}, 0};
    Effect& own = effects_[s.index];
    const Function& f = module_.function(s);
    own.returns = !module_[s].is_weak && !has_loops(f);
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        const OperationInfo& row = info(f.op(i));
        if (!row.calls()) {
          add_access(f, i, own);
        } else if (row.layout == Layout::CallThrough) {
          own = everything;
        } else if (Symbol callee = f.symbol(i); module_.is_function(callee)) {
          v.callees.push_back(callee);
        } else {
          add(own, effects_[callee.index]);
        }
      }
    visits_.push_back(std::move(v));
  }
  static void add(Effect& to, const Effect& from) {
    to.reads.add(from.reads), to.writes.add(from.writes);
    to.returns &= from.returns;
  }

  void leave() {
    Visit done = std::move(visits_.back());
    visits_.pop_back();
    Symbol s = done.function;
    if (!visits_.empty()) {
      uint32_t& above = low_[visits_.back().function.index];
      above = std::min(above, low_[s.index]);
    }
    for (Symbol c : done.callees)
      if (c != s) add(effects_[s.index], effects_[c.index]);
    if (low_[s.index] != number_[s.index]) return;
    // The group's functions do what any of them does.
    auto first = std::find(stack_.begin(), stack_.end(), s);
    Effect all{.returns = true};
    for (auto m = first; m != stack_.end(); ++m) add(all, effects_[m->index]);
    for (auto m = first; m != stack_.end(); ++m) effects_[m->index] = all, low_[m->index] = 0;
    bool ring = stack_.end() - first > 1 ||
                std::find(done.callees.begin(), done.callees.end(), s) != done.callees.end();
    if (ring) ++ring_count_;
    for (auto m = first; ring && m != stack_.end(); ++m)
      rings_[m->index] = ring_count_, effects_[m->index].returns = false;
    order_.insert(order_.end(), std::make_reverse_iterator(stack_.end()), std::make_reverse_iterator(first));
    stack_.erase(first, stack_.end());
  }

  const Module& module_;
  std::vector<Effect>& effects_;
  std::vector<Symbol>& order_;
  std::vector<uint32_t>& rings_;
  std::vector<uint32_t> number_, low_;  // low_ is 0 once the group is done
  uint32_t count_ = 0, ring_count_ = 0;
  std::vector<Symbol> stack_;
  std::vector<Visit> visits_;
};

}  // namespace

CallEffects::CallEffects(const Module& module)
    : by_symbol_(module.symbol_count()), ring_(module.symbol_count()) {
  for (size_t k = 0; k < by_symbol_.size(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    if (row.kind == SymbolKind::ExternFunction) by_symbol_[k] = declared(row.facts.outside);
    // Another definition may take a weak one's place.
    if (row.kind == SymbolKind::Function && row.is_weak) by_symbol_[k] = everything;
  }
  Groups groups(module, by_symbol_, order_, ring_);
  for (Symbol s : module.functions()) groups.from(s);
}

const Effect& CallEffects::of(const Function& f, Instruction call) const {
  if (info(f.op(call)).layout == Layout::CallThrough || f.symbol(call).index >= by_symbol_.size())
    return everything;
  return by_symbol_[f.symbol(call).index];
}

}  // namespace porphyry
