// Blocks that allocation has left with nothing to do.
#pragma once

#include "porphyry/machine/code.h"

namespace porphyry::machine {

// A copy from a register to itself, of which nothing is written.
inline bool is_no_copy(const Code& f, const CodeLine& i) {
  return i.form == copy_form && f.of(i)[0].reg == f.of(i)[1].reg;
}

// Whether a block ends by a jump to its only successor.
inline bool goes_on(const Code& f, const CodeBlock& b, const Target& target) {
  return b.table == none && b.successors.size() == 1 && b.count > 0 &&
         f.code[b.first + b.count - 1].form == target.upkeep.jump;
}
// Whether it does nothing else.
inline bool only_goes_on(const Code& f, const CodeBlock& b, const Target& target) {
  bool only = goes_on(f, b, target);
  for (uint32_t k = b.first; only && k + 1 < b.first + b.count; ++k) only = is_no_copy(f, f.code[k]);
  return only;
}

}  // namespace porphyry::machine
