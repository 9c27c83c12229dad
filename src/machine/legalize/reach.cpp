// reach: removes unreachable blocks, so that nothing is lowered that never runs. O(instructions + edges).
#include "porphyry/ir/order.h"
#include "state.h"

namespace porphyry::machine::legal {

void reach(FunctionContext& c) { remove_unreachable_blocks(c.function, fresh_scratch(c)); }

}  // namespace porphyry::machine::legal
