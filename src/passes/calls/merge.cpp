// merge: of local functions with equal bodies one is called in place of the others. Bodies are written down
// with values and blocks numbered as they come, names and positions left out: equal texts are equal bodies. A
// function whose address is taken stays, as addresses can be compared. Calls of merged functions may make
// bodies equal in turn, so callees come first. O(instructions), with a text of each body by hash.
#include <unordered_map>

#include "porphyry/analyze/call_sites.h"
#include "porphyry/analyze/effects.h"
#include "porphyry/ir/body_text.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"

namespace porphyry {
namespace {

// What a function is said to be; marks stand last.
std::string facts_text(const FunctionFacts& facts) {
  std::string out{static_cast<char>(facts.permits), static_cast<char>(facts.keep_small),
                  static_cast<char>(facts.inlining), static_cast<char>(facts.marks.size())};
  return out.append(facts.marks.begin(), facts.marks.end());
}

// Calls go to what took a callee's place.
void redirect_calls(Function& f, const std::vector<Symbol>& in_place_of) {
  for (Block b : f.blocks())
    for (Instruction i : f.instructions(b))
      if (info(f.op(i)).layout == Layout::Call && in_place_of[f.symbol(i).index].exists())
        f.set_detail(i, in_place_of[f.symbol(i).index].index);
}

}  // namespace

void merge(ModuleContext& c) {
  CallEffects order(c.module);
  CallSites sites(c.module);
  std::vector<Symbol> in_place_of(c.module.symbol_count());
  std::unordered_map<std::string, Symbol> known;
  for (Symbol s : order.callees_first()) {
    Function& f = c.module.function(s);
    redirect_calls(f, in_place_of);
    // Traps alone are what is left of functions that are gone.
    if (only_traps(f, f.entry()) || !sites.all_seen(c.module, s)) continue;
    auto [first, is_new] = known.try_emplace(facts_text(c.module[s].facts) + body_text(f), s);
    if (is_new) continue;
    in_place_of[s.index] = first->second;
    if (c.notes)
      c.notes->push_back(
          {.kind = Note::Kind::Done,
           .pass = std::string(c.pass),
           .function = std::string(c.module.symbol_name(s)),
           .what = "calls go to '" + std::string(c.module.symbol_name(first->second)) + "' instead",
           .why = "the bodies are equal"});
  }
  // Rings: what was gone through before its callee.
  for (Symbol s : c.module.functions()) redirect_calls(c.module.function(s), in_place_of);
}

}  // namespace porphyry
