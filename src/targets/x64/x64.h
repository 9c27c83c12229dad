#pragma once

#include "porphyry/machine/target.h"

namespace porphyry::targets {

machine::Target x64_tables();  // written by the bookbinder
machine::Encoded x64_encode(const machine::Target& target, const machine::PlainInstruction& i);
uint8_t x64_decode(const machine::Target& target, std::span<const uint8_t> bytes,
                   machine::PlainInstruction& out);
uint8_t x64_length(const machine::Target& target, std::span<const uint8_t> bytes);
uint8_t x64_pad(std::span<uint8_t> bytes);
std::string x64_spell_address(const machine::Target& target, const machine::PlainAddress& a, unsigned bits,
                              const std::string& name);
bool x64_is_taken_name(std::string_view name);

}  // namespace porphyry::targets
