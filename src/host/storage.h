// Memory for instances: pieces whose addresses are reserved as far as they may grow, so that they grow in
// place. What is reserved and not yet theirs faults.
#pragma once

#include <cstdint>

#include "porphyry/host/imports.h"

namespace porphyry::wasm {

// As formats/wasm.h says of storage_claim and the others. Thread-safe.
extern "C" {
void* porphyry_wasm_claim(uint64_t bytes, uint64_t capacity);
bool porphyry_wasm_extend(void* at, uint64_t bytes);
void porphyry_wasm_release(void* at);
}
// Makes a memory larger in place; false when its record or the system does not let it.
bool grow(Record& memory, uint32_t pages);
// From the piece's first byte to the end of what is reserved for it.
uint64_t reserved_bytes(const void* at);

}  // namespace porphyry::wasm
