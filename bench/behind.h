// Why a kernel is behind the host compiler's: what both do in their innermost loops, counted in the listings.
#pragma once

#include <string>

#include "porphyry/machine/listing.h"

namespace porphyry::bench {

// One line: instructions of the innermost loops, and each sort of them of which there is a different number.
std::string counted_beside(const machine::FunctionListing& ours, const machine::FunctionListing& theirs);

}  // namespace porphyry::bench
