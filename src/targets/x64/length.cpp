// How long an instruction is, described or not: prefixes, opcode, what the book says follows it.
#include "x64.h"

namespace porphyry::targets {

using namespace machine;

namespace {

class Ruler {
 public:
  Ruler(const Target& target, std::span<const uint8_t> bytes) : target_(target), bytes_(bytes) {}

  uint8_t run() {
    prefixes();
    const OpcodeLength* length = opcode();
    if (!length || !length->known) return 0;
    unsigned digit = peek() >> 3 & 7;
    if (length->regs) fields();
    literal(length->then, digit);
    return at_ <= bytes_.size() && at_ <= 15 ? static_cast<uint8_t>(at_) : 0;
  }

 private:
  uint8_t peek(size_t ahead = 0) const { return at_ + ahead < bytes_.size() ? bytes_[at_ + ahead] : 0; }

  void prefixes() {
    for (;; ++at_) switch (peek()) {
        case 0x66: half_ = true; break;
        case 0x67: case 0xf0: case 0xf2: case 0xf3: case 0x2e: case 0x36: case 0x3e: case 0x26: case 0x64: case 0x65:
          break;
        default:
          if ((peek() & 0xf0) == 0x40) whole_ = peek() & 8, ++at_;
          return;
      }
  }

  const OpcodeLength* row(size_t map, uint8_t opcode) const {
    return map < opcode_maps ? &target_.lengths[map * 256 + opcode] : nullptr;
  }

  const OpcodeLength* opcode() {
    uint8_t first = peek();
    ++at_;
    if (first == 0x0f) {
      uint8_t second = peek();
      ++at_;
      size_t map = second == 0x38 ? 2 : second == 0x3a ? 3 : 1;
      return map == 1 ? row(1, second) : row(map, bytes_.size() > at_ ? bytes_[at_++] : 0);
    }
    // The prefixes of wider lanes hold the number of the map.
    if (first == 0xc5) return at_ += 2, row(1, peek_back());
    if (first == 0xc4) {
      size_t map = peek() & 0x1f;
      return at_ += 3, row(map, peek_back());
    }
    if (first == 0x62) {
      size_t map = peek() & 7;
      return at_ += 4, row(map, peek_back());
    }
    return row(0, first);
  }
  uint8_t peek_back() const { return at_ <= bytes_.size() ? bytes_[at_ - 1] : 0; }

  void fields() {
    uint8_t modrm = peek(), mode = modrm >> 6;
    ++at_;
    if (mode == 3) return;
    bool no_base = (modrm & 7) == 5 && mode == 0;
    if ((modrm & 7) == 4) no_base = (peek() & 7) == 5 && mode == 0, ++at_;
    at_ += mode == 1 ? 1 : mode == 2 || no_base ? 4 : 0;
  }

  void literal(Follows then, unsigned digit) {
    unsigned word = half_ && !whole_ ? 2 : 4;
    switch (then) {
      case Follows::Nothing: return;
      case Follows::Literal8: at_ += 1; return;
      case Follows::Literal16: at_ += 2; return;
      case Follows::Word: at_ += word; return;
      case Follows::Whole: at_ += whole_ ? 8 : word; return;
      case Follows::Address: at_ += 8; return;
      case Follows::DigitLiteral8: at_ += digit < 2 ? 1 : 0; return;
      case Follows::DigitWord: at_ += digit < 2 ? word : 0; return;
    }
  }

  const Target& target_;
  std::span<const uint8_t> bytes_;
  size_t at_ = 0;
  bool half_ = false, whole_ = false;
};

}  // namespace

uint8_t x64_length(const Target& target, std::span<const uint8_t> bytes) { return Ruler(target, bytes).run(); }

}  // namespace porphyry::targets
