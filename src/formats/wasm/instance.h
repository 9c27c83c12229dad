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

// A name that the module has not got yet: `name`, or that with a number.
std::string fresh_name(const Module& module, std::string_view name);

}  // namespace porphyry::wasm
