// Whether a module keeps the rules of the IR: block ends, argument counts, types, dominance. All mistakes at
// once, each with its place in the source or, for a module that was built, the printed instruction.
// Near-linear in the size, whatever the module holds; nothing but a module of one realm is assumed.
#pragma once

#include <memory>

#include "porphyry/base/source_text.h"
#include "porphyry/ir/module.h"
#include "porphyry/ir/places.h"

namespace porphyry {

// Where a module came from.
struct Origin {
  const SourceText* source = nullptr;  // with `places`: messages point there
  const PlaceMap* places = nullptr;
  // Whether a reader has asked already what concerns an instruction alone: its operands and their types, what
  // belongs to it, its targets.
  bool checked_by_reader = false;
};

Diagnostics verify(const Module& module, const Origin& origin = {});
Diagnostics verify(const Module& module, Symbol function, const Origin& origin = {});

// The same in parts, for a reader: each function while it is at hand. The module must outlive this.
class Verification {
 public:
  explicit Verification(const Module& module);
  ~Verification();
  void function(Symbol symbol, const Origin& origin);
  // After the last one: all that was found, what concerns the module first.
  Diagnostics finish(const Origin& origin);

 private:
  struct Tables;  // memory that each function uses again
  const Module& module_;
  std::unique_ptr<Tables> tables_;
  Diagnostics found_;
};

}  // namespace porphyry
