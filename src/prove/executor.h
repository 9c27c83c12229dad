// One form of a function on terms: what it comes to for every input.
#pragma once

#include <chrono>
#include <map>
#include <optional>
#include <string>

#include "porphyry/ir/module.h"
#include "porphyry/prove/promises.h"

namespace porphyry::prove {

using Term = Algebra::Term;
using Terms = Algebra::Terms;

// Something that terms do not follow; the text says what.
struct NotFollowed {
  std::string what;
};

// Memory in parts that do not touch: what callers see, by address, and each frame object, by offset; and all
// that was said to functions outside so far.
struct SymbolicMemory {
  Term outside, told;
  std::vector<Term> frames;
};

// A value: its bits, and of pointers into a frame object which one.
struct SymbolicValue {
  Term bits;
  int frame = -1;
};

struct SymbolicOutcome {
  Term traps, breaks, exceeds;  // conditions: a trap; a broken promise; more rounds than are followed
  Term told_at_trap;
  Terms results;  // where none of these hold
  SymbolicMemory memory;
};

struct ExecutorLimits {
  unsigned rounds = 4;
  size_t most_steps = 4'000;
  std::chrono::steady_clock::time_point end = std::chrono::steady_clock::time_point::max();
};

// Runs a function of a module with arguments, from a memory. Both forms of a program share the algebra, and
// with it what is unknown: functions outside, addresses of data. Throws NotFollowed. O(operations of all
// rounds and calls).
SymbolicOutcome execute(Algebra& algebra, z3::context& context, const Module& module, Symbol function,
                        const std::vector<SymbolicValue>& arguments, const SymbolicMemory& memory,
                        const ExecutorLimits& limits);

// The address of a symbol, the same in every form.
Term address_of(z3::context& context, const Module& module, Symbol symbol);

}  // namespace porphyry::prove
