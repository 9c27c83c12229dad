// Bytes in the order of a little-endian file.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include "porphyry/base/leb128.h"
#include "porphyry/base/rounding.h"

namespace porphyry::object {

class Sink {
 public:
  explicit Sink(std::string& out) : out_(out) {}

  size_t size() const { return out_.size(); }
  void u8(uint64_t v) { number(v, 1); }
  void u16(uint64_t v) { number(v, 2); }
  void u32(uint64_t v) { number(v, 4); }
  void u64(uint64_t v) { number(v, 8); }
  void uleb(uint64_t v) {
    put_uleb(v, [&](uint8_t byte) { u8(byte); });
  }
  void sleb(int64_t v) {
    put_sleb(v, [&](uint8_t byte) { u8(byte); });
  }
  void text(std::string_view s) { out_.append(s), out_.push_back('\0'); }
  void bytes(std::string_view s) { out_.append(s); }
  void align(size_t to, char with = 0) { out_.resize(round_up(out_.size(), to), with); }
  // Writes over what stands at `at` already.
  void patch32(size_t at, uint64_t v) {
    for (size_t k = 0; k < 4; ++k) out_[at + k] = static_cast<char>(v >> (8 * k));
  }

 private:
  void number(uint64_t v, size_t n) {
    for (size_t k = 0; k < n; ++k) out_.push_back(static_cast<char>(v >> (8 * k)));
  }
  std::string& out_;
};

}  // namespace porphyry::object
