// Who calls the functions of a module, as far as it is seen.
#pragma once

#include <vector>

#include "porphyry/ir/module.h"

namespace porphyry {

class CallSites {
 public:
  // O(instructions + data).
  explicit CallSites(const Module& module);

  // Calls by name. Counted when this was made.
  uint32_t calls_of(Symbol function) const { return calls_[function.index]; }
  // Whether its address is taken, by code or data, so that others may call it.
  bool address_taken(Symbol s) const { return taken_[s.index] != 0; }
  // Whether all its calls are seen: it is local and its address is not taken.
  bool all_seen(const Module& module, Symbol s) const { return module[s].is_local && !address_taken(s); }

 private:
  std::vector<uint32_t> calls_;
  std::vector<uint8_t> taken_;
};

}  // namespace porphyry
