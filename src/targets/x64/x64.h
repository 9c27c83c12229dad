#pragma once

#include "porphyry/machine/target.h"

namespace porphyry::targets {

machine::Book x64_tables();  // written by the bookbinder

// The steps of encodings, in the order of the book.
enum class Step : uint8_t { Prefix, Sized, Byte, Low, Regs, Digit, Literal, Distance };
inline Step step_of(const machine::EncodingStep& s) { return static_cast<Step>(s.kind); }
// Operands of code that is written by hand.
inline machine::PlainOperand reg(unsigned physical) { return machine::PlainOperand::reg(physical); }
inline machine::PlainOperand number(uint64_t n) {
  return machine::PlainOperand::number(static_cast<int64_t>(n));
}

inline constexpr size_t opcode_maps = 4;  // of 256 opcodes each

machine::Encoded x64_encode(const machine::Target& target, const machine::PlainInstruction& i);
uint8_t x64_decode(const machine::Target& target, std::span<const uint8_t> bytes,
                   machine::PlainInstruction& out);
uint8_t x64_length(const machine::Target& target, std::span<const uint8_t> bytes);
uint8_t x64_pad(std::span<uint8_t> bytes);
std::string x64_spell_address(const machine::Target& target, const machine::PlainAddress& a, unsigned bits,
                              const std::string& name);
bool x64_is_taken_name(std::string_view name);
extern const machine::FrameInterface x64_frame;
extern const machine::Stubs x64_stubs;
extern const machine::PassingRules x64_passing;

}  // namespace porphyry::targets
