#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

// Puts the book's shorter forms into allocated code where nobody reads the flags that they change. O(n), and
// blocks again where loops change whether flags are read behind them. In code that counts bytes also those for
// which a processor may have to wait.
void take_shorter_forms(Code& f, const Target& target);

}  // namespace porphyry::machine
