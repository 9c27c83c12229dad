#include "opcodes.h"

#include "in.h"
#include "lanes.h"

namespace porphyry::wasm {
namespace {

using enum ValueType;

consteval std::array<Opcode, 256> plain_table() {
  std::array<Opcode, 256> out{};
#define WASM_OPCODE(code, name, way, from, operands, to, op, bits) \
  out[code] = {name, Way::way, from, operands, to, Op::op, bits};
#define WASM_PREFIXED(...)
#include "opcodes.inc"
#undef WASM_OPCODE
#undef WASM_PREFIXED
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
