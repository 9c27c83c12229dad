// The type rules of operations, in one place for the reader and the verifier.
#pragma once

#include <optional>
#include <span>
#include <string>

#include "porphyry/ir/operations.h"

namespace porphyry {

struct TypingProblem {
  int operand = -1;  // which operand is wrong; -1: the instruction as a whole
  std::string message;
  std::string expected;
};

// Checks operand types and the result type of one instruction other than a call, a return or an edge's
// arguments, whose types come from elsewhere. `result` is the stated or present result type, if any.
std::optional<TypingProblem> typing_problem(Op op, std::span<const Type> operands,
                                            std::optional<Type> result);

// "an integer or a float", for an operation's operands.
std::string accepted_shapes(Op op);

}  // namespace porphyry
