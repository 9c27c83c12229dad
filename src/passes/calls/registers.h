// Which calls take no room on any stack, whatever the target.
#pragma once

#include <span>

#include "porphyry/ir/type.h"

namespace porphyry {

// Whether arguments of these types lie in registers alone. A call that leaves no frame may only pass as much
// on the stack as its caller was passed; what is sure to fit is that which needs none.
inline bool fits_registers(std::span<const Type> arguments) {
  unsigned whole = 0, floats = 0;
  for (Type t : arguments) {
    if (t.has_lanes() || t.total_bits() > 64) return false;
    ++(t.is_float() ? floats : whole);
  }
  return whole <= 4 && floats <= 4;
}

}  // namespace porphyry
