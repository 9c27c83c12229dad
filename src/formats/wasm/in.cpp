// Numbers are LEB128 of at most as many bytes as their bits need; the bits of the last byte that lie beyond
// are zero, or copies of the sign: specification, section 5.2.2.
#include "in.h"

namespace porphyry::wasm {

std::optional<In::Leb> In::leb(unsigned bits) {
  Leb out;
  for (; out.shift < bits; out.shift += 7) {
    out.last = byte();
    out.number |= static_cast<uint64_t>(out.last & 0x7f) << out.shift;
    if (!(out.last & 0x80)) return out;
  }
  return std::nullopt;
}

uint64_t In::unsigned_number(unsigned bits) {
  uint32_t from = offset();
  auto n = leb(bits);
  if (n && (bits - n->shift >= 7 || n->last >> (bits - n->shift) == 0)) return n->number;
  if (good()) fail(from, "a number does not fit " + std::to_string(bits) + " bits");
  return 0;
}

int64_t In::long_signed_number(unsigned bits) {
  uint32_t from = offset();
  auto n = leb(bits);
  int beyond = 0;  // the bits that have no place, and the sign
  if (n && bits - n->shift < 7)
    beyond = static_cast<int8_t>(static_cast<uint8_t>(n->last << 1)) >> (bits - n->shift);
  if (n && (beyond == 0 || beyond == -1)) {
    unsigned unused = n->shift + 7 >= 64 ? 0 : 64 - (n->shift + 7);
    return static_cast<int64_t>(n->number << unused) >> unused;
  }
  if (good()) fail(from, "a number does not fit " + std::to_string(bits) + " bits and a sign");
  return 0;
}

// Well-formed UTF-8: The Unicode Standard, table 3-7.
static bool is_utf8(std::string_view text) {
  auto follows = [&](size_t at, uint8_t low, uint8_t high) {
    return at < text.size() && static_cast<uint8_t>(text[at]) >= low &&
           static_cast<uint8_t>(text[at]) <= high;
  };
  for (size_t at = 0; at < text.size();) {
    auto c = static_cast<uint8_t>(text[at]);
    unsigned more = c < 0x80                 ? 0
                    : c >= 0xc2 && c <= 0xdf ? 1
                    : c >= 0xe0 && c <= 0xef ? 2
                    : c >= 0xf0 && c <= 0xf4 ? 3
                                             : 9;
    if (more == 9) return false;
    uint8_t low = c == 0xe0 ? 0xa0 : c == 0xf0 ? 0x90 : 0x80;
    uint8_t high = c == 0xed ? 0x9f : c == 0xf4 ? 0x8f : 0xbf;
    for (unsigned k = 1; k <= more; ++k, low = 0x80, high = 0xbf)
      if (!follows(at + k, low, high)) return false;
    at += more + 1;
  }
  return true;
}

std::string_view In::name() {
  uint32_t length = count("bytes of a name"), at = offset();
  std::string_view out = bytes(length);
  if (!is_utf8(out)) fail(at, "a name is not UTF-8");
  return good() ? out : std::string_view();
}

}  // namespace porphyry::wasm
