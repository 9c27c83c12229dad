// The standard's instructions as a table.
#pragma once

#include <array>

#include "porphyry/formats/wasm.h"

namespace porphyry::wasm {

// How an instruction is read and what it becomes.
enum class Way : uint8_t {
  None,  // there is no such instruction
  Unreachable,
  Nop,
  Block,
  Loop,
  If,
  Else,
  End,
  Branch,
  BranchIf,
  BranchByTable,
  Return,
  Call,
  CallIndirect,
  Drop,
  Select,
  SelectTyped,
  LocalGet,
  LocalSet,
  LocalTee,
  GlobalGet,
  GlobalSet,
  TableGet,
  TableSet,
  TableInit,
  ElemDrop,
  TableCopy,
  TableGrow,
  TableSize,
  TableFill,
  Load,
  Store,
  MemorySize,
  MemoryGrow,
  MemoryInit,
  DataDrop,
  MemoryCopy,
  MemoryFill,
  Const,
  Plain,     // the operation of all operands
  Test,      // the operation with zero, a truth
  Compare,   // a truth
  Convert,   // to the result's type
  Truncate,  // to an integer, with a trap where it does not fit
  Extend,    // the sign of the low bits
  RefNull,
  RefIsNull,
  RefFunc
};

struct Opcode {
  const char* name = nullptr;
  Way way = Way::None;
  ValueType from = ValueType::Unknown;  // of operands
  uint8_t operands = 0;
  ValueType to = ValueType::Unknown;  // of the result
  Op op = Op::Trap;
  uint8_t bits = 0;  // in memory, or of a narrower number
  // What follows its code, but for blocks and branches by table: numbers in LEB128, then bytes.
  uint8_t numbers = 0, bytes = 0;
};

extern const std::array<Opcode, 256> plain_opcodes;
inline const Opcode& opcode(uint8_t code) { return plain_opcodes[code]; }
const Opcode& prefixed_opcode(uint32_t code);  // behind 0xfc

}  // namespace porphyry::wasm
