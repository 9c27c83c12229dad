// drop: local functions that no run can come to give up their bodies for a trap. What others may call, and
// what code or data take the address of, is reached; then what those call. O(instructions + data).
#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"

namespace porphyry {
namespace {

std::vector<uint8_t> reached_functions(const Module& module) {
  std::vector<uint8_t> reached(module.symbol_count());
  std::vector<Symbol> work;
  auto reach = [&](Symbol s) {
    if (!std::exchange(reached[s.index], uint8_t(1)) && module.is_function(s)) work.push_back(s);
  };
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const SymbolRow& row = module[Symbol(k)];
    if (row.kind == SymbolKind::Function && !row.is_local) reach(Symbol(k));
    if (row.kind == SymbolKind::Data)
      for (const auto& r : row.data.references(module.layout.pointer_bits)) reach(r.symbol);
  }
  while (!work.empty()) {
    const Function& f = module.function(work.back());
    work.pop_back();
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b))
        if (info(f.op(i)).detail() == Detail::Symbol) reach(f.symbol(i));
  }
  return reached;
}

}  // namespace

void drop(ModuleContext& c) {
  std::vector<uint8_t> reached = reached_functions(c.module);
  for (Symbol s : c.module.functions()) {
    const Function& f = c.module.function(s);
    if (reached[s.index] || only_traps(f, f.entry())) continue;
    size_t size = 0;
    for (Block b : f.blocks()) size += f.instructions(b).count();
    Function empty = Function::without_body(f);
    Pen pen(c.module, empty);
    pen.at_end(empty.add_block()).trap();
    c.module.set_body(s, std::move(empty));
    c.changed = true;
    if (c.notes)
      c.notes->push_back({.kind = Note::Kind::Done,
                          .pass = std::string(c.pass),
                          .function = std::string(c.module.symbol_name(s)),
                          .what = "the body was dropped",
                          .why = "it is local, nothing calls it, and nothing takes its address",
                          .figures = {{"instructions", std::to_string(size)}}});
  }
}

}  // namespace porphyry
