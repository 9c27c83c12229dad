// What the steps of legalization know beyond the function that they work on.
#pragma once

#include "helpers.h"
#include "porphyry/base/scratch.h"
#include "porphyry/machine/legalize.h"

namespace porphyry::machine {

struct Legalization {
  Module& module;
  const Target& target;
  const Coverage& coverage;
  bool exported;  // names that are not local are reached through words of their address
  Helpers helpers;
  std::vector<Signature> source_signatures;  // by symbol: what the program says, before `passing`
  std::vector<Symbol> address_words;         // see Legalizer
  Scratch scratch;
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
