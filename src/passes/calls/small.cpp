// small: says of each function that it is to be kept small, as if the source had. Passes that weigh time
// against size then take size.
#include "porphyry/optimize/pass.h"

namespace porphyry {

void small(FunctionContext& c) {
  if (std::exchange(c.module[c.symbol].facts.keep_small, true)) return;
  c.done({}, "", "is to be kept small", "the level asks for it");
}

}  // namespace porphyry
