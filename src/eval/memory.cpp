#include "memory.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "porphyry/base/hash.h"
#include "porphyry/print/print.h"

namespace porphyry::eval {

Memory::Memory(const Module& module, uint64_t seed, uint64_t limit)
    : module_(module),
      histories_(module.kinds),
      address_limit_(module.layout.pointer_bits == 32 ? 0xfffffff0u : ~uint64_t(0) >> 1),
      seed_(seed),
      limit_(limit),
      order_(module.layout.order) {
  objects_.emplace_back();
}

uint32_t Memory::add(uint64_t size, uint64_t align, std::string name, Origin origin) {
  uint64_t step = std::max<uint64_t>(align, 16);
  next_address_ = (next_address_ + step - 1) / step * step;
  Object o;
  o.address = next_address_;
  o.size = size;
  o.name = std::move(name);
  o.origin = origin;
  next_address_ += size + 16;  // a gap, so that one past an end is no other object
  objects_.push_back(std::move(o));
  return static_cast<uint32_t>(objects_.size() - 1);
}

void Memory::fill_freshly(uint8_t* bytes, uint64_t size, uint64_t salt) {
  uint64_t state = mixed(seed_ * 0x9e3779b97f4a7c15 + salt) | 1;  // G. Marsaglia, "Xorshift RNGs" (2003)
  for (uint64_t k = 0; k < size; k += 4) {
    state ^= state << 13, state ^= state >> 7, state ^= state << 17;
    const auto word = static_cast<uint32_t>(state >> 24);
    for (uint64_t n = k; n < std::min(k + 4, size); ++n) bytes[n] = static_cast<uint8_t>(word >> 8 * (n - k));
  }
}

uint64_t Memory::arbitrary() { return mixed(seed_ ^ mixed(++choices_)); }

uint32_t Memory::make(uint64_t size, uint64_t align, std::string name, Origin origin) {
  used_ += size + sizeof(Object);
  uint32_t id = add(size, align, std::move(name), origin);
  if (exhausted()) return id;
  Object& o = objects_[id];
  o.owned = std::make_unique_for_overwrite<uint8_t[]>(size);
  o.bytes = o.owned.get();
  fill_freshly(o.bytes, size, id);
  return id;
}

uint32_t Memory::attach(std::span<uint8_t> bytes, std::string name, bool writable) {
  uint32_t id = add(bytes.size(), 64, std::move(name), Origin::Attached);
  objects_[id].bytes = bytes.data();
  objects_[id].writable = writable;
  return id;
}

void Memory::end_life(uint32_t object) {
  Object& o = objects_[object];
  o.live = false;
  uint64_t held = (o.owned ? o.size : 0) + o.pointers.size() * sizeof(Object::Mark) + o.histories.size() * 4;
  used_ -= std::min(used_, held);
  o.owned.reset();
  o.pointers = {};
  o.histories = {};
}

// ---- checks -----------------------------------------------------------------------------------------------

bool Memory::stays_inside(const Access& a, uint64_t size, uint32_t align, const char* verb) {
  is_outside = false;
  uint32_t id = a.pointer.object();
  if (id == 0)
    return refuse(fmt::format("{} through a pointer to no object ({})", verb,
                              a.pointer.bits == 0 ? "null" : fmt::format("{:#x}", a.address)));
  const Object& o = objects_[id];
  if (!o.live) return refuse(fmt::format("{} of '{}' after its life ended", verb, o.name));
  uint64_t offset = a.address - o.address;
  is_outside = offset > o.size || size > o.size - offset;
  if (is_outside)
    return refuse(fmt::format("{} of {} byte{} at offset {} of '{}', which has {}", verb, size,
                              size == 1 ? "" : "s", static_cast<int64_t>(offset), o.name, o.size));
  if (align > 1 && a.address % align != 0)
    return refuse(
        fmt::format("{} at offset {} of '{}' breaks its promise 'align {}'", verb, offset, o.name, align));
  return true;
}

bool Memory::keeps_kinds(const Access& a, uint64_t offset, uint64_t size, bool writes, bool keep_book) {
  KindAccess access{a.how ? a.how->kind : KindPath(), writes, a.how && a.how->as_unwritten};
  if (!access.kind.exists() && !access.as_unwritten && !(writes && remembers_writes_)) return true;
  Object& o = objects_[a.pointer.object()];
  if (o.histories.empty()) {
    used_ += 4 * o.size;
    o.histories.resize(o.size);
  }
  for (uint64_t at = offset; at < offset + size; ++at) {
    const KindHistories::Next& next = histories_.after(o.histories[at], access);
    if (!next.conflict) {
      if (keep_book) o.histories[at] = next.history;
      continue;
    }
    if (next.was_written)
      return refuse(
          writes ? fmt::format("a store at offset {} of '{}', which was read 'as const'", at, o.name)
                 : fmt::format("a load 'as const' at offset {} of '{}', which was written", at, o.name));
    return refuse(
        fmt::format("the access as {} meets one as {} at offset {} of '{}': their kinds do not overlap",
                    path_text(module_, access.kind), path_text(module_, next.with), at, o.name));
  }
  return true;
}

// What was promised of the bytes: `sole`, `const`, kinds. An early load that breaks it has an arbitrary value
// instead.
bool Memory::keeps_words(const Access& a, uint64_t size, bool writes, bool& arbitrary_instead) {
  const Object& o = objects_[a.pointer.object()];
  uint64_t offset = a.address - o.address;
  bool early = a.how && a.how->early;
  auto broken = Derivations::Broken::Nothing;
  if (derivations_.any()) broken = derivations_.access(a.pointer, offset, size, writes, !early);
  bool kept = broken == Derivations::Broken::Nothing && keeps_kinds(a, offset, size, writes, !early);
  if (early) {
    arbitrary_instead = !kept;
    return true;
  }
  if (broken == Derivations::Broken::Sole)
    return refuse(
        fmt::format("a {} at offset {} of '{}' breaks a promise 'sole': the bytes are reached through the "
                    "pointer and around it, and written",
                    writes ? "store" : "load", offset, o.name));
  if (broken == Derivations::Broken::Unwritten)
    return refuse(
        fmt::format("a store at offset {} of '{}' through a parameter that is 'const'", offset, o.name));
  return kept;
}

// ---- loads and stores -------------------------------------------------------------------------------------

void Memory::reveal_bytes(Object& o, uint64_t offset, uint64_t size) {
  if (o.pointers.empty()) return;
  for (uint64_t k = offset; k < offset + size; ++k)
    if (uint32_t led_to = static_cast<uint32_t>(o.pointers[k].high)) reveal(led_to);
}

Datum Memory::read_pointer(Object& o, uint64_t offset, uint64_t bits, unsigned size) {
  if (o.pointers.empty() || o.pointers[offset].high == 0) return pointer_of(bits);
  const Object::Mark* marks = &o.pointers[offset];
  for (unsigned k = 0; k < size; ++k)
    if (marks[k].byte != k || marks[k].high != marks[0].high) return pointer_of(bits);
  return {bits, marks[0].high};
}

void Memory::mark(Object& o, uint64_t offset, unsigned size, uint64_t high) {
  if (o.pointers.empty()) {
    if (high == 0) return;
    used_ += o.size * sizeof(Object::Mark);
    o.pointers.resize(o.size);
  }
  for (unsigned k = 0; k < size; ++k) o.pointers[offset + k] = {high, static_cast<uint8_t>(k)};
}

bool Memory::load_scalar(const Access& a, Type type, Datum& out) {
  unsigned size = type.bytes();
  if (!stays_inside(a, size, a.how ? a.how->align : 1, "a load")) return false;
  bool arbitrary_instead = false;
  if (!keeps_words(a, size, false, arbitrary_instead)) return false;
  if (arbitrary_instead) {
    out = Datum::of(((Bits(arbitrary()) << 64) | arbitrary()) & mask_of(type.bits()));
    return true;
  }
  Object& o = objects_[a.pointer.object()];
  uint64_t offset = a.address - o.address;
  uint64_t words[2] = {0, 0};
  if (order_ == ByteOrder::Little && type.bits() <= 64) {
    std::memcpy(words, o.bytes + offset, size);
    words[0] &= static_cast<uint64_t>(mask_of(type.bits()));
  } else {
    get_value(type, o.bytes + offset, order_, words);
  }
  if (type.is_pointer()) {
    out = read_pointer(o, offset, words[0], size);
  } else {
    reveal_bytes(o, offset, size);
    out = {words[0], words[1]};
    if (const KindRow* kind = a.how ? module_.kinds.growing(a.how->kind) : nullptr; kind && type.is_integer())
      return keeps_bounds(a, *kind, "a load", offset, o, out.word());
  }
  return true;
}

// What is stored as a kind that grows is not less than what the bytes hold, and lies between its bounds.
bool Memory::keeps_growing(const Access& a, const Object& o, uint64_t offset, Type type, Datum value) {
  const KindRow* kind = a.how ? module_.kinds.growing(a.how->kind) : nullptr;
  if (!kind || !type.is_integer()) return true;
  uint64_t words[2] = {};
  get_value(type, o.bytes + offset, order_, words);
  if (value.word() < (Bits(words[1]) << 64 | words[0]))
    return refuse(fmt::format("a store as {} at offset {} of '{}' makes it smaller",
                              path_text(module_, a.how->kind), offset, o.name));
  return keeps_bounds(a, *kind, "a store", offset, o, value.word());
}
bool Memory::keeps_bounds(const Access& a, const KindRow& kind, const char* what, uint64_t offset,
                          const Object& o, Bits value) {
  if (value >= kind.least && value <= kind.most) return true;
  return refuse(fmt::format("{} as {} at offset {} of '{}' is of a number that is not from {} to {}", what,
                            path_text(module_, a.how->kind), offset, o.name, kind.least, kind.most));
}

bool Memory::store_scalar(const Access& a, Type type, Datum value) {
  unsigned size = type.bytes();
  if (!stays_inside(a, size, a.how ? a.how->align : 1, "a store")) return false;
  Object& o = objects_[a.pointer.object()];
  if (!o.writable) return refuse(fmt::format("a store into constant '{}'", o.name));
  bool unused = false;
  if (!keeps_words(a, size, true, unused)) return false;
  uint64_t offset = a.address - o.address;
  if (!keeps_growing(a, o, offset, type, value)) return false;
  if (order_ == ByteOrder::Little && type.bits() <= 64) {
    std::memcpy(o.bytes + offset, &value.bits, size);
  } else {
    uint64_t words[2] = {value.bits, value.high};
    put_value(type, words, order_, o.bytes + offset);
  }
  mark(o, offset, size, type.is_pointer() ? value.high : 0);
  return true;
}

// Lanes of bool are one integer; all others are elements one behind the other.
bool Memory::load(const Access& a, Type type, std::span<Datum> lanes, const Datum* active) {
  if (!type.has_lanes()) return load_scalar(a, type, lanes[0]);
  if (!active && !stays_inside(a, type.bytes(), a.how ? a.how->align : 1, "a load")) return false;
  if (type.is_bool()) {
    bool arbitrary_instead = false;
    if (!keeps_words(a, type.bytes(), false, arbitrary_instead)) return false;
    Object& o = objects_[a.pointer.object()];
    uint64_t offset = a.address - o.address;
    reveal_bytes(o, offset, type.bytes());
    std::vector<uint64_t> words(type.words());
    get_value(type, o.bytes + offset, order_, words);
    for (size_t k = 0; k < lanes.size(); ++k) lanes[k] = {arbitrary_instead ? arbitrary() & 1 : words[k], 0};
    return true;
  }
  Address lane_of = a.how ? *a.how : Address{};
  lane_of.align = 1;
  for (size_t k = 0; k < lanes.size(); ++k) {
    if (active && !(active[k].bits & 1)) continue;
    Access lane{a.pointer, a.address + k * type.element_bytes(), &lane_of};
    if (!load_scalar(lane, type.element(), lanes[k])) return false;
  }
  return !active || keeps_masked_align(a, type, active, "a load");
}

// A masked access of no lane touches nothing, at whatever address.
bool Memory::keeps_masked_align(const Access& a, Type type, const Datum* active, const char* verb) {
  if (!a.how || a.address % a.how->align == 0) return true;
  if (std::none_of(active, active + type.lanes(), [](Datum d) { return d.bits & 1; })) return true;
  return refuse(fmt::format("{} of '{}' breaks its promise 'align {}'", verb,
                            objects_[a.pointer.object()].name, a.how->align));
}

bool Memory::store(const Access& a, Type type, std::span<const Datum> lanes, const Datum* active) {
  if (!type.has_lanes()) return store_scalar(a, type, lanes[0]);
  if (!active && !stays_inside(a, type.bytes(), a.how ? a.how->align : 1, "a store")) return false;
  if (type.is_bool()) {
    Object& o = objects_[a.pointer.object()];
    if (!o.writable) return refuse(fmt::format("a store into constant '{}'", o.name));
    bool unused = false;
    if (!keeps_words(a, type.bytes(), true, unused)) return false;
    std::vector<uint64_t> words;
    for (Datum d : lanes) words.push_back(d.bits & 1);
    put_value(type, words, order_, o.bytes + (a.address - o.address));
    mark(o, a.address - o.address, type.bytes(), 0);
    return true;
  }
  Address lane_of = a.how ? *a.how : Address{};
  lane_of.align = 1;
  for (size_t k = 0; k < lanes.size(); ++k) {
    if (active && !(active[k].bits & 1)) continue;
    if (!store_scalar({a.pointer, a.address + k * type.element_bytes(), &lane_of}, type.element(), lanes[k]))
      return false;
  }
  return !active || keeps_masked_align(a, type, active, "a store");
}

// ---- blocks of memory -------------------------------------------------------------------------------------

bool Memory::may_touch(const Access& a, uint64_t size, bool writes) {
  if (!stays_inside(a, size, 1, writes ? "a write" : "a read")) return false;
  if (writes && !objects_[a.pointer.object()].writable)
    return refuse(fmt::format("a write into constant '{}'", objects_[a.pointer.object()].name));
  bool unused = false;
  return keeps_words(a, size, writes, unused);
}

bool Memory::copy(const Access& to, const Access& from, uint64_t size) {
  if (size == 0) return true;
  if (!may_touch(from, size, false) || !may_touch(to, size, true)) return false;
  Object &target = objects_[to.pointer.object()], &source = objects_[from.pointer.object()];
  uint64_t into = to.address - target.address, out_of = from.address - source.address;
  std::memmove(target.bytes + into, source.bytes + out_of, size);
  if (source.pointers.empty() && target.pointers.empty()) return true;
  std::vector<Object::Mark> marks(size);
  if (!source.pointers.empty())
    std::copy_n(source.pointers.begin() + static_cast<ptrdiff_t>(out_of), size, marks.begin());
  target.pointers.resize(target.size);
  std::copy(marks.begin(), marks.end(), target.pointers.begin() + static_cast<ptrdiff_t>(into));
  return true;
}

bool Memory::fill(const Access& to, uint8_t byte, uint64_t size) {
  if (size == 0) return true;
  if (!may_touch(to, size, true)) return false;
  Object& o = objects_[to.pointer.object()];
  uint64_t offset = to.address - o.address;
  std::memset(o.bytes + offset, byte, size);
  if (!o.pointers.empty())
    std::fill_n(o.pointers.begin() + static_cast<ptrdiff_t>(offset), size, Object::Mark{});
  return true;
}

bool Memory::renew(Datum pointer, uint64_t size) {
  if (size == 0) return true;
  Access a{pointer, pointer.bits, nullptr};
  if (!stays_inside(a, size, 1, "a renewal")) return false;
  Object& o = objects_[pointer.object()];
  if (!o.writable) return refuse(fmt::format("a renewal of constant '{}'", o.name));
  bool broken = derivations_.any() && derivations_.access(pointer, pointer.bits - o.address, size, true,
                                                          true) != Derivations::Broken::Nothing;
  if (broken)
    return refuse(fmt::format("a renewal of '{}' breaks what was promised of a pointer to it", o.name));
  uint64_t offset = pointer.bits - o.address;
  fill_freshly(o.bytes + offset, size, mixed(++choices_));
  if (!o.histories.empty()) std::fill_n(o.histories.begin() + static_cast<ptrdiff_t>(offset), size, 0);
  if (!o.pointers.empty())
    std::fill_n(o.pointers.begin() + static_cast<ptrdiff_t>(offset), size, Object::Mark{});
  return true;
}

void Memory::put_pointer(uint32_t object, uint64_t offset, Datum pointer) {
  Object& o = objects_[object];
  unsigned size = module_.pointer_type().bytes();
  put_value(module_.pointer_type(), {&pointer.bits, 1}, order_, o.bytes + offset);
  mark(o, offset, size, pointer.high);
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
