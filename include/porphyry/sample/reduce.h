// Makes a program smaller that shows a fault, for as long as it shows it.
//
//   auto small = reduce(*program.module, program.main, [&](const Module& m) { return !agree(m); });
//   ADD_FAILURE() << write_text(*small);
#pragma once

#include <functional>
#include <memory>

#include "porphyry/ir/module.h"

namespace porphyry {

struct ReduceOptions {
  size_t most_attempts = 4000;  // calls of `shows`
};

// A copy that still `shows` what the module shows, from which nothing more can be taken: calls of other
// functions, branches, instructions (their results become zeros). What is tried is verified before `shows`
// sees it. The signature of `keep` stays. Handles mean in the copy what they meant in the module. The module
// itself must show it. O(attempts * (size + shows)); about the instructions times the log of their number in
// attempts.
std::unique_ptr<Module> reduce(const Module& module, Symbol keep,
                               const std::function<bool(const Module&)>& shows,
                               const ReduceOptions& options = {});

}  // namespace porphyry
