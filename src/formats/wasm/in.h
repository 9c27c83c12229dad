// Reads the byte code's numbers from bytes that may be anything. The first thing that is wrong is remembered;
// from then on all reads give zero and the bytes are at their end.
#pragma once

#include <cstring>
#include <optional>
#include <string>
#include <string_view>

#include "porphyry/base/diagnostics.h"

namespace porphyry::wasm {

struct Mistake {
  uint32_t offset = 0;
  std::string message, expected;
};

class In {
 public:
  // `base`: the offset of the bytes in the file.
  explicit In(std::string_view bytes, uint32_t base = 0)
      : start_(bytes.data()), at_(start_), end_(start_ + bytes.size()), base_(base) {}

  bool good() const { return mistake_.message.empty(); }
  const Mistake& mistake() const { return mistake_; }
  bool at_end() const { return at_ == end_; }
  size_t left() const { return static_cast<size_t>(end_ - at_); }
  uint32_t offset() const { return base_ + static_cast<uint32_t>(at_ - start_); }
  std::string_view rest() const { return {at_, left()}; }

  [[gnu::cold, gnu::noinline]] void fail(uint32_t offset, std::string message, std::string expected = {}) {
    if (!good()) return;
    mistake_ = {offset, std::move(message), std::move(expected)};
    at_ = end_;
  }
  [[gnu::cold, gnu::noinline]] void fail(std::string message, std::string expected = {}) {
    fail(offset(), std::move(message), std::move(expected));
  }

  uint8_t byte() {
    if (at_ == end_) [[unlikely]]
      return ends_early(), uint8_t(0);
    return static_cast<uint8_t>(*at_++);
  }
  uint32_t u32() {
    if (at_ != end_ && !(*at_ & 0x80)) [[likely]]
      return static_cast<uint8_t>(*at_++);
    return static_cast<uint32_t>(unsigned_number(32));
  }
  int32_t s32() { return static_cast<int32_t>(signed_number(32)); }
  int64_t s33() { return signed_number(33); }
  int64_t s64() { return signed_number(64); }
  // Over a number of any length.
  void pass_number() {
    while (at_ != end_ && *at_++ & 0x80) {
    }
  }
  template <class T>
  T fixed() {  // little-endian
    T out{};
    if (left() < sizeof(T)) return ends_early(), out;
    std::memcpy(&out, at_, sizeof(T));
    at_ += sizeof(T);
    return out;
  }
  std::string_view bytes(size_t count) {
    if (count > left()) return ends_early(), std::string_view();
    std::string_view out(at_, count);
    at_ += count;
    return out;
  }
  // How many of something follow, each of which takes a byte at least.
  uint32_t count(const char* what) {
    uint32_t at = offset(), n = u32();
    if (n <= left()) return n;
    fail(at, std::to_string(n) + " " + what + " are more than the bytes that are left",
         "a number they fit in");
    return 0;
  }
  // A name: its length, then UTF-8.
  std::string_view name();

 private:
  [[gnu::cold, gnu::noinline]] void ends_early() { fail("the bytes end too early"); }
  struct Leb {
    uint64_t number = 0;
    unsigned shift = 0;  // of the last byte
    uint8_t last = 0;
  };
  std::optional<Leb> leb(unsigned bits);  // nothing when it goes on beyond so many bits
  [[gnu::noinline]] uint64_t unsigned_number(unsigned bits);
  int64_t signed_number(unsigned bits) {
    if (at_ != end_ && !(*at_ & 0x80)) [[likely]] {
      auto b = static_cast<uint8_t>(*at_++);
      return static_cast<int64_t>(static_cast<uint64_t>(b) << 57) >> 57;
    }
    return long_signed_number(bits);
  }
  [[gnu::noinline]] int64_t long_signed_number(unsigned bits);

  const char *start_, *at_, *end_;
  uint32_t base_;
  Mistake mistake_;
};

}  // namespace porphyry::wasm
