// Idea: the program dependence graph (J. Ferrante, K. Ottenstein, J. Warren, 1987), with memory as one
// variable whose versions a read walks up: each writer that it may see is a link, and behind one that writes
// other bytes as well the walk goes on.
#include "porphyry/analyze/dependences.h"

#include <algorithm>
#include <unordered_set>

#include "porphyry/analyze/memory_flow.h"
#include "porphyry/analyze/post_dominators.h"

namespace porphyry {
namespace {

class Builder {
 public:
  using Node = Dependences::Node;
  using Why = Dependences::Why;
  using Link = Dependences::Link;

  Builder(const Module& module, Symbol symbol, const CallEffects& effects)
      : module_(module),
        f_(module.function(symbol)),
        effects_(effects),
        dominators_(f_),
        post_(f_),
        control_(f_, post_),
        alias_(module, f_, module[symbol].facts),
        flow_(f_, dominators_, alias_, effects) {}

  // Links by the code of whom they belong to, in no order.
  std::vector<std::pair<uint32_t, Link>> run() {
    for (Block b : dominators_.order()) {
      parameters(b);
      for (Instruction i : f_.instructions(b)) instruction(i);
    }
    return std::move(out_);
  }

 private:
  void link(Node of, Node on, Why why) { out_.push_back({of.code, {on, why}}); }
  void link(Node of, Value on, Why why) {
    if (!f_.is_constant(on)) link(of, Dependences::value(on), why);
  }
  void decided(Node of, Block b) {
    for (Edge e : control_.of(b))
      if (Instruction branch = f_.terminator(f_.from(e)); branch.exists())
        link(of, Dependences::instruction(branch), Why::Decides);
  }

  void parameters(Block b) {
    for (size_t k = 0; k < f_.parameters(b).size() && b != f_.entry(); ++k) {
      const Node p = Dependences::value(f_.parameters(b)[k]);
      bool differ = false;
      Value first;
      for (Edge e : f_.edges_into(b)) {
        const Value v = f_.argument(e, k);
        link(p, v, Why::Argument);
        differ |= first.exists() && v != first;
        first = v;
      }
      if (!differ) continue;
      for (Edge e : f_.edges_into(b)) {
        decided(p, f_.from(e));
        if (f_.edges(f_.from(e)).size() > 1)
          link(p, Dependences::instruction(f_.terminator(f_.from(e))), Why::Decides);
      }
    }
  }

  void instruction(Instruction i) {
    const Op op = f_.op(i);
    const OperationInfo& row = info(op);
    const Node me = Dependences::instruction(i);
    for (Value v : f_.results(i)) link(Dependences::value(v), me, Why::Result);
    if (op == Op::Go) return;  // its edges' arguments belong to parameters
    const bool is_access = row.detail() == Detail::Address && op != Op::At;
    for (size_t k = 0; k < f_.operand_count(i); ++k) {
      const bool stored = op == Op::Store && k == 0;
      link(me, f_.operand(i, k), is_access && !stored ? Why::Address : Why::Operand);
    }
    if (row.reads_memory()) reads(i);
    if (f_.has_effect(i)) decided(me, f_.block(i));
  }

  void reads(Instruction i) {
    const Op op = f_.op(i);
    const Node me = Dependences::instruction(i);
    if (op == Op::Load && reads_constant_data(alias_.access(i))) return;  // nobody writes there
    if (op == Op::Load) return walk(me, flow_.seen_by(i, alias_.access(i)), alias_.access(i));
    if (op == Op::Copy) return walk(me, flow_.seen_by(i, alias_.read_by_copy(i)), alias_.read_by_copy(i));
    // A call may read all that its effects say: whatever was written before.
    link(me, Node{}, Why::Memory);
    for (Block b : dominators_.order())
      for (Instruction w : f_.instructions(b))
        if (w != i && info(f_.op(w)).writes_memory()) link(me, Dependences::instruction(w), Why::Memory);
  }

  bool reads_constant_data(const MemoryAccess& a) const {
    const Instruction d = f_.definition(a.base);
    if (!d.exists() || f_.op(d) != Op::AddressOf) return false;
    const SymbolRow& row = module_[f_.symbol(d)];
    return row.kind == SymbolKind::Data && row.data.is_const;
  }

  void walk(Node me, MemoryVersion from, const MemoryAccess& a) {
    std::vector<MemoryVersion> todo = {from};
    std::unordered_set<uint32_t> seen;
    while (!todo.empty()) {
      const MemoryVersion v = todo.back();
      todo.pop_back();
      if (!seen.insert(v.code).second) continue;
      if (v.is_start()) {
        link(me, Node{}, Why::Memory);
      } else if (v.is_join()) {
        for (Edge e : f_.edges_into(v.join()))
          if (dominators_.reachable(f_.from(e))) todo.push_back(flow_.seen_at_end(f_.from(e), a));
      } else {
        const Instruction w = v.writer();
        if (alias_.may_write(w, a, effects_)) link(me, Dependences::instruction(w), Why::Memory);
        const bool whole = f_.op(w) == Op::Store && alias_.of(alias_.access(w), a).relation == Overlap::Same;
        if (!whole) todo.push_back(flow_.seen_by(w, a));
      }
    }
  }

  const Module& module_;
  const Function& f_;
  const CallEffects& effects_;
  Dominators dominators_;
  PostDominators post_;
  ControlDependence control_;
  Alias alias_;
  MemoryFlow flow_;
  std::vector<std::pair<uint32_t, Link>> out_;
};

}  // namespace

Dependences::Dependences(const Module& module, Symbol function, const CallEffects& effects) {
  auto all = Builder(module, function, effects).run();
  const Function& f = module.function(function);
  const size_t limit = 2 * std::max(f.value_limit(), f.instruction_limit()) + 3;
  first_.resize(limit + 1);
  for (const auto& [code, link] : all) ++first_[code + 1];
  for (size_t k = 1; k <= limit; ++k) first_[k] += first_[k - 1];
  links_.resize(all.size());
  std::vector<uint32_t> at(first_.begin(), first_.end() - 1);
  for (const auto& [code, link] : all) links_[at[code]++] = link;
}

}  // namespace porphyry
