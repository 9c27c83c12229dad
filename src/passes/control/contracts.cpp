// contracts: checks of bounds go that were made on every way to them, by the function itself, by all its
// callers, or by a function that was called before. What is proved is so in the module as it is, hence none
// of these checks is ever met otherwise, and all of them go at once. O(instructions + proofs).
#include "porphyry/analyze/bound_proofs.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

bool only_traps(const Function& f, Block b) {
  Instruction i = f.first(b);
  return i.exists() && f.op(i) == Op::Trap;
}

struct Needless {
  Symbol function;
  Instruction branch;
  bool exceeds;  // what its condition says where it holds
};

// Of one function: branches that trap unless a bound holds, which it does.
void find_needless(const Module& module, Symbol s, std::optional<BoundProofs>& proofs,
                   std::vector<Needless>& out) {
  const Function& f = module.function(s);
  for (Block b : f.blocks()) {
    Instruction end = f.terminator(b);
    if (!end.exists() || f.op(end) != Op::When) continue;
    if (!only_traps(f, f.to(f.edge(end, 0))) && !only_traps(f, f.to(f.edge(end, 1)))) continue;
    auto check = bound_check(f, f.operand(end, 0));
    if (!check) continue;
    if (!proofs) proofs.emplace(module);
    if (proofs->hold(s, end, check->bound)) out.push_back({s, end, check->exceeds});
  }
}

void tell(ModuleContext& c, const Needless& n, Edge taken) {
  if (!c.notes) return;
  const Function& f = c.module.function(n.function);
  c.notes->push_back({.kind = Note::Kind::Done,
                      .pass = std::string(c.pass),
                      .function = std::string(c.module.symbol_name(n.function)),
                      .position = place_text(c.module, f.position(n.branch)),
                      .value = value_text(c.module, f, f.operand(n.branch, 0)),
                      .what = "always goes to " + block_text(c.module, f, f.to(taken)),
                      .why = "on every way to it the function, its callers or a call have checked as much"});
}

}  // namespace

void contracts(ModuleContext& c) {
  std::optional<BoundProofs> proofs;
  std::vector<Needless> needless;
  for (Symbol s : c.module.functions()) find_needless(c.module, s, proofs, needless);
  for (const Needless& n : needless) {
    Function& f = c.module.function(n.function);
    Edge taken = f.edge(n.branch, n.exceeds);
    tell(c, n, taken);
    always_take(f, taken);
  }
}

}  // namespace porphyry
