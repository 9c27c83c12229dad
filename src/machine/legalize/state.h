// What the steps of legalization know beyond the function that they work on.
#pragma once

#include "helpers.h"
#include "porphyry/base/scratch.h"
#include "porphyry/ir/pen.h"
#include "porphyry/machine/legalize.h"

namespace porphyry::machine {

// Where variables change, from step to step.
struct Watches {
  struct Mark {
    Instruction at;  // a `watch` of the function
    Watched variable;
    std::optional<uint32_t> parameter;  // it has this one's value
    bool of_operand;                    // it has the operand's value
  };
  Variables how = Variables::Ignored;
  std::vector<Mark> marks;     // of the function at hand
  std::vector<Watched> found;  // what became of them
  void begin() { marks.clear(), found.clear(); }
  // Puts a `watch` that stands for this.
  void mark(Pen& pen, const Watched& variable, std::optional<uint32_t> parameter);
};

struct Legalization {
  Module& module;
  const Target& target;
  const Coverage& coverage;
  bool exported;  // names that are not local are reached through words of their address
  Helpers helpers;
  std::vector<Signature> source_signatures;  // by symbol: what the program says, before `passing`
  std::vector<Symbol> address_words;         // see Legalizer
  Scratch scratch;
  Watches watches;
};

// Notes the signatures of symbols that have come since it was last called, helpers among them.
void note_signatures(Legalization& s);

inline Legalization& state(FunctionContext& c) { return c.surroundings<Legalization>(); }

// Memory for what a step needs while it is at one function; what a step before put there is gone.
inline std::pmr::memory_resource* fresh_scratch(FunctionContext& c) {
  Scratch& out = state(c).scratch;
  out.reset();
  return &out;
}

}  // namespace porphyry::machine
