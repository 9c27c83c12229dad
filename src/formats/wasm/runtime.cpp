#include "runtime.h"

#include <cassert>

#include "porphyry/formats/text.h"
#include "porphyry/ir/link.h"

namespace porphyry::wasm {

Runtime::Runtime(Module& into) : into_(into) {
  SourceText source("runtime.por", std::string(runtime_text()));
  ReadModule read = read_text(realm_, source);
  assert(read.problems.empty());
  text_ = std::move(read.module);
  known_.resize(text_->symbol_count());
}

Symbol Runtime::operator[](std::string_view name) {
  Symbol routine = text_->find(name);
  assert(routine.exists());
  return bring(routine);
}

// What it calls first, so that it is found by its name.
Symbol Runtime::bring(Symbol routine) {
  Symbol& known = known_[routine.index];
  if (known.exists()) return known;
  if (!text_->is_function(routine)) {
    known = into_.add_extern_function(text_->symbol_name(routine), *text_->signature(routine));
    return known;
  }
  const Function& f = text_->function(routine);
  for (Block b : f.blocks())
    for (Instruction i : f.instructions(b))
      if (f.op(i) == Op::Call) bring(f.symbol(i));
  Result<Symbol> copied = copy_function(into_, *text_, routine);
  assert(copied.good());
  known = *copied;
  into_[known].is_local = true;
  return known;
}

}  // namespace porphyry::wasm
