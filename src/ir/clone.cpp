#include "porphyry/ir/clone.h"

namespace porphyry {

namespace {

template <class CopyBody>
std::unique_ptr<Module> copied(const Module& module, CopyBody copy_body) {
  auto out = std::make_unique<Module>(module.realm(), module.text(module.name()));
  out->layout = module.layout;
  out->kinds = module.kinds;
  out->sources = module.sources;
  out->comments = module.comments;
  for (size_t k = 0; k < module.position_count(); ++k) out->add_position(module.position(Position(k)));
  out->expect_symbols(module.symbol_count());
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    SymbolRow copy{.name = row.name,
                   .kind = row.kind,
                   .is_local = row.is_local,
                   .is_weak = row.is_weak,
                   .section = row.section,
                   .facts = row.facts,
                   .data = row.data,
                   .signature = row.signature};
    if (row.function) copy.function = copy_body(*row.function);
    out->add(std::move(copy));
  }
  return out;
}

}  // namespace

std::unique_ptr<Module> clone(const Module& module) {
  return copied(module, [](const Function& f) { return std::make_unique<Function>(f); });
}

std::unique_ptr<Module> clone_declarations(const Module& module) {
  return copied(module,
                [](const Function& f) { return std::make_unique<Function>(Function::without_body(f)); });
}

}  // namespace porphyry
