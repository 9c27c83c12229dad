// Which values are wanted where: at the start of each block those that are defined above and used in it or
// behind it.
#pragma once

#include "porphyry/ir/function.h"

namespace porphyry {

class Liveness {
 public:
  static constexpr const char* name = "liveness";

  // Each use is followed up to its definition: in SSA form no other block can end that way. Constants are
  // live nowhere. O(size of the result + uses).
  explicit Liveness(const Function& function);

  // Without the block's own parameters; in the order of their handles. An edge's argument is used at the end
  // of the block that it leaves.
  std::span<const Value> at_start(Block b) const { return at_start_[b.index]; }
  bool is_live_at_start(Block b, Value v) const;
  bool operator==(const Liveness&) const = default;

 private:
  std::vector<std::vector<Value>> at_start_;
};

}  // namespace porphyry
