#pragma once

#include "rowan.h"

namespace porphyry::targets {

// Rows of Target::fixups: the distance of a jump or call, the upper 20 bits of an address, its lower 12.
constexpr uint8_t rowan_distance = 0, rowan_upper = 1, rowan_lower = 2;

machine::Encoded rowan_encode(const machine::Target& target, const machine::PlainInstruction& i);
uint8_t rowan_decode(const machine::Target& target, std::span<const uint8_t> bytes,
                     machine::PlainInstruction& out);
bool rowan_settle(uint8_t kind, uint8_t* at, int64_t value);

}  // namespace porphyry::targets
