// Reads numbers from bytes that may be anything. The first thing that is wrong is remembered; from then on
// all reads give zero, so that the code above checks only where it must.
#pragma once

#include <array>
#include <cstring>
#include <string>
#include <string_view>

#include "codes.h"

namespace porphyry::packed {

class In {
 public:
  explicit In(std::string_view bytes) : at_(bytes.data()), end_(at_ + bytes.size()), start_(at_) {}

  bool good() const { return problem_.empty(); }
  const std::string& problem() const { return problem_; }
  size_t offset() const { return problem_.empty() ? static_cast<size_t>(at_ - start_) : problem_offset_; }
  size_t left() const { return static_cast<size_t>(end_ - at_); }

  // What goes wrong goes wrong once: kept out of the way of what goes right.
  [[gnu::cold, gnu::noinline]] void fail(const char* why) { fail(std::string(why)); }
  [[gnu::cold, gnu::noinline]] void fail(std::string why) {
    if (!good()) return;
    problem_offset_ = static_cast<size_t>(at_ - start_);
    problem_ = std::move(why);
    at_ = end_;
  }

  uint8_t byte() {
    if (at_ == end_) [[unlikely]]
      return fail("the file ends too early"), uint8_t(0);
    return static_cast<uint8_t>(*at_++);
  }
  uint64_t number() {
    if (at_ != end_ && static_cast<uint8_t>(*at_) < 0x80) return static_cast<uint8_t>(*at_++);
    if (end_ - at_ >= 2 && static_cast<uint8_t>(at_[1]) < 0x80) {
      uint64_t n = (static_cast<uint8_t>(at_[0]) & 0x7fu) | uint64_t(static_cast<uint8_t>(at_[1])) << 7;
      at_ += 2;
      return n;
    }
    return long_number();
  }
  // Whether these two bytes come next; then they are taken. A first byte of zero never matches.
  bool take_if(std::array<char, 2> bytes) {
    if (end_ - at_ < 2 || bytes[0] == 0 || at_[0] != bytes[0] || at_[1] != bytes[1]) return false;
    at_ += 2;
    return true;
  }
  int64_t signed_number() { return unzigzag(number()); }
  // A number below `limit`.
  uint64_t below(uint64_t limit, const char* what) {
    uint64_t n = number();
    return n < limit ? n : not_there(n, limit, what);
  }
  // How many of something follow; each takes a byte at least, so more than there are bytes cannot be.
  size_t count(const char* what) {
    uint64_t n = number();
    return n <= left() ? static_cast<size_t>(n) : too_many(n, what);
  }
  std::string_view text() {
    size_t n = count("letters");
    std::string_view out(at_, n);
    at_ += n;
    return out;
  }
  Type type() {
    uint64_t code = number();
    Type t;
    unsigned bits = code >> 3 & 0xff, lanes = static_cast<unsigned>(code >> 11 & 0xffff) + 1;
    switch (static_cast<Shape>(code & 7)) {
      case Shape::Bool: t = bits == 1 ? Type::boolean() : Type(); break;
      case Shape::Integer: t = bits >= 2 && bits <= 128 ? Type::integer(bits) : Type(); break;
      case Shape::Float: t = bits == 32 ? Type::f32() : bits == 64 ? Type::f64() : Type(); break;
      case Shape::Pointer: t = bits == 32 || bits == 64 ? Type::pointer(bits) : Type(); break;
      default: break;
    }
    bool good = t.exists() && code >> 27 == 0 && lanes <= Type::lane_limit && !(t.is_pointer() && lanes > 1);
    if (!good) return no_type(code);
    return t.with_lanes(lanes);
  }

 private:
  [[gnu::cold, gnu::noinline]] uint64_t not_there(uint64_t n, uint64_t limit, const char* what) {
    fail(std::string(what) + " " + std::to_string(n) + " is not there: there are " + std::to_string(limit));
    return 0;
  }
  [[gnu::cold, gnu::noinline]] size_t too_many(uint64_t n, const char* what) {
    fail(std::to_string(n) + " " + what + " do not fit the rest of the file");
    return 0;
  }
  [[gnu::cold, gnu::noinline]] Type no_type(uint64_t code) {
    fail("there is no type " + std::to_string(code));
    return Type::boolean();
  }
  [[gnu::noinline]] uint64_t long_number() {
    uint64_t n = 0;
    for (unsigned shift = 0; shift < 64; shift += 7) {
      uint8_t b = byte();
      n |= uint64_t(b & 0x7f) << shift;
      if (b < 0x80) return n;
    }
    fail("a number is longer than 64 bits");
    return 0;
  }

  const char *at_, *end_, *start_;
  std::string problem_;
  size_t problem_offset_ = 0;
};

}  // namespace porphyry::packed
