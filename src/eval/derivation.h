// Which pointers come from which `sole` or `const` parameter, and whether what was promised of them is kept.
//
// Each promise made (a call with such a parameter, a `sole` instruction) gets a number, and a pointer carries
// the number of the last one it went through; from each number an earlier one of the same pointer is reached.
// A promise is kept book of per byte while it is active, only for bytes that are touched.
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <unordered_map>
#include <vector>

#include "porphyry/eval/evaluator.h"

namespace porphyry::eval {

class Derivations {
 public:
  static uint32_t of(Datum pointer) { return static_cast<uint32_t>(pointer.high >> 32); }

  // A pointer that a new promise is made of. It must lead to an object.
  Datum promised(Datum pointer, bool sole, bool unwritten);
  void end(uint32_t promise);
  bool is_active(uint32_t promise) const { return active_.contains(promise); }

  // Whether an access to `size` bytes keeps all that was promised; else what is broken. Objects without a
  // promise on them cost one look.
  enum class Broken : uint8_t { Nothing, Sole, Unwritten };
  Broken access(Datum pointer, uint64_t offset, uint64_t size, bool writes, bool keep_book);
  bool any() const { return !active_.empty(); }
  // Bytes of memory that keeping book takes.
  uint64_t bytes() const { return earlier_.size() * 4 + touched_chunks_ * 80; }

 private:
  static constexpr uint64_t chunk = 64;
  enum : uint8_t { derived_read = 1, derived_write = 2, other_read = 4, other_write = 8 };
  struct Promise {
    uint32_t object;
    bool sole, unwritten;
    std::unordered_map<uint64_t, std::array<uint8_t, chunk>> touched;  // by offset / chunk
  };
  bool comes_from(uint32_t number, uint32_t promise) const;
  bool keeps_sole(Promise& p, bool derived, uint64_t offset, uint64_t size, bool writes, bool keep_book);

  std::vector<uint32_t> earlier_{0};  // by number: the one the pointer carried before
  std::unordered_map<uint32_t, Promise> active_;
  std::unordered_map<uint32_t, std::vector<uint32_t>> by_object_;  // active ones
  uint64_t touched_chunks_ = 0;
};

}  // namespace porphyry::eval
