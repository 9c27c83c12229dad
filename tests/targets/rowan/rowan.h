// A made-up target for the simulator alone; see rowan.book and docs/new-target.md.
#pragma once

#include "porphyry/machine/target.h"

namespace porphyry::targets {

const machine::Target& rowan();
machine::Book rowan_tables();  // written by the bookbinder

}  // namespace porphyry::targets
