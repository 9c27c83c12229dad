// The packed form (.porb): a module in few bytes, read several times faster than text. docs/packed.md
// describes it byte by byte.
//
// What was written reads back to the same module: the same text, and packed again the same bytes. A file says
// its version; every version ever written keeps loading.
#pragma once

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <string_view>

#include "porphyry/base/diagnostics.h"
#include "porphyry/ir/module.h"

namespace porphyry {

inline constexpr uint32_t packed_version = 2;
inline constexpr size_t packed_header_bytes = 24;  // "PORB", version, payload bytes, checksum

// O(size). The module must be verified.
std::string write_packed(const Module& module);

// Whether bytes begin as a packed file does.
bool is_packed(std::string_view bytes);

// Reads what write_packed wrote. Damaged or hostile bytes give the reason and the offset; memory stays in
// proportion to the bytes. What comes out is whole, but not yet verified: see load_packed. O(size).
Result<std::unique_ptr<Module>> read_packed(Realm& realm, const std::string& name, std::string_view bytes);

// Reads and verifies; a module comes out only without a mistake.
Result<std::unique_ptr<Module>> load_packed(Realm& realm, const std::string& name, std::string_view bytes);

// The checksum over a payload: each 8 bytes, little-endian and padded with zeros, go into a running product.
uint64_t packed_checksum(std::string_view payload);

}  // namespace porphyry
