// The instructions on values of 128 bits. In the IR they are lanes of whatever element an instruction works
// on; between instructions of different elements stands `bits`.
#pragma once

#include "stacks.h"
#include "writer.h"

namespace porphyry::wasm {

// Reads one, behind its prefix 0xfd; `code` is what follows that. What it takes from memory must be there.
void read_lanes(In& in, Stacks& stacks, Writer& writer, uint32_t code);
const char* lanes_name(uint32_t code);  // null when there is none
bool lanes_reach_memory(uint32_t code);
// What follows the code of one.
void pass_over_lanes(In& in, uint32_t code);

}  // namespace porphyry::wasm
