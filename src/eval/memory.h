// The evaluator's memory: objects with bounds, provenance of stored pointers, faults as messages.
#pragma once

#include <memory>
#include <span>
#include <string>
#include <vector>

#include "porphyry/eval/evaluator.h"

namespace porphyry::eval {

class Memory {
 public:
  Memory(uint64_t seed, uint64_t limit) : seed_(seed), limit_(limit) { objects_.emplace_back(); }

  // Handles from 1. Fresh bytes come from the seed.
  uint32_t make(uint64_t size, uint64_t align, std::string name);
  uint32_t attach(std::span<uint8_t> bytes, std::string name, bool writable);
  void end_life(uint32_t object);
  void make_constant(uint32_t object) { objects_[object].writable = false; }
  uint64_t address(uint32_t object) const { return objects_[object].address; }
  std::span<uint8_t> bytes(uint32_t object) { return {objects_[object].bytes, objects_[object].size}; }
  bool exhausted() const { return used_ > limit_; }

  // Reading and writing `size` bytes; nothing when fine, else the fault.
  std::string load(Datum pointer, uint64_t address, Type type, uint32_t align, Datum& out);
  std::string store(Datum pointer, uint64_t address, Type type, uint32_t align, Datum value);

  void reveal(uint32_t object) { objects_[object].revealed = true; }
  // The revealed object an address lies in (its end included), or 0.
  uint32_t revealed_at(uint64_t address) const;

 private:
  struct Object {
    uint64_t address = 0, size = 0;
    uint8_t* bytes = nullptr;
    std::unique_ptr<uint8_t[]> owned;
    // By byte, when a pointer was stored here: object * 8 + which byte of the pointer.
    std::vector<uint64_t> pointers;
    std::string name;
    bool live = true, writable = true, revealed = false;
  };
  std::string check(Datum pointer, uint64_t address, uint64_t size, uint32_t align, const char* verb);
  uint32_t add(uint64_t size, uint64_t align, std::string name);

  std::vector<Object> objects_;  // addresses rise with the handle
  uint64_t next_address_ = 0x10000;
  uint64_t seed_, limit_, used_ = 0;
};

}  // namespace porphyry::eval
