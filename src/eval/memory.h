// The evaluator's memory: objects with bounds, provenance of stored pointers, what was promised of bytes;
// faults as messages.
#pragma once

#include <memory>
#include <span>
#include <string>
#include <vector>

#include "derivation.h"
#include "history.h"
#include "porphyry/eval/evaluator.h"

namespace porphyry::eval {

enum class Origin : uint8_t { Symbol, Attached, Reserved, Allocated };

// One access by an instruction.
struct Access {
  Datum pointer;  // as computed before offset and index: it knows the object
  uint64_t address = 0;
  const Address* how = nullptr;  // alignment, kind and so on; nothing: a plain one
};

class Memory {
 public:
  Memory(const Module& module, uint64_t seed, uint64_t limit);

  // Handles from 1. Fresh bytes come from the seed.
  uint32_t make(uint64_t size, uint64_t align, std::string name, Origin origin);
  uint32_t attach(std::span<uint8_t> bytes, std::string name, bool writable);
  void end_life(uint32_t object);
  bool is_live(uint32_t object) const { return objects_[object].live; }
  Origin origin(uint32_t object) const { return objects_[object].origin; }
  const std::string& name(uint32_t object) const { return objects_[object].name; }
  void make_constant(uint32_t object) { objects_[object].writable = false; }
  uint64_t address(uint32_t object) const { return objects_[object].address; }
  std::span<uint8_t> bytes(uint32_t object) { return {objects_[object].bytes, objects_[object].size}; }
  size_t object_count() const { return objects_.size(); }
  bool exhausted() const { return used_ + derivations_.bytes() > limit_ || next_address_ > address_limit_; }

  // Each gives false when the access is a fault; `fault` says why. `lanes` are as many data as the type has;
  // of a masked access only those for which `active` (a datum a lane) is true are touched.
  bool load(const Access& a, Type type, std::span<Datum> lanes, const Datum* active = nullptr);
  bool store(const Access& a, Type type, std::span<const Datum> lanes, const Datum* active = nullptr);
  bool copy(const Access& to, const Access& from, uint64_t size);
  bool fill(const Access& to, uint8_t byte, uint64_t size);
  bool renew(Datum pointer, uint64_t size);
  std::string fault;
  bool is_outside = false;  // the last fault: bytes outside of the object

  // Setting up a data item: no checks.
  void put_pointer(uint32_t object, uint64_t offset, Datum pointer);

  void reveal(uint32_t object) { objects_[object].revealed = true; }
  // The revealed object an address lies in (its end included), or 0.
  uint32_t revealed_at(uint64_t address) const;
  Datum pointer_of(uint64_t bits) const { return {bits, revealed_at(bits)}; }

  Derivations& derivations() { return derivations_; }
  // Any bits: an open choice.
  uint64_t arbitrary();
  // Whether writes must be remembered for accesses `as const`.
  void remember_writes() { remembers_writes_ = true; }

 private:
  struct Object {
    uint64_t address = 0, size = 0;
    uint8_t* bytes = nullptr;
    std::unique_ptr<uint8_t[]> owned;
    // By byte, when a pointer was stored here: the pointer's `high`, and which of its bytes. Empty: none.
    struct Mark {
      uint64_t high = 0;
      uint8_t byte = 0;
    };
    std::vector<Mark> pointers;
    std::vector<uint32_t> histories;  // by byte; empty: untouched
    std::string name;
    Origin origin = Origin::Symbol;
    bool live = true, writable = true, revealed = false;
  };
  uint32_t add(uint64_t size, uint64_t align, std::string name, Origin origin);
  void fill_freshly(uint8_t* bytes, uint64_t size, uint64_t salt);
  bool refuse(std::string why) {
    fault = std::move(why);
    return false;
  }
  bool stays_inside(const Access& a, uint64_t size, uint32_t align, const char* verb);
  bool may_touch(const Access& a, uint64_t size, bool writes);
  bool keeps_words(const Access& a, uint64_t size, bool writes, bool& arbitrary_instead);
  bool keeps_growing(const Access& a, const Object& o, uint64_t offset, Type type, Datum value);
  bool keeps_bounds(const Access& a, const KindRow& kind, const char* what, uint64_t offset, const Object& o,
                    Bits value);
  bool keeps_kinds(const Access& a, uint64_t offset, uint64_t size, bool writes, bool keep_book);
  bool keeps_masked_align(const Access& a, Type type, const Datum* active, const char* verb);
  bool load_scalar(const Access& a, Type type, Datum& out);
  bool store_scalar(const Access& a, Type type, Datum value);
  Datum read_pointer(Object& o, uint64_t offset, uint64_t bits, unsigned size);
  void reveal_bytes(Object& o, uint64_t offset, uint64_t size);
  void mark(Object& o, uint64_t offset, unsigned size, uint64_t high);

  const Module& module_;
  std::vector<Object> objects_;  // addresses rise with the handle
  Derivations derivations_;
  KindHistories histories_;
  uint64_t next_address_ = 0x10000, address_limit_;
  uint64_t seed_, limit_, used_ = 0, choices_ = 0;
  ByteOrder order_;
  bool remembers_writes_ = false;
};

}  // namespace porphyry::eval
