// Packing: [0x66] [prefix] [REX] opcode bytes, ModRM, SIB, displacement, literal.
#include <algorithm>
#include <cstring>

#include "x64.h"

namespace porphyry::targets {

using namespace machine;

namespace {

uint8_t number_of(uint8_t physical) { return physical & 15; }  // 0 to 15 in either class

class Packer {
 public:
  Packer(const Target& target, const PlainInstruction& i) : form_(target.form(i.form)), i_(i) {}

  Encoded run() {
    prefixes();
    for (const EncodingStep& s : form_.encoding) step(s);
    return out_;
  }

 private:
  void byte(unsigned b) { out_.bytes[out_.size++] = static_cast<uint8_t>(b); }
  void number(int64_t v, unsigned bits) {
    std::memcpy(out_.bytes + out_.size, &v, bits / 8);
    out_.size = static_cast<uint8_t>(out_.size + bits / 8);
  }
  bool is_memory(int8_t k) const {
    return form_.operands[static_cast<size_t>(k)].kind == OperandKind::Memory ||
           form_.operands[static_cast<size_t>(k)].kind == OperandKind::Address;
  }
  const PlainOperand& at(int8_t k) const { return i_.operands[k]; }

  // spl, bpl, sil and dil are only reached with a REX prefix.
  bool needs_plain_rex(int8_t k) const {
    const FormOperand& o = form_.operands[static_cast<size_t>(k)];
    uint8_t r = at(k).physical;
    return o.kind == OperandKind::Register && o.register_class == 0 && o.type.bits() == 8 && r >= 4;
  }

  void prefixes() {
    unsigned rex = 0;
    bool has_rex = false;
    auto high = [&](int8_t physical, unsigned bit) {
      if (physical >= 0 && (number_of(static_cast<uint8_t>(physical)) & 8)) rex |= bit;
    };
    auto in_rm = [&](int8_t k) {
      if (is_memory(k))
        high(at(k).address.base, 1), high(at(k).address.index, 2);
      else
        high(static_cast<int8_t>(at(k).physical), 1), has_rex |= needs_plain_rex(k);
    };
    for (const EncodingStep& s : form_.encoding) {
      switch (step_of(s)) {
        case Step::Sized:
          if (s.value == 64) rex |= 8;
          if (s.value == 16) byte(0x66);
          break;
        case Step::Regs:
          high(static_cast<int8_t>(at(s.a).physical), 4);
          has_rex |= needs_plain_rex(s.a);
          in_rm(s.b);
          break;
        case Step::Digit:
        case Step::Low: in_rm(s.a); break;
        default: break;
      }
    }
    for (const EncodingStep& s : form_.encoding)
      if (step_of(s) == Step::Prefix) byte(s.value);
    if (rex || has_rex) byte(0x40 | rex);
  }

  void step(const EncodingStep& s) {
    switch (step_of(s)) {
      case Step::Prefix:
      case Step::Sized: break;
      case Step::Byte: byte(s.value); break;
      case Step::Low: byte(s.value + (number_of(at(s.a).physical) & 7)); break;
      case Step::Regs: fields(number_of(at(s.a).physical) & 7, s.b); break;
      case Step::Digit: fields(s.value, s.a); break;
      case Step::Literal: number(at(s.a).literal, s.value); break;
      case Step::Distance: distance(at(s.a).literal, s.value); break;
    }
  }

  void distance(int64_t d, unsigned bits) {
    if (bits == 32) out_.fixup_at = out_.size, out_.fixup = 0;
    number(d, bits);
  }

  // ModRM with a register or address in its lower part.
  void fields(unsigned upper, int8_t lower) {
    if (!is_memory(lower)) return byte(0xc0 | upper << 3 | (number_of(at(lower).physical) & 7));
    const PlainAddress& a = at(lower).address;
    if (a.relative) {
      byte(upper << 3 | 5);
      return distance(a.displacement, 32);
    }
    bool short_offset = a.displacement >= -128 && a.displacement < 128;
    // Without a base the offset takes four bytes; rbp and r13 as a base always have one.
    unsigned mode = a.base < 0 ? 0 : a.displacement == 0 && (a.base & 7) != 5 ? 0 : short_offset ? 1 : 2;
    bool sib = a.index >= 0 || a.base < 0 || (a.base & 7) == 4;
    byte(mode << 6 | upper << 3 | (sib ? 4u : static_cast<unsigned>(a.base & 7)));
    if (sib) {
      unsigned scale = a.index < 0 ? 0 : a.scale == 8 ? 3 : a.scale == 4 ? 2 : a.scale == 2 ? 1 : 0;
      byte(scale << 6 | (a.index < 0 ? 4u : static_cast<unsigned>(a.index & 7)) << 3 |
           (a.base < 0 ? 5u : static_cast<unsigned>(a.base & 7)));
    }
    if (mode == 1) number(a.displacement, 8);
    if (mode == 2 || a.base < 0) number(a.displacement, 32);
  }

  const Form& form_;
  const PlainInstruction& i_;
  Encoded out_{};
};

}  // namespace

Encoded x64_encode(const Target& target, const PlainInstruction& i) { return Packer(target, i).run(); }

// The recommended sequences of the Intel 64 manual, volume 2, `nop`, table 4-12, and prefixes that mean
// nothing before the longest of them; eleven bytes are the most that every processor reads in one go.
uint8_t x64_pad(std::span<uint8_t> bytes) {
  static constexpr uint8_t forms[][11] = {{0x90},
                                          {0x66, 0x90},
                                          {0x0f, 0x1f, 0x00},
                                          {0x0f, 0x1f, 0x40},
                                          {0x0f, 0x1f, 0x44},
                                          {0x66, 0x0f, 0x1f, 0x44},
                                          {0x0f, 0x1f, 0x80},
                                          {0x0f, 0x1f, 0x84},
                                          {0x66, 0x0f, 0x1f, 0x84},
                                          {0x66, 0x2e, 0x0f, 0x1f, 0x84},
                                          {0x66, 0x66, 0x2e, 0x0f, 0x1f, 0x84}};
  size_t first = std::min(bytes.size(), std::size(forms));
  for (size_t at = 0; at < bytes.size();) {
    size_t size = std::min(bytes.size() - at, std::size(forms));
    std::memcpy(bytes.data() + at, forms[size - 1], size);
    at += size;
  }
  return static_cast<uint8_t>(first);
}

}  // namespace porphyry::targets
