#include "opcodes.h"

#include "in.h"
#include "lanes.h"

namespace porphyry::wasm {
namespace {

using enum ValueType;

constexpr Opcode with_immediates(Opcode is) {
  auto follows = [&](uint8_t numbers, uint8_t bytes = 0) { is.numbers = numbers, is.bytes = bytes; };
  switch (is.way) {
    case Way::Branch:
    case Way::BranchIf:
    case Way::Call:
    case Way::LocalGet:
    case Way::LocalSet:
    case Way::LocalTee:
    case Way::GlobalGet:
    case Way::GlobalSet:
    case Way::TableGet:
    case Way::TableSet:
    case Way::RefFunc:
    case Way::DataDrop:
    case Way::ElemDrop:
    case Way::TableGrow:
    case Way::TableSize:
    case Way::TableFill: follows(1); break;
    case Way::CallIndirect:
    case Way::Load:
    case Way::Store:
    case Way::TableInit:
    case Way::TableCopy: follows(2); break;
    case Way::SelectTyped:
    case Way::MemoryInit: follows(1, 1); break;
    case Way::MemoryCopy: follows(0, 2); break;
    case Way::MemorySize:
    case Way::MemoryGrow:
    case Way::MemoryFill:
    case Way::RefNull: follows(0, 1); break;
    case Way::Const:
      if (is.to == I32 || is.to == I64)
        follows(1);
      else
        follows(0, is.to == F32 ? 4 : 8);
      break;
    default: break;
  }
  return is;
}

consteval std::array<Opcode, 256> plain_table() {
  std::array<Opcode, 256> out{};
#define WASM_OPCODE(code, name, way, from, operands, to, op, bits) \
  out[code] = {name, Way::way, from, operands, to, Op::op, bits};
#define WASM_PREFIXED(...)
#include "opcodes.inc"
#undef WASM_OPCODE
#undef WASM_PREFIXED
  for (Opcode& is : out) is = with_immediates(is);
  return out;
}
consteval std::array<Opcode, 32> prefixed_table() {
  std::array<Opcode, 32> out{};
#define WASM_OPCODE(...)
#define WASM_PREFIXED(code, name, way, from, operands, to, op, bits) \
  out[code] = {name, Way::way, from, operands, to, Op::op, bits};
#include "opcodes.inc"
#undef WASM_OPCODE
#undef WASM_PREFIXED
  for (Opcode& is : out) is = with_immediates(is);
  return out;
}
constexpr auto prefixed = prefixed_table();

const Opcode& at(std::string_view bytes, uint32_t offset) {
  static constexpr Opcode lanes_of_memory{"v128", Way::Load};
  if (offset >= bytes.size()) return plain_opcodes[0xff];
  In in(bytes.substr(offset));
  uint8_t code = in.byte();
  if (code == 0xfd) return lanes_of_memory;  // no other of these traps
  return code == 0xfc ? prefixed_opcode(in.u32()) : opcode(code);
}

}  // namespace

constinit const std::array<Opcode, 256> plain_opcodes = plain_table();

const Opcode& prefixed_opcode(uint32_t code) {
  return code < prefixed.size() ? prefixed[code] : plain_opcodes[0xff];
}

std::string_view instruction_name(std::string_view bytes, uint32_t offset) {
  if (offset < bytes.size() && bytes[offset] == '\xfd') {
    const char* name = lanes_name(In(bytes.substr(offset + 1)).u32());
    return name ? name : "";
  }
  const Opcode& is = at(bytes, offset);
  return is.name ? is.name : "";
}

std::string_view trap_reason(std::string_view bytes, uint32_t offset) {
  const Opcode& is = at(bytes, offset);
  switch (is.way) {
    case Way::Unreachable: return "'unreachable' was reached";
    case Way::Load:
    case Way::Store:
    case Way::MemoryCopy:
    case Way::MemoryFill: return "an access outside of the memory";
    case Way::MemoryInit: return "an access outside of the memory or the data segment";
    case Way::TableGet:
    case Way::TableSet:
    case Way::TableCopy:
    case Way::TableFill: return "an access outside of the table";
    case Way::TableInit: return "an access outside of the table or the element segment";
    case Way::CallIndirect: return "the table has no function of this type there";
    case Way::Truncate: return "the number does not fit the integer";
    case Way::Plain:
      return is.op == Op::DivS ? "a division by zero, or with a quotient that does not fit"
                               : "a division by zero";
    default: return "a trap";
  }
}

}  // namespace porphyry::wasm
