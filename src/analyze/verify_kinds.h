// Whether a module's kinds make sense: parents and member kinds that are there, no cycles, members apart from
// one another and inside their record.
#pragma once

#include "porphyry/analyze/verify.h"

namespace porphyry {

void verify_kinds(const Module& module, const Origin& origin, Diagnostics& out);

}  // namespace porphyry
