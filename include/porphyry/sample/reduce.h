// Makes a program smaller that shows a fault, for as long as it shows it.
//
//   auto small = reduce(*program.module, program.main, [&](const Module& m) { return !agree(m); });
//   ADD_FAILURE() << write_text(*small);
#pragma once

#include <functional>
#include <memory>

#include "porphyry/ir/module.h"

namespace porphyry {

// Whether a program, which is verified, shows the fault. With several threads it is called on all of them.
using ShowsFault = std::function<bool(const Module&)>;

struct ReduceOptions {
  size_t most_attempts = 4000;  // calls of `shows`
  unsigned threads = 1;         // the result does not depend on it, unless attempts run out
  // Told after each attempt, on the calling thread: how many there were, and how many instructions (of
  // `reduce`) or lines (of `reduce_text`) are left.
  std::function<void(size_t attempts, size_t left)> progress = {};
};

// A copy that still `shows` what the module shows, from which nothing more can be taken: calls of other
// functions, branches, instructions (their results become zeros), block parameters, jumps between blocks.
// What is tried is verified before `shows` sees it. The signature of `keep` stays, and so does its body where
// nothing else was named. Handles mean in the copy what they meant in the module. The module itself must show
// it. O(attempts * (size + shows)); about the instructions times the log of their number in attempts.
std::unique_ptr<Module> reduce(const Module& module, Symbol keep, const ShowsFault& shows,
                               const ReduceOptions& options = {});

// The same on a module's text: functions, data and other items go, then single lines, for as long as what is
// left can be read. The text must be a module's that shows it.
std::string reduce_text(std::string text, const ShowsFault& shows, const ReduceOptions& options = {});

}  // namespace porphyry
