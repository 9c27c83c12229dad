// The figures of a function's code as JSON.
#pragma once

#include "json.h"
#include "porphyry/machine/listing.h"

namespace porphyry {

inline Json totals_json(const machine::FunctionListing::Totals& t) {
  return {{"instructions", t.instructions},
          {"bytes", t.bytes},
          {"calls", t.calls},
          {"branches", t.branches},
          {"loads", t.loads},
          {"stores", t.stores},
          {"moves", t.moves},
          {"spills", t.spills},
          {"reloads", t.reloads},
          {"spilled_in_loops", t.spilled_in_loops}};
}

}  // namespace porphyry
