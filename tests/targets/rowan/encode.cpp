// Instructions as words of 32 bits, the most significant byte first.
#include "encode.h"

#include <array>

namespace porphyry::targets {

using namespace machine;

namespace {

// In the order of the book's encodings.
enum class Step : uint8_t { Opcode, Register, Literal, Distance, Address };

constexpr unsigned opcode_at = 25, base_at = 15, offset_bits = 12;

uint32_t field(int64_t v, unsigned bits, unsigned at) {
  return (static_cast<uint32_t>(v) & ((1u << bits) - 1)) << at;
}
int64_t signed_field(uint32_t word, unsigned bits) {
  return static_cast<int32_t>(word << (32 - bits)) >> (32 - bits);
}
unsigned number_in_class(unsigned physical) { return physical % 32; }

uint32_t read_word(const uint8_t* at) {
  return uint32_t(at[0]) << 24 | uint32_t(at[1]) << 16 | uint32_t(at[2]) << 8 | at[3];
}
void write_word(uint8_t* at, uint32_t word) {
  for (unsigned k = 0; k < 4; ++k) at[k] = static_cast<uint8_t>(word >> (24 - 8 * k));
}

// The form by its opcode: no two share one.
std::array<FormIndex, 128> forms_by_opcode(const Target& target) {
  std::array<FormIndex, 128> out{};
  for (FormIndex f = first_real_form; f < target.forms.size(); ++f) out[target.form(f).encoding[0].value] = f;
  return out;
}

}  // namespace

Encoded rowan_encode(const Target& target, const PlainInstruction& i) {
  Encoded out;
  uint32_t word = 0;
  for (const EncodingStep& s : target.form(i.form).encoding) {
    const PlainOperand& o = i.operands[s.a < 0 ? 0 : s.a];
    switch (static_cast<Step>(s.kind)) {
      case Step::Opcode: word |= field(s.value, 7, opcode_at); break;
      case Step::Register: word |= field(number_in_class(o.physical), 5, s.value); break;
      case Step::Literal:
        word |= field(o.literal, s.value, 0);
        out.fixup = s.value == 20 ? rowan_upper : s.value == 12 ? rowan_lower : Encoded::no_fixup;
        break;
      case Step::Distance:
        word |= field(o.literal / 4, s.value, 0);
        if (s.value == 25) out.fixup = rowan_distance;
        break;
      case Step::Address:
        word |= field(o.address.base, 5, base_at) | field(o.address.displacement, offset_bits, 0);
        break;
    }
  }
  write_word(out.bytes, word);
  out.size = 4;
  return out;
}

bool rowan_settle(uint8_t kind, uint8_t* at, int64_t value) {
  uint32_t word = read_word(at), address = static_cast<uint32_t>(value);
  switch (kind) {
    case rowan_distance: word |= field(value / 4, 25, 0); break;
    case rowan_upper: word |= address >> 12; break;
    case rowan_lower: word |= address & 0xfff; break;
  }
  write_word(at, word);
  return kind != rowan_distance || (value % 4 == 0 && value >= -(1 << 26) && value < 1 << 26);
}

uint8_t rowan_decode(const Target& target, std::span<const uint8_t> bytes, PlainInstruction& out) {
  static const auto forms = forms_by_opcode(target);  // constant, like the tables it is made from
  if (bytes.size() < 4) return 0;
  const uint32_t word = read_word(bytes.data());
  out = {.form = forms[word >> opcode_at]};
  if (out.form == 0) return 0;
  const Form& form = target.form(out.form);
  for (size_t k = 0; k < form.operands.size(); ++k) out.operands[k].kind = form.operands[k].kind;
  for (const EncodingStep& s : form.encoding) {
    if (s.a < 0) continue;
    const FormOperand& shape = form.operands[static_cast<size_t>(s.a)];
    PlainOperand& o = out.operands[s.a];
    switch (static_cast<Step>(s.kind)) {
      case Step::Opcode: break;
      case Step::Register:
        o.physical = static_cast<uint8_t>((word >> s.value & 31) + (shape.register_class ? 32 : 0));
        break;
      case Step::Literal:
        o.literal = shape.literal_unsigned ? word & ((1u << s.value) - 1) : signed_field(word, s.value);
        break;
      case Step::Distance: o.literal = 4 * signed_field(word, s.value); break;
      case Step::Address:
        o.address = {.base = static_cast<int8_t>(word >> base_at & 31),
                     .displacement = static_cast<int32_t>(signed_field(word, offset_bits))};
        break;
    }
  }
  return 4;
}

}  // namespace porphyry::targets
