// Every plain operation on a type, a function each: what tests and the check of a book go over.
#pragma once

#include <memory>
#include <span>
#include <vector>

#include "porphyry/ir/module.h"

namespace porphyry {

struct OperationCase {
  Op op;
  std::vector<Type> operands;
  Type stated;  // of the result, where the operation states it
};

// All that takes the type, an integer or a float, scalar or in lanes; conversions go to and from `other` and
// floats.
std::vector<OperationCase> operation_cases(Type t, Type other);

// A module of functions f0, f1, …: parameters in, the operation, its results out. With `constant`, that
// operand is a constant instead, where the operation leaves one to choose.
std::unique_ptr<Module> module_of_cases(Realm& realm, std::span<const OperationCase> all, int constant = -1);

}  // namespace porphyry
