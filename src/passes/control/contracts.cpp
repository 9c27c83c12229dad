// contracts: checks of bounds go that were made on every way to them, by the function itself, by all its
// callers, or by a function that was called before. What is proved is so in the module as it is, hence none
// of these checks is ever met otherwise, and all of them go at once. O(instructions + proofs).
#include "porphyry/analyze/bound_proofs.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

struct Needless {
  Symbol function;
  TrappingCheck check;
  BoundProof proof;
};

const char* reason(BoundProof p) {
  switch (p) {
    case BoundProof::Small: return "the number is always small enough";
    case BoundProof::Above: return "a check above covers it";
    case BoundProof::Call: return "a function that is called before has checked as much wherever it returns";
    case BoundProof::Callers: return "all callers have checked as much";
    case BoundProof::Brought: return "each edge that brings the number has checked as much";
    case BoundProof::Picked: return "both numbers that may be picked are checked above";
    case BoundProof::Ways: return "on each way to it another check covers it";
  }
  return "";
}

// Of one function: branches that trap unless a bound holds, which it does.
void find_needless(const Module& module, Symbol s, std::optional<BoundProofs>& proofs,
                   std::vector<Needless>& out) {
  const Function& f = module.function(s);
  for (Block b : f.blocks()) {
    Instruction end = f.terminator(b);
    auto check = end.exists() ? trapping_check(f, end) : std::nullopt;
    if (!check) continue;
    if (!proofs) proofs.emplace(module);
    if (auto proof = proofs->of(s, end, check->check.bound)) out.push_back({s, *check, *proof});
  }
}

void tell(ModuleContext& c, const Needless& n) {
  if (!c.notes) return;
  const Function& f = c.module.function(n.function);
  const Edge taken = n.check.goes_on;
  const Instruction branch = f.terminator(f.from(taken));
  c.notes->push_back({.kind = Note::Kind::Done,
                      .pass = std::string(c.pass),
                      .function = std::string(c.module.symbol_name(n.function)),
                      .position = place_text(c.module, f.position(branch)),
                      .value = value_text(c.module, f, f.operand(branch, 0)),
                      .what = "always goes to " + block_text(c.module, f, f.to(taken)),
                      .why = reason(n.proof)});
}

}  // namespace

void contracts(ModuleContext& c) {
  std::optional<BoundProofs> proofs;
  std::vector<Needless> needless;
  for (Symbol s : c.module.functions()) find_needless(c.module, s, proofs, needless);
  for (const Needless& n : needless) {
    tell(c, n);
    always_take(c.module.function(n.function), n.check.goes_on);
  }
}

}  // namespace porphyry
