// Whether checks of bounds always hold, by what is checked on the ways to them, in their own function, in its
// callers, and in functions that were called before.
//
//   BoundProofs proofs(module);
//   if (auto check = bound_check(f, condition); check && proofs.hold(symbol, branch, check->bound)) …
//
// R. Bodik, R. Gupta, V. Sarkar, "ABCD: Eliminating Array Bounds Checks on Demand" (2000): from the place
// that asks backwards, until every way has met a check that implies the bound. A block parameter asks for
// what each edge brings, a parameter for the arguments of all calls, when all are seen; a call gives what its
// function has checked of its arguments and results wherever it returns. What is asked again while it is
// asked for holds: whatever it rests on lies before it. An answer is of the module as it is; a bound that
// holds is never met otherwise, so all checks that are proved may go together.
#pragma once

#include <memory>
#include <unordered_map>

#include "porphyry/analyze/bounds.h"
#include "porphyry/analyze/call_sites.h"

namespace porphyry {

class BoundProofs {
 public:
  // O(instructions). The module must stay as it is while this is asked.
  explicit BoundProofs(const Module& module);
  ~BoundProofs();

  // Whether a bound holds whenever an instruction of a function is reached. At most `budget` blocks are
  // walked; nothing is proved beyond.
  bool hold(Symbol function, Instruction at, const Bound& bound);
  static constexpr size_t budget = 20000;

 private:
  class Prover;
  std::unique_ptr<Prover> prover_;
};

}  // namespace porphyry
