// Small changes of functions that many passes make.
#pragma once

#include "porphyry/ir/function.h"

namespace porphyry {

// Which of its ways a `when` or `choose` takes for a number. O(cases).
size_t way_of(const Function& f, Instruction branch, Bits number);

// The branch that an edge leaves becomes a `go` along it. The edge's handle is gone; what the other ways lead
// to may be unreachable.
void always_take(Function& f, Edge way);

// Whether permits for floats say something of an instruction.
bool touches_floats(const Function& f, Instruction i);

// A constant from the bits of its lanes, lane 0 first; one of a scalar from its only ones.
Value constant_from(Function& f, Type type, std::span<const Bits> lanes);

// Gives a value's name to the one that takes its place: a result that has none.
void hand_name_over(Function& f, Value from, Value to);

}  // namespace porphyry
