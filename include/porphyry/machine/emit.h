// From allocated code to bytes: the frame, block layout, shortest forms, branch relaxation, encoding.
#pragma once

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

// One instruction as it stands in the bytes.
struct EmittedLine {
  uint32_t offset = 0;
  uint8_t size = 0;
  PlainInstruction plain;
  uint32_t block = 0;                  // where it stands
  uint32_t target_block = 0xffffffff;  // where it jumps
  uint32_t symbol = 0xffffffff;        // what it calls or addresses
  uint32_t pool = 0xffffffff;
  int64_t symbol_offset = 0;  // bytes behind the symbol
  Role role = Role::Program;
  Instruction origin;
};

struct CompiledFunction {
  std::string name;
  Symbol symbol;
  std::vector<uint8_t> bytes;
  std::vector<Fixup> fixups;
  std::vector<PoolEntry> pool;
  std::vector<EmittedLine> lines;
  struct BlockPlace {
    Block origin;
    uint32_t offset;
    uint8_t depth;
    bool is_target;  // something jumps to it
  };
  std::vector<BlockPlace> blocks;
  std::vector<std::pair<Instruction, Instruction>> covered;  // see select.h
  uint64_t frame_bytes = 0;                                  // below the saved registers
  RegisterMask saved = 0;
};

// Lays out the frame: slots get offsets, addresses in the code become relative to the stack pointer.
void lay_out_frame(Code& f, const Target& target);

CompiledFunction emit(const Code& f, const Target& target);

// An instruction as assembly text. `names` gives the text of labels, symbols and relative addresses, by
// operand.
std::string spell(const Target& target, const PlainInstruction& i, std::span<const std::string> names);

}  // namespace porphyry::machine
