// Where a module's parts go in one piece of memory: code and stubs, constants, data, each from a page of its
// own on.
#pragma once

#include <algorithm>
#include <cstring>

#include "porphyry/jit/jit.h"

namespace porphyry::jit {
size_t page_bytes();

// Offsets from the start.
struct Placing {
  std::vector<size_t> functions, stubs, data;  // by function of the lowered module; by symbol; by symbol
  std::vector<std::vector<size_t>> constants;  // by function, row of its constants
  size_t constants_start = 0, data_start = 0, end = 0;
};

// Lazily, functions have no code yet: `first_bytes` are for their stubs.
Placing place(const machine::LoweredModule& lowered, const machine::Target& target, size_t first_bytes);

// A function's bytes at `code`, with what only its address settles. `constant` and `symbol` give the
// addresses of a row of its constants and of what a fixup calls or names.
template <class Constant, class Symbol>
void settle(uint8_t* code, const machine::CompiledFunction& f, const machine::Target& target,
            Constant constant, Symbol symbol) {
  std::memcpy(code, f.bytes.data(), f.bytes.size());
  for (const machine::Fixup& fix : f.fixups) {
    const uint8_t* what = fix.to == machine::Fixup::To::Pool ? constant(fix.index) : symbol(fix.index);
    uint8_t* at = code + fix.offset;
    int64_t value = static_cast<int64_t>(reinterpret_cast<uintptr_t>(what)) + fix.addend;
    if (target.fixups[fix.kind].relative) value -= static_cast<int64_t>(reinterpret_cast<uintptr_t>(at));
    target.settle(fix.kind, at, value);
  }
}

// What an address belongs to, when that is in the function that lies at `start`.
std::optional<CodePlace> place_in(const machine::LoweredModule& lowered, const machine::CompiledFunction& f,
                                  uint64_t start, uint64_t address);

}  // namespace porphyry::jit
