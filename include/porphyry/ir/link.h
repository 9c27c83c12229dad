// Functions between modules and realms, and two modules made one.
#pragma once

#include "porphyry/base/diagnostics.h"
#include "porphyry/ir/module.h"

namespace porphyry {

// Puts all of `other` into `into`, which may live in another realm: names are interned anew, positions,
// sources and kinds find their counterparts or are added.
//
// What one module has and the other declares external become one. A local symbol whose name is taken gets
// another. A weak one gives way to one that is not; of two weak ones the first stays. What does not go
// together is told, all at once, and `into` is left as it was: two symbols of one name, an external
// declaration that does not match, kinds of one name laid out differently, other layouts of memory. O(size of
// both).
Diagnostics link(Module& into, const Module& other);

// Copies one function, without what it refers to: other symbols are found by name or declared external.
// Problems as in `link`. O(size of the function + symbols).
Result<Symbol> copy_function(Module& into, const Module& from, Symbol function);

// A name for a symbol that the module has not got yet: the one wanted, or that with a number.
std::string free_name(const Module& module, std::string_view wanted);

}  // namespace porphyry
