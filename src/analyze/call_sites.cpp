#include "porphyry/analyze/call_sites.h"

namespace porphyry {

CallSites::CallSites(const Module& module) : calls_(module.symbol_count()), taken_(module.symbol_count()) {
  for (size_t k = 0; k < module.symbol_count(); ++k)
    if (module[Symbol(k)].kind == SymbolKind::Data)
      for (const auto& r : module[Symbol(k)].data.references(module.layout.pointer_bits))
        taken_[r.symbol.index] = 1;
  for (Symbol s : module.functions()) {
    const Function& f = module.function(s);
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        if (info(f.op(i)).detail() != Detail::Symbol) continue;
        if (f.op(i) == Op::AddressOf)
          taken_[f.symbol(i).index] = 1;
        else
          ++calls_[f.symbol(i).index];
      }
  }
}

}  // namespace porphyry
