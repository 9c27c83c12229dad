// The x86-64 target: the tables of x64.book with what a book cannot say: how prefixes, register fields and
// addresses are packed into bytes.
//
// Source: Intel 64 and IA-32 Architectures Software Developer's Manual, volume 2, chapter 2.
#pragma once

#include "porphyry/machine/target.h"

namespace porphyry::targets {

// Constant data; the same for all callers.
const machine::Target& x64();

}  // namespace porphyry::targets
