// Whether a function means the same in two forms of a module, for all inputs.
//
//   Proof p = prove_same(*before, *after, "checksum", {});
//   if (p.verdict == Proof::Verdict::Different) fmt::format("{}: {}", p.call->text(), p.deviation);
//
// Both forms are run on terms: results, memory, traps, calls of functions outside, promises (one that the
// first form breaks permits everything; one that only the second breaks is a difference). A solver (Z3) looks
// for an input for which the second may not stand for the first. What it names is run before it is believed.
// J. King, "Symbolic Execution and Program Testing", 1976; A. Biere and others, "Bounded Model Checking",
// 2003.
#pragma once

#include <optional>
#include <string>

#include "porphyry/ask/inputs.h"

namespace porphyry {

struct ProofOptions {
  unsigned rounds = 4;        // of loops, all together, that a run may take; longer runs are left out
  double seconds = 10;        // for following both forms, and again for the solver
  size_t most_steps = 4'000;  // operations of a form, all rounds and calls together
};

struct Proof {
  enum class Verdict : uint8_t { Same, Different, Unknown } verdict = Verdict::Unknown;
  std::string why;                  // of Unknown: what is not followed, or that the solver gave up
  bool bounded = false;             // of Same: only for runs of at most so many rounds
  bool apart = false;               // of Same: only where pointers and data do not lead to common bytes
  std::optional<WrittenCall> call;  // of Different: an input that shows it
  std::string deviation;
  double seconds = 0;
};

// A function of both modules, with one signature.
Proof prove_same(const Module& before, const Module& after, std::string_view function,
                 const ProofOptions& options = {});

}  // namespace porphyry
