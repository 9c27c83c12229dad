// Numbers in memory by a target's order of bytes.
#pragma once

#include <bit>
#include <cstring>

#include "porphyry/ir/compute.h"
#include "porphyry/ir/module.h"
#include "porphyry/jit/jit.h"
#include "porphyry/simulate/step.h"

namespace porphyry::simulate {

inline Bits turned(Bits v, unsigned bytes) {
  Bits out = 0;
  for (unsigned k = 0; k < bytes; ++k) out = out << 8 | (v >> (8 * k) & 0xff);
  return out;
}

// Of up to 16 bytes.
inline Bits load_number(uint64_t address, unsigned bytes, ByteOrder order) {
  Bits v = 0;
  std::memcpy(&v, reinterpret_cast<const void*>(address), bytes);
  return order == ByteOrder::Little ? v : turned(v, bytes);
}
inline void store_number(uint64_t address, unsigned bytes, ByteOrder order, Bits v) {
  if (order == ByteOrder::Big) v = turned(v, bytes);
  std::memcpy(reinterpret_cast<void*>(address), &v, bytes);
}

// The region that such an access lies in; null when the program may not do it.
inline const MemoryRegion* region_of(std::span<const MemoryRegion> regions, uint64_t address, unsigned bytes,
                                     bool writes) {
  for (const MemoryRegion& r : regions) {
    uint64_t first = reinterpret_cast<uint64_t>(r.memory);
    if (address >= first && address - first < r.bytes && r.bytes - (address - first) >= bytes &&
        (r.writable || !writes))
      return &r;
  }
  return nullptr;
}

// The memory that a program may touch, as a step sees it.
class CheckedMemory {
 public:
  CheckedMemory(std::vector<MemoryRegion> regions, ByteOrder order)
      : regions_(std::move(regions)), order_(order) {}
  CheckedMemory(const CheckedMemory&) = delete;
  void allow(std::span<uint8_t> memory, bool writable = true) {
    regions_.push_back({memory.data(), memory.size(), writable, false});
  }
  // Of what was accessed last: in messages.
  uint64_t touched() const { return touched_; }
  const MemoryAccess& access() const { return access_; }

 private:
  std::optional<Bits> load(uint64_t address, unsigned bytes) {
    touched_ = address;
    if (!region_of(regions_, address, bytes, false)) return std::nullopt;
    return load_number(address, bytes, order_);
  }
  bool store(uint64_t address, unsigned bytes, Bits v) {
    touched_ = address;
    if (!region_of(regions_, address, bytes, true)) return false;
    store_number(address, bytes, order_, v);
    return true;
  }

  std::vector<MemoryRegion> regions_;
  ByteOrder order_;
  uint64_t touched_ = 0;
  MemoryAccess access_ = {
      [this](uint64_t address, unsigned bytes) { return load(address, bytes); },
      [this](uint64_t address, unsigned bytes, Bits v) { return store(address, bytes, v); }};
};

}  // namespace porphyry::simulate
