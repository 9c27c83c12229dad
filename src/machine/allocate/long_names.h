// Which ranges take registers with long names, in code that counts bytes.
#pragma once

#include "coalesce.h"

namespace porphyry::machine {

// By root: whether it is rather to have one of Upkeep::longer, so that the others are left for ranges
// that would make more instructions longer. `hints`: by root, the physical registers that it is copied from
// or to. O(n log n) in lines and segments; in `work`.
std::pmr::vector<uint8_t> with_long_names(const Code& f, const Target& target, const LiveRanges& ranges,
                                          Coalesced& one, std::span<const RegisterSet> hints,
                                          std::pmr::memory_resource* work);

}  // namespace porphyry::machine
