// Unpacking: the forms are tried whose first opcode byte stands behind the prefixes; the book's steps are
// followed as in encoding, and what they meet must be what they say.
#include <algorithm>
#include <cstring>
#include <vector>

#include "x64.h"

namespace porphyry::targets {

using namespace machine;

namespace {

class Unpacker {
 public:
  Unpacker(const Form& form, std::span<const uint8_t> bytes) : form_(form), bytes_(bytes) {}

  // Bytes used; 0 when the form is another one.
  uint8_t run(PlainInstruction& out) {
    for (size_t k = 0; k < form_.operands.size(); ++k) {
      out.operands[k] = {};
      out.operands[k].kind = form_.operands[k].kind;
      const FormOperand& shape = form_.operands[k];
      if (shape.only < 0) continue;
      if (shape.kind == OperandKind::Literal)
        out.operands[k].literal = shape.only;
      else
        out.operands[k].physical = static_cast<uint8_t>(shape.only);
    }
    if (!prefixes()) return 0;
    for (const EncodingStep& s : form_.encoding)
      if (!step(s, out)) return 0;
    return static_cast<uint8_t>(at_);
  }

 private:
  bool has(size_t n) const { return at_ + n <= bytes_.size(); }
  uint8_t take() { return bytes_[at_++]; }
  bool number(unsigned bits, int64_t& out) {
    if (!has(bits / 8)) return false;
    uint64_t v = 0;
    std::memcpy(&v, &bytes_[at_], bits / 8);
    at_ += bits / 8;
    unsigned spare = 64 - bits;
    out = static_cast<int64_t>(v << spare) >> spare;
    return true;
  }

  bool prefixes() {
    unsigned wanted_prefix = 0, wanted_size = 32;
    bool sized = false;
    for (const EncodingStep& s : form_.encoding) {
      if (step_of(s) == Step::Prefix) wanted_prefix = s.value;
      if (step_of(s) == Step::Sized) wanted_size = s.value, sized = true;
    }
    unsigned prefix = 0;
    bool half = false;
    while (has(1) && (bytes_[at_] == 0x66 || bytes_[at_] == 0xf2 || bytes_[at_] == 0xf3)) {
      uint8_t b = take();
      if (b == 0x66 && wanted_prefix != 0x66)
        half = true;
      else
        prefix = b;
    }
    if (prefix != wanted_prefix || half != (sized && wanted_size == 16)) return false;
    if (has(1) && (bytes_[at_] & 0xf0) == 0x40) rex_ = take(), has_rex_ = true;
    return ((rex_ & 8) != 0) == (sized && wanted_size == 64);
  }

  uint8_t physical(int8_t k, unsigned number) const {
    const FormOperand& o = form_.operands[static_cast<size_t>(k)];
    return static_cast<uint8_t>(number + (o.register_class == 1 ? 16 : 0));
  }
  // ah to bh, the forms without REX, are not in the book.
  bool reachable(int8_t k, unsigned number) const {
    const FormOperand& o = form_.operands[static_cast<size_t>(k)];
    return has_rex_ || o.register_class != 0 || o.type.bits() != 8 || number < 4;
  }

  bool step(const EncodingStep& s, PlainInstruction& out) {
    auto operand = [&](int8_t k) -> PlainOperand& { return out.operands[k]; };
    switch (step_of(s)) {
      case Step::Prefix:
      case Step::Sized: return true;
      case Step::Byte: return has(1) && take() == s.value;
      case Step::Low: {
        if (!has(1)) return false;
        uint8_t b = take();
        if ((b & 0xf8) != s.value) return false;
        operand(s.a).physical = physical(s.a, (b & 7u) | (rex_ & 1 ? 8u : 0u));
        return reachable(s.a, operand(s.a).physical);
      }
      case Step::Regs: {
        if (!has(1)) return false;
        unsigned upper = (bytes_[at_] >> 3 & 7u) | (rex_ & 4 ? 8u : 0u);
        if (s.a == s.b) {  // both fields name the one operand
          unsigned lower = (bytes_[at_] & 7u) | (rex_ & 1 ? 8u : 0u);
          if (lower != upper) return false;
        }
        operand(s.a).physical = physical(s.a, upper);
        return reachable(s.a, upper) && lower_part(s.b, operand(s.b));
      }
      case Step::Digit: return has(1) && (bytes_[at_] >> 3 & 7) == s.value && lower_part(s.a, operand(s.a));
      case Step::Literal: {
        if (!number(s.value, operand(s.a).literal)) return false;
        if (form_.operands[static_cast<size_t>(s.a)].literal_unsigned) operand(s.a).literal &= 0xff;
        return true;
      }
      case Step::Distance: return number(s.value, operand(s.a).literal);
    }
    return false;
  }

