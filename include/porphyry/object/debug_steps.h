// What debuggers and unwinders are told of one function, from instruction to instruction, as plain data:
// objects write it in DWARF, assembly text as directives.
#pragma once

#include "porphyry/machine/emit.h"

namespace porphyry {

// From `offset` on. Registers are numbered as the processor's supplement to DWARF has them.
struct FrameStep {
  enum class Kind : uint8_t {
    Distance,  // the caller's frame is `distance` bytes above the stack pointer
    Saved,     // the register's value for the caller lies `distance` bytes below the caller's frame
    Restored,  // it is in the register again
    Remember,  // all of this is as it will be again at the next Recall
    Recall
  } kind;
  uint32_t offset;
  uint64_t distance = 0;
  unsigned number = 0;
};
// O(lines). At the start the distance is that of the return address.
std::vector<FrameStep> frame_steps(const machine::CompiledFunction& f, const machine::Target& target);

// From `offset` on, code belongs to a place in a source. The first one begins at 0. Instructions without a
// position belong to the one before; what stands before the first position belongs to it.
struct LineStep {
  uint32_t offset, source, line, column;  // the source by the program's own number
  bool ends_prologue;                     // where a debugger stops that wants to stop in the function
};
// O(lines). Empty for a function without positions.
std::vector<LineStep> line_steps(const machine::CompiledFunction& f, const Module& module);

}  // namespace porphyry
