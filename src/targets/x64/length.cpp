// How long an instruction is, described or not: prefixes, opcode, what follows it (lengths.inc).
//
// Intel 64 and IA-32 Architectures Software Developer's Manual, volume 2, chapter 2 and appendix A; AMD64
// Architecture Programmer's Manual, volume 6 (the maps behind 0x8f) and volume 4 (bit fields).
#include <array>

#include "x64.h"

namespace porphyry::targets {

using namespace machine;

namespace {

// What follows an opcode. How many bytes a kind of literal takes can hang on prefixes.
enum class Follows : uint8_t {
  Nothing,
  Literal8,
  Literal16,
  Literal24,
  Word,   // 16 or 32 bits
  Whole,  // as the registers
  Address,
  DigitLiteral8,  // only for digits 0 and 1
  DigitWord
};
struct OpcodeLength {
  bool known = false, regs = false;  // regs: a byte of fields, and an address it may call for
  Follows then = Follows::Nothing;
};
struct Run {
  uint8_t first, last;
};
enum class Map : uint8_t { One, Two, Three38, Three3a };

constexpr auto lengths = [] {
  std::array<OpcodeLength, opcode_maps * 256> out{};
  auto set = [&](Map map, OpcodeLength length, std::initializer_list<Run> runs) {
    for (Run run : runs)
      for (unsigned opcode = run.first; opcode <= run.last; ++opcode)
        out[static_cast<size_t>(map) * 256 + opcode] = length;
  };
#define LENGTHS(map, regs, then, ...) set(map, {true, regs, Follows::then}, {__VA_ARGS__});
#include "lengths.inc"
#undef LENGTHS
  return out;
}();

class Ruler {
 public:
  explicit Ruler(std::span<const uint8_t> bytes) : bytes_(bytes) {}

  uint8_t run() {
    prefixes();
    const OpcodeLength length = opcode();
    if (!length.known) return 0;
    unsigned digit = peek() >> 3 & 7;
    if (length.regs) fields();
    literal(length.then, digit);
    return at_ <= bytes_.size() && at_ <= 15 ? static_cast<uint8_t>(at_) : 0;
  }

 private:
  uint8_t peek(size_t ahead = 0) const { return at_ + ahead < bytes_.size() ? bytes_[at_ + ahead] : 0; }

  void prefixes() {
    for (;; ++at_) switch (peek()) {
        case 0x66: half_ = true; break;
        case 0x67: short_address_ = true; break;
        case 0xf2: repeats_ = true; break;
        case 0xf0:
        case 0xf3:
        case 0x2e:
        case 0x36:
        case 0x3e:
        case 0x26:
        case 0x64:
        case 0x65: break;
        default:
          if ((peek() & 0xf0) == 0x40) whole_ = peek() & 8, ++at_;
          return;
      }
  }

  OpcodeLength row(size_t map, uint8_t opcode) const {
    return map < opcode_maps ? lengths[map * 256 + opcode] : OpcodeLength{};
  }
  static constexpr OpcodeLength with_fields(Follows then) {
    return {.known = true, .regs = true, .then = then};
  }

  OpcodeLength opcode() {
    uint8_t first = peek();
    ++at_;
    if (first == 0x0f) {
      uint8_t second = peek();
      ++at_;
      // Bit fields of lanes: two literals of a byte, where the same opcode without prefix has none.
      if (second == 0x78 && (half_ || repeats_)) return with_fields(Follows::Literal16);
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
      at_ += 4;
      return map == 5 || map == 6 ? with_fields(Follows::Nothing) : row(map, peek_back());
    }
    // Behind 0x8f stands the fields' byte of a pop, or, with a number of at least 8, one of three maps.
    if (first == 0x8f && (peek() & 0x1f) >= 8) {
      size_t map = peek() & 0x1f;
      at_ += 3;
      if (map > 10) return {};
      half_ = false;
      return with_fields(map == 8 ? Follows::Literal8 : map == 9 ? Follows::Nothing : Follows::Word);
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
      case Follows::Literal24: at_ += 3; return;
      case Follows::Word: at_ += word; return;
      case Follows::Whole: at_ += whole_ ? 8 : word; return;
      case Follows::Address: at_ += short_address_ ? 4 : 8; return;
      case Follows::DigitLiteral8: at_ += digit < 2 ? 1 : 0; return;
      case Follows::DigitWord: at_ += digit < 2 ? word : 0; return;
    }
  }

  std::span<const uint8_t> bytes_;
  size_t at_ = 0;
  bool half_ = false, whole_ = false, short_address_ = false, repeats_ = false;
};

}  // namespace

uint8_t x64_length(const Target&, std::span<const uint8_t> bytes) { return Ruler(bytes).run(); }

}  // namespace porphyry::targets
