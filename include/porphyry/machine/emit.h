// From allocated code to bytes: the frame, block layout, shortest forms, branch relaxation, encoding.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "porphyry/machine/allocate.h"

namespace porphyry::machine {

// A place in the bytes that is only known when things have addresses: four bytes, relative to their own end
// plus `addend`.
struct Fixup {
  enum class To : uint8_t { Symbol, Pool } to;
  uint32_t offset;
  uint32_t index;  // symbol of the module, or row of the function's pool
  int64_t addend;  // added to (address of what is meant - address of the four bytes)
};

// One instruction as it stands in the bytes; `instruction_at` tells which.
struct EmittedLine {
  enum class To : uint8_t { Nothing, Block, Symbol, Pool };
  uint32_t offset = 0;
  Instruction origin;
  uint32_t index = 0;      // of the block it jumps to, the symbol or pool entry it addresses
  int32_t addend = 0;      // bytes behind the symbol
  uint32_t row = no_row;   // of the allocated code
  Position position = {};  // of the origin
  static constexpr uint32_t no_row = 0xffffffff;
  uint8_t size = 0;
  Role role = Role::Program;
  To to = To::Nothing;
};

struct CompiledFunction {
  std::string name;
  Symbol symbol;
  std::vector<uint8_t> bytes;
  std::vector<Fixup> fixups;
  std::vector<PoolEntry> pool;
  std::vector<EmittedLine> lines;  // in order of offset
  struct BlockPlace {
    Block origin;
    uint32_t offset;
    uint8_t depth;
    bool is_target;  // something jumps to it
  };
  std::vector<BlockPlace> blocks;  // the first line of each is the first at its offset or behind it
  uint32_t end_of_block(size_t b) const {
    return b + 1 < blocks.size() ? blocks[b + 1].offset : static_cast<uint32_t>(bytes.size());
  }
  std::vector<std::pair<Instruction, Instruction>> covered;  // see select.h
  std::shared_ptr<const Allocation> explained;               // what was allocated, when that was asked for
  uint64_t frame_bytes = 0;                                  // below the saved registers
  RegisterMask saved = 0;
};

// Lays out the frame: slots get offsets, addresses in the code become relative to the stack pointer.
void lay_out_frame(Code& f, const Target& target);

CompiledFunction emit(const Code& f, const Target& target);

// The instruction of a line, from its bytes.
PlainInstruction instruction_at(const Target& target, const CompiledFunction& f, const EmittedLine& line);

// An instruction as assembly text. `names` gives the text of labels, symbols and relative addresses, by
// operand.
std::string spell(const Target& target, const PlainInstruction& i, std::span<const std::string> names);

}  // namespace porphyry::machine
