// What an instance looks like in memory, and the functions that fill one and give back what it holds.
#pragma once

#include "runtime.h"
#include "sections.h"
#include "writer.h"

namespace porphyry::wasm {

// Gives everything its place. O(functions + globals + …).
void lay_out(Sections& sections);
// The data of segments, as items of the module.
void add_segments(Sections& sections, Module& module);
// Program::set_up and tear_down.
void add_set_up(Sections& sections, const Context& context, Runtime& runtime);

}  // namespace porphyry::wasm
