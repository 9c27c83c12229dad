// From allocated code to bytes: the frame, block layout, shortest forms, branch relaxation, encoding.
#pragma once

#include <array>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "porphyry/machine/allocate.h"
#include "porphyry/machine/watched.h"

namespace porphyry::machine {

// A place in the bytes that is only known when things have addresses: of what is meant, plus `addend`, or the
// distance from the place to that.
struct Fixup {
  enum class To : uint8_t { Symbol, Pool } to;
  uint8_t kind;  // row of Target::fixups
  uint32_t offset;
  uint32_t index;  // symbol of the module, or row of the function's constants
  int64_t addend;
};

// One instruction as it stands in the bytes; `instruction_at` tells which.
struct EmittedLine {
  enum class To : uint8_t { Nothing, Block, Symbol, Pool, Here };  // Here: the line itself
  uint32_t offset = 0;
  Instruction origin;
  uint32_t index = 0;      // of the block it jumps to, the symbol or constant it addresses
  int32_t addend = 0;      // bytes behind the symbol, or the line
  uint32_t row = no_row;   // of the allocated code
  Position position = {};  // of the origin
  static constexpr uint32_t no_row = 0xffffffff;
  uint8_t size = 0;
  Role role = Role::Program;
  To to = To::Nothing;
};

// Processors take instructions in lines, of 32 bytes for example. A loop that begins at a fixed place in one
// takes the same time wherever its function lies; and some decode a jump, with the comparison before it, anew
// each time where that crosses a line ("Mitigations for Jump Conditional Code Erratum", Intel, 2019). So
// inner loops begin at multiples of Target::alignment.function: of two that follow each other, the one from
// which fewer of the loop's jumps cross lines. Those that still do, and such jumps of the loops around it, are
// moved to the next line by an instruction that does nothing.

struct CompiledFunction {
  std::string name;
  Symbol symbol;
  std::vector<uint8_t> bytes;
  std::vector<Fixup> fixups;
  // The function's constants: the pool's entries, and behind them its jump tables, numbered on. A table is a
  // row of blocks; in memory each is a number of four bytes, how far its block lies from the table's start.
  std::vector<PoolEntry> pool;
  std::vector<std::vector<uint32_t>> tables;
  std::vector<EmittedLine> lines;  // in order of offset
  struct BlockPlace {
    Block origin;
    uint32_t offset;
    uint8_t depth;
    bool is_target;  // something jumps to it
    uint8_t align;   // padding before it leads to the next multiple of this; 1: just as far as it does
    bool framed;     // the frame stands where it begins
    uint32_t copy;   // this and the next as in CodeBlock
    float frequency;
  };
  std::vector<BlockPlace> blocks;  // the first line of each is the first at its offset or behind it
  uint32_t end_of_block(size_t b) const {
    return b + 1 < blocks.size() ? blocks[b + 1].offset : static_cast<uint32_t>(bytes.size());
  }
  std::vector<std::pair<Instruction, Instruction>> covered;  // see select.h
  std::vector<VariableFact> variables;          // where debuggers find them, when that was asked for
  std::shared_ptr<const Allocation> explained;  // what was allocated, when that was asked for
  uint32_t align = 16;                          // the code begins at a multiple of it
  uint64_t frame_bytes = 0;                     // below the saved registers
  RegisterSet saved;
};

// Where a function's constants lie in a piece of memory that begins at a multiple of 16, and behind them the
// size of all.
std::vector<size_t> constant_places(const CompiledFunction& f);
// Writes them; constant k lies at `memory + places[k]`, and the function's code begins at `code`.
void put_constants(const CompiledFunction& f, std::span<const size_t> places, ByteOrder order,
                   const uint8_t* code, uint8_t* memory);

// What a frame may take, so that each of its bytes is reached by an offset of 32 bits.
inline constexpr uint64_t most_frame_bytes = (uint64_t(1) << 31) - (uint64_t(1) << 22);

// Lays out the frame: slots get offsets, addresses in the code become relative to the stack pointer. A frame
// that is too large is a diagnostic, and the code is not to be emitted then.
Diagnostics lay_out_frame(Code& f, const Target& target);

struct EmitOptions {
  bool align_loops = false;  // inner loops and their jumps, see above
  bool late_frame = false;   // the frame is set up behind branches to ways out that need none
};
CompiledFunction emit(const Code& f, const Target& target, EmitOptions options = {});

// The first form of an instruction's group that holds its literals and registers.
FormIndex fitting_form(const Target& target, const PlainInstruction& plain);
// Which operand is a label.
std::optional<size_t> label_operand(const Form& form);

// The instruction of a line, from its bytes.
PlainInstruction instruction_at(const Target& target, const CompiledFunction& f, const EmittedLine& line);

// An instruction as assembly text. A name stands for a label or symbol, for the distance of a relative
// address, for the offset of another address and for a literal; an operand with none is spelled by its
// numbers.
using OperandNames = std::array<std::string, 4>;
std::string spell(const Target& target, const PlainInstruction& i, const OperandNames& names = {});
// With one name, for the operand that is a label, a symbol or a relative address.
std::string spell(const Target& target, const PlainInstruction& i, const std::string& name);

}  // namespace porphyry::machine
