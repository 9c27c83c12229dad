// Brings a function into what a book's rules cover, in the IR itself, so that the evaluator can check it:
// narrow operations are extended, missing ones rewritten or made calls of helpers, addresses brought into the
// machine's form, critical edges split, comparisons and addresses brought beside their users.
#pragma once

#include "porphyry/base/diagnostics.h"
#include "porphyry/ir/module.h"
#include "porphyry/machine/target.h"

namespace porphyry::machine {

// Which operations a book's rules compute from registers, for a set of features.
class Coverage {
 public:
  Coverage(const Target& target, uint8_t features);
  bool covers(Op op, Type operand, Type result) const;

 private:
  struct Row {
    Type operand, result;
  };
  std::vector<std::vector<Row>> rows_;  // by operation
};

// What a type is carried as in a register: bool as i8, ptr as i64.
Type carrier(Type t);

// The module may get external helper functions; a problem is one whose name the module uses for something
// else, and the module is not to be lowered then. O(instructions added).
Diagnostics legalize(Module& module, Symbol function, const Target& target, const Coverage& coverage);

// The steps, in the order `legalize` takes them.
void split_critical_edges(Function& function);
Diagnostics rewrite_operations(Module& module, Symbol function, const Target& target,
                               const Coverage& coverage);
void gather_beside_users(Module& module, Function& function);

}  // namespace porphyry::machine
