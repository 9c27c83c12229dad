// Whole values as the parts that a legalized function takes, for running one on the evaluator.
#pragma once

#include "porphyry/eval/evaluator.h"
#include "porphyry/machine/passing.h"

namespace porphyry::machine {

// Arguments as the evaluator takes them (a datum a lane) in the parts that a legalized function takes.
// `results_address` is where results go that go through memory. O(bits).
std::vector<Datum> arguments_in_parts(const PassingRules& rules, const Passing& way,
                                      const Signature& signature, std::span<const Datum> arguments,
                                      Datum results_address);
// And back: results from the parts that came back, or from the memory that they went to.
std::vector<Datum> results_from_parts(const PassingRules& rules, const Passing& way,
                                      const Signature& signature, std::span<const Datum> parts,
                                      std::span<const uint8_t> memory, ByteOrder order);

}  // namespace porphyry::machine
