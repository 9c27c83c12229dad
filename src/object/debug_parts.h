// The parts that make_object puts together.
#pragma once

#include "porphyry/object/object.h"

namespace porphyry::object {

// Where a function lies in the object.
struct PlacedFunction {
  const machine::CompiledFunction* code;
  uint32_t section_symbol;  // of its section, in the object's symbols
  uint64_t offset;          // in its section
};

// .eh_frame: how to find the caller's frame from each instruction.
void add_call_frames(ObjectFile& out, const machine::Target& target,
                     const std::vector<PlacedFunction>& functions);

// .debug_line, and .debug_info with what it refers to: one unit, its functions, their ranges and variables.
void add_lines(ObjectFile& out, const Module& module, const machine::Target& target,
               const std::vector<PlacedFunction>& functions);

// A symbol that stands for the section itself.
uint32_t add_section_symbol(ObjectFile& out, uint32_t section);

}  // namespace porphyry::object
