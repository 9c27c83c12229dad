// A function's body in place of a call.
#pragma once

#include "porphyry/ir/module.h"

namespace porphyry {

// Puts a copy of the callee's body where `caller` calls it by name; the call is gone. Results become parameters
// of a new block behind the copy, which returns go to; of a `return call` the copy's returns stay. Positions
// say where they were inlined; instructions keep the permits of their function; a `sole` parameter is sole
// between the copy's start and its ends. The callee must have a body, another than the caller's. Edges and
// blocks change. O(size of the body).
void splice_call(Module& module, Symbol caller, Instruction call);
// The same with the body as it was when it was copied, which may be the caller's own.
void splice_call(Module& module, Symbol caller, Instruction call, const Function& body);

// Moves what a function permits as a whole to its instructions on floats. O(instructions).
void spread_permits(Module& module, Symbol function);

}  // namespace porphyry