  bool lower_part(int8_t k, PlainOperand& o) {
    uint8_t modrm = take();
    unsigned mode = modrm >> 6, lower = modrm & 7;
    OperandKind kind = form_.operands[static_cast<size_t>(k)].kind;
    if (mode == 3) {
      if (kind != OperandKind::Register) return false;
      o.physical = physical(k, lower | (rex_ & 1 ? 8u : 0u));
      return reachable(k, o.physical);
    }
    if (kind != OperandKind::Memory && kind != OperandKind::Address) return false;
    PlainAddress& a = o.address;
    a = {};
    int64_t displacement = 0;
    bool no_base = false;
    if (lower == 4) {
      if (!has(1)) return false;
      uint8_t sib = take();
      unsigned index = (sib >> 3 & 7u) | (rex_ & 2 ? 8u : 0u), base = (sib & 7u) | (rex_ & 1 ? 8u : 0u);
      if (index != 4) a.index = static_cast<int8_t>(index), a.scale = static_cast<uint8_t>(1 << (sib >> 6));
      no_base = (sib & 7) == 5 && mode == 0;
      if (!no_base) a.base = static_cast<int8_t>(base);
    } else if (lower == 5 && mode == 0) {
      a.relative = true;
    } else {
      a.base = static_cast<int8_t>(lower | (rex_ & 1 ? 8u : 0u));
    }
    if (mode == 1 && !number(8, displacement)) return false;
    if ((mode == 2 || no_base || a.relative) && !number(32, displacement)) return false;
    a.displacement = static_cast<int32_t>(displacement);
    return true;
  }

  const Form& form_;
  std::span<const uint8_t> bytes_;
  size_t at_ = 0;
  uint8_t rex_ = 0;
  bool has_rex_ = false;
};

// The forms by their opcode: one byte, one behind 0x0f, or one behind 0x0f 0x38 or 0x0f 0x3a.
class Index {
 public:
  explicit Index(const Target& target) {
    for (FormIndex f = first_real_form; f < target.forms.size(); ++f) {
      uint8_t bytes[3] = {};
      size_t n = 0;
      bool is_low = false;
      for (const EncodingStep& s : target.form(f).encoding)
        if ((step_of(s) == Step::Byte || step_of(s) == Step::Low) && n < 3)
          bytes[n++] = s.value, is_low |= step_of(s) == Step::Low;
        else if (n)
          break;  // bytes behind the operands are no opcode
      auto [map, at] = place({bytes, n});
      for (unsigned low = 0; low < (is_low ? 8u : 1u); ++low) forms_[map][bytes[at] + low].push_back(f);
    }
  }
  std::span<const FormIndex> of(std::span<const uint8_t> bytes) const {
    auto [map, at] = place(bytes);
    if (at >= bytes.size()) return {};
    return forms_[map][bytes[at]];
  }

 private:
  // Which map, and which of the bytes names the instruction in it.
  static std::pair<size_t, size_t> place(std::span<const uint8_t> bytes) {
    if (bytes[0] != 0x0f || bytes.size() < 2) return {0, 0};
    if (bytes[1] == 0x38) return {2, 2};
    if (bytes[1] == 0x3a) return {3, 2};
    return {1, 1};
  }
  std::vector<FormIndex> forms_[opcode_maps][256];
};

}  // namespace

namespace {

// Fillers come with prefixes that mean nothing: 0x66 again and again, then 0x2e. How many bytes of them stand
// before the plain instruction, of which the last 0x66 is kept.
size_t idle_prefixes(std::span<const uint8_t> bytes) {
  size_t halves = 0;
  while (halves < bytes.size() && bytes[halves] == 0x66) ++halves;
  auto at = [&](size_t k) { return k < bytes.size() ? bytes[k] : 0; };
  bool is_filler = halves > 0 && at(halves) == 0x2e && at(halves + 1) == 0x0f && at(halves + 2) == 0x1f;
  return is_filler ? halves : 0;
}

}  // namespace

uint8_t x64_decode(const Target& target, std::span<const uint8_t> bytes, PlainInstruction& out) {
  static const Index index(target);  // constant, like the tables it is made from
  if (size_t idle = idle_prefixes(bytes)) {
    uint8_t plain[16] = {0x66};
    size_t count = std::min<size_t>(bytes.size() - idle - 1, sizeof plain - 1);
    std::memcpy(plain + 1, bytes.data() + idle + 1, count);
    uint8_t size = x64_decode(target, {plain, count + 1}, out);
    return static_cast<uint8_t>(size && size + idle <= 15 ? size + idle : 0);
  }
  size_t at = 0;
  while (at < bytes.size() && (bytes[at] == 0x66 || bytes[at] == 0xf2 || bytes[at] == 0xf3)) ++at;
  if (at < bytes.size() && (bytes[at] & 0xf0) == 0x40) ++at;
  if (at >= bytes.size()) return 0;
  for (FormIndex f : index.of(bytes.subspan(at))) {
    out.form = f;
    uint8_t size = Unpacker(target.form(f), bytes).run(out);
    if (size) return size;
  }
  return 0;
}

}  // namespace porphyry::targets
