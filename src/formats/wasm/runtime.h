// Routines that programs call (runtime.por), added to a module when one is asked for.
#pragma once

#include <string_view>

#include "porphyry/ir/module.h"

namespace porphyry::wasm {

std::string_view runtime_text();

class Runtime {
 public:
  explicit Runtime(Module& into);
  // The routine in the module, with those that it calls itself.
  Symbol operator[](std::string_view name);

 private:
  Symbol bring(Symbol routine);

  Module& into_;
  Realm realm_;
  std::unique_ptr<Module> text_;
  std::vector<Symbol> known_;  // by symbol of text_: the one in the module
};

}  // namespace porphyry::wasm
