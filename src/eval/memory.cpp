#include "memory.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

namespace porphyry::eval {

uint32_t Memory::add(uint64_t size, uint64_t align, std::string name) {
  uint64_t step = std::max<uint64_t>(align, 16);
  next_address_ = (next_address_ + step - 1) / step * step;
  Object o;
  o.address = next_address_;
  o.size = size;
  o.name = std::move(name);
  next_address_ += size + 16;  // a gap, so that one past an end is no other object
  objects_.push_back(std::move(o));
  return static_cast<uint32_t>(objects_.size() - 1);
}

uint32_t Memory::make(uint64_t size, uint64_t align, std::string name) {
  used_ += size + sizeof(Object);
  uint32_t id = add(size, align, std::move(name));
  if (exhausted()) return id;
  Object& o = objects_[id];
  o.owned = std::make_unique<uint8_t[]>(size);
  o.bytes = o.owned.get();
  uint64_t state = (seed_ + id) * 0x9e3779b97f4a7c15;  // an xorshift stream of its own for each object
  for (uint64_t k = 0; k < size; ++k) {
    state ^= state << 13, state ^= state >> 7, state ^= state << 17;
    o.bytes[k] = static_cast<uint8_t>(state >> 32);
  }
  return id;
}

uint32_t Memory::attach(std::span<uint8_t> bytes, std::string name, bool writable) {
  uint32_t id = add(bytes.size(), 64, std::move(name));
  objects_[id].bytes = bytes.data();
  objects_[id].writable = writable;
  return id;
}

void Memory::end_life(uint32_t object) {
  Object& o = objects_[object];
  o.live = false;
  if (o.owned) used_ -= std::min(used_, o.size);
  o.owned.reset();
  o.pointers = {};
}

std::string Memory::check(Datum pointer, uint64_t address, uint64_t size, uint32_t align, const char* verb) {
  if (pointer.object == 0)
    return fmt::format("{} through a pointer to no object ({})", verb,
                       pointer.bits == 0 ? "null" : fmt::format("{:#x}", address));
  const Object& o = objects_[pointer.object];
  if (!o.live) return fmt::format("{} of '{}' after its life ended", verb, o.name);
  uint64_t offset = address - o.address;
  if (offset > o.size || size > o.size - offset)
    return fmt::format("{} of {} byte{} at offset {} of '{}', which has {}", verb, size, size == 1 ? "" : "s",
                       static_cast<int64_t>(offset), o.name, o.size);
  if (address % align != 0)
    return fmt::format("{} at offset {} of '{}' breaks its promise 'align {}'", verb, offset, o.name, align);
  return {};
}

std::string Memory::load(Datum pointer, uint64_t address, Type type, uint32_t align, Datum& out) {
  unsigned size = type.bytes();
  if (std::string fault = check(pointer, address, size, align, "a load"); !fault.empty()) return fault;
  Object& o = objects_[pointer.object];
  uint64_t offset = address - o.address;
  out = {};
  std::memcpy(&out.bits, o.bytes + offset, size);
  if (type.is_bool()) out.bits &= 1;
  if (o.pointers.empty()) {
    if (type.is_pointer()) out.object = revealed_at(out.bits);
    return {};
  }
  const uint64_t* marks = &o.pointers[offset];
  if (!type.is_pointer()) {  // read as another type: as `bits`
    for (unsigned k = 0; k < size; ++k)
      if (marks[k]) reveal(static_cast<uint32_t>(marks[k] / 8));
    return {};
  }
  bool whole = marks[0] % 8 == 0 && marks[0] != 0;
  for (unsigned k = 1; k < 8; ++k) whole &= marks[k] == marks[0] + k;
  out.object = whole ? static_cast<uint32_t>(marks[0] / 8) : revealed_at(out.bits);
  return {};
}

std::string Memory::store(Datum pointer, uint64_t address, Type type, uint32_t align, Datum value) {
  unsigned size = type.bytes();
  if (std::string fault = check(pointer, address, size, align, "a store"); !fault.empty()) return fault;
  Object& o = objects_[pointer.object];
  if (!o.writable) return fmt::format("a store into constant '{}'", o.name);
  uint64_t offset = address - o.address;
  std::memcpy(o.bytes + offset, &value.bits, size);
  bool marks = type.is_pointer() && value.object != 0;
  if (marks && o.pointers.empty()) o.pointers.resize(o.size);
  if (!o.pointers.empty())
    for (unsigned k = 0; k < size; ++k) o.pointers[offset + k] = marks ? uint64_t(value.object) * 8 + k : 0;
  return {};
}

uint32_t Memory::revealed_at(uint64_t address) const {
  auto after = std::upper_bound(objects_.begin() + 1, objects_.end(), address,
                                [](uint64_t a, const Object& o) { return a < o.address; });
  if (after == objects_.begin() + 1) return 0;
  const Object& o = *(after - 1);
  return o.revealed && address <= o.address + o.size ? static_cast<uint32_t>(after - 1 - objects_.begin())
                                                     : 0;
}

}  // namespace porphyry::eval
