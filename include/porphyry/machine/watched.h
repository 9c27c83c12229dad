// What debuggers are told of variables: which value of the program a variable has from where on, and where
// that lies while the code runs.
//
// `watch total = next` says the first; parameters with names are variables from the start. Followed, a
// variable is where its value happens to be: in a register, in the frame, a constant, or gone where nothing
// wants it any more. Observed, each variable has a place of its own in the frame, which is written where it
// is watched, so that it can be read until the function returns.
#pragma once

#include <compare>
#include <cstdint>
#include <utility>
#include <vector>

#include "porphyry/ir/module.h"

namespace porphyry::machine {

enum class Variables : uint8_t { Ignored, Followed, Observed };

// The function's own code, or the call at which another's body was put in its place.
struct InlineScope {
  Position call;  // nothing: the function itself
  Name function;  // nothing: it is not known whose body it is
  static InlineScope of(const Module& module, Position p) {
    if (!p.exists() || !module.position(p).inlined_at.exists()) return {};
    return {module.position(p).inlined_at, module.position(p).inlined};
  }
  auto operator<=>(const InlineScope& o) const {
    return std::pair(call.index, function.index) <=> std::pair(o.call.index, o.function.index);
  }
  bool operator==(const InlineScope&) const = default;
};

// One `watch` of a legal function, or a parameter at its start.
struct Watched {
  Name name;
  Type type;  // as the program had it
  bool is_parameter = false;
  InlineScope scope = {};
  Value value;         // of the legal function; nothing: it is gone from here on, or in a slot
  Instruction slot;    // observed: what reserves it
  Instruction before;  // it counts from the end of what stands before this one
};

// A variable of a function that was compiled.
struct VariableFact {
  enum class Where : uint8_t { Register, Frame, Constant };
  // From code offset `from` up to `to`, which does not belong to it.
  struct Stay {
    uint32_t from, to;
    Where where;
    int64_t
        place;  // Register: physical. Frame: from the caller's frame, downwards negative. Constant: its bits
    bool operator==(const Stay&) const = default;
  };
  Name name;
  Type type;
  bool is_parameter = false;
  InlineScope scope = {};
  std::vector<Stay> stays;  // in order, without overlap; it is gone elsewhere
};

}  // namespace porphyry::machine
