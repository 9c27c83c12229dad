// Checks of bounds, as comparisons say them: that a number, widened, plus some bytes is at most a limit.
//
//   v2 = add i32 v1, 8
//   v3 = widen.u i64 v2
//   v4 = add v3, 4
//   v5 = gt.u v4, size          // exceeds: root v1, offset 8, bytes 4, limit size
//
// Sums with constants are looked through, so that checks of one base are told by their offsets. Of a bound
// that holds follow those that lie in it (`implies`).
#pragma once

#include <optional>
#include <vector>

#include "porphyry/analyze/dominators.h"
#include "porphyry/ir/module.h"

namespace porphyry {

// widened (root + offset) + bytes <= limit. The inner sum wraps in the root's width, the outer one does not.
struct Bound {
  Value root;
  Bits offset = 0;
  Bits bytes = 0;
  Value limit;
};

// What bounds are about: integers without lanes, of at most 64 bits.
inline bool can_be_bounded(const Function& f, Value v) {
  return f.type(v).is_integer() && !f.type(v).has_lanes() && f.type(v).bits() <= 64;
}

struct BoundCheck {
  Bound bound;
  bool exceeds = false;  // what the condition says where it is true: that the bound does not hold
  Value wide;            // widened (root + offset): a value that is there
};

// What a condition says, when it is such a comparison: unsigned, of integers without lanes. O(1).
std::optional<BoundCheck> bound_check(const Function& f, Value condition);
// A branch that traps unless a bound holds, and the way on.
struct TrappingCheck {
  BoundCheck check;
  Edge goes_on;
};
std::optional<TrappingCheck> trapping_check(const Function& f, Instruction branch);
// A value as a root and an offset: what constants are added to. O(constants added).
Bound root_of(const Function& f, Value v);

// Numbers that only grow, in places of memory where only such stand (see KindRow::grows), as far as one
// function reads them: loads of a place, and block parameters that bring only such. A bound that was checked
// against one of them holds for each of its place that is read later.
class GrowingLimits {
 public:
  struct Place {
    Value base;
    int64_t offset = 0;
    Bits least = 0, most = 0;  // of all that stand there
    bool operator==(const Place&) const = default;
  };

  // O(instructions + uses of those limits).
  GrowingLimits(const Module& module, const Function& f);

  // Where a limit comes from; null when it is no such number.
  const Place* place(Value limit) const {
    uint32_t at = place_.get(limit);
    return at ? &places_[at - 1] : nullptr;
  }
  bool same_place(Value a, Value b) const { return place_.get(a) && place_.get(a) == place_.get(b); }
  // Whether a limit is never below another one: the same, or of its place and read later on every way. Block
  // parameters are followed to what they bring, as far as the earlier one is above them. O(what is followed).
  bool never_below(const Function& f, const Dominators& dominators, Value later, Value earlier) const;
  // The largest and the smallest that a limit may be. O(1).
  Bits most(const Function& f, Value limit) const;
  Bits least(const Function& f, Value limit) const;

 private:
  void find_loads(const Module& module, const Function& f, std::vector<Value>& found);
  void follow(const Function& f, std::vector<Value> found);

  SideTable<Value, uint32_t> place_;  // by limit, plus one
  std::vector<Place> places_;
};

// Whether `asked` holds where `known` does, but for their limits: the asked sum lies d behind the known one,
// with d + asked.bytes <= known.bytes. Where it wraps it is all the smaller. O(1).
bool implies(const Function& f, const Bound& known, const Bound& asked);

}  // namespace porphyry
