// Whether checks of bounds always hold, by what is checked on the ways to them, in their own function, in its
// callers, and in functions that were called before.
//
//   BoundProofs proofs(module);
//   if (auto check = bound_check(f, condition); check && proofs.of(symbol, branch, check->bound)) …
//
// R. Bodik, R. Gupta, V. Sarkar, "ABCD: Eliminating Array Bounds Checks on Demand" (2000): from the place
// that asks backwards, until every way has met a check that implies the bound. A block parameter asks for
// what each edge brings, a parameter for the arguments of all calls, when all are seen; a call gives what its
// function has checked of its arguments and results wherever it returns. A loop's value that is asked for
// again while it is asked for holds: that rests on an earlier round. An answer is of the module as it is; a
// bound that holds is never met otherwise, so all checks that are proved may go together.
#pragma once

#include <memory>
#include <optional>

#include "porphyry/analyze/bounds.h"
#include "porphyry/analyze/call_sites.h"

namespace porphyry {

// What proves a bound, of a number that…
enum class BoundProof : uint8_t {
  Small,    // … is small enough by what it is made of
  Above,    // … something checks that every way to the place passes
  Call,     // … was given to a function, or came from one, which has checked it
  Callers,  // … all callers give, having checked it
  Brought,  // … edges bring, each having checked it
  Picked,   // … is one of two that are checked
  Ways,     // … is checked on each way to the place by something else
};

class BoundProofs {
 public:
  // O(instructions). The module must stay as it is while this is asked.
  explicit BoundProofs(const Module& module);
  ~BoundProofs();

  // What proves that a bound holds whenever an instruction of a function is reached; nothing when it is not
  // proved. At most `budget` blocks and questions are looked at.
  std::optional<BoundProof> of(Symbol function, Instruction at, const Bound& bound);
  static constexpr size_t budget = 20'000;

 private:
  class Prover;
  std::unique_ptr<Prover> prover_;
};

}  // namespace porphyry
