#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

// Takes moves of a register's low part into itself out of allocated code where nothing stands above that
// part. O(n), and blocks again where loops change what holds at their heads.
void drop_superfluous_extensions(Code& f, const Target& target);

}  // namespace porphyry::machine
