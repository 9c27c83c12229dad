// The steps of legalization; include/porphyry/machine/legalize.h lists them with their order and purpose.
#pragma once

#include "helpers.h"
#include "porphyry/base/scratch.h"
#include "porphyry/machine/legalize.h"

namespace porphyry::machine {

// What steps know beyond the function.
struct LegalContext {
  Module& module;
  const Target& target;
  const Coverage& coverage;
  Helpers helpers;
  std::vector<Signature> meant;  // by symbol: what the program says, before `passing`
  std::vector<Symbol> address_words;  // see Legalizer
  bool exported = false;
  Scratch scratch;               // for what a step needs while it is at one function
};

void drop_unreachable(Function& f, std::pmr::memory_resource* memory);
void drop_marks(Function& f);
void pass_by_convention(const LegalContext& context, Symbol function);
void choices_to_branches(Module& module, Function& f);
void spans_to_accesses(Module& module, Function& f, Helpers& helpers);
void cut_lanes(Module& module, Function& f, const Coverage& coverage);
void widths_to_words(Module& module, Function& f, Helpers& helpers);
void rewrite_operations(LegalContext& context, Function& f);
void split_critical_edges(Function& f, std::pmr::memory_resource* memory);
void gather_beside_users(Module& module, Function& f);

}  // namespace porphyry::machine
