#include "porphyry/ir/clone.h"

namespace porphyry {

std::unique_ptr<Module> clone(const Module& module) {
  auto out = std::make_unique<Module>(module.realm(), module.text(module.name()));
  out->sources = module.sources;
  out->comments = module.comments;
  for (size_t k = 0; k < module.position_count(); ++k) out->add_position(module.position(Position(k)));
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    std::string_view name = module.text(row.name);
    switch (row.kind) {
      case SymbolKind::Function: out->add_function(name, {}); break;
      case SymbolKind::Data: out->add_data(name, row.data); break;
      case SymbolKind::ExternFunction: out->add_extern_function(name, row.signature); break;
      case SymbolKind::ExternData: out->add_extern_data(name); break;
    }
    (*out)[Symbol(k)].is_local = row.is_local;
    if (row.kind == SymbolKind::Function) *(*out)[Symbol(k)].function = *row.function;
  }
  return out;
}

}  // namespace porphyry
