// How often a loop goes on, as operations in front of it.
#pragma once

#include "porphyry/analyze/rounds.h"
#include "porphyry/ir/pen.h"

namespace porphyry {

// What the operations would cost, in plain instructions.
unsigned cost_of_stays(const Function& f, const Rounds& rounds);
// How often the branch stays, as a value of the type that is compared. The pen stands in front of the loop.
Value write_stays(Pen& pen, const Rounds& rounds);

}  // namespace porphyry
