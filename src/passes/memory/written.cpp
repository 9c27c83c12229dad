#include "written.h"

namespace porphyry {
namespace {

// How many bytes behind the start of what was written the read begins, when it lies in it.
std::optional<uint64_t> place_in(const MemoryAccess& wrote, const MemoryAccess& read) {
  if (wrote.base != read.base || wrote.index != read.index) return {};
  if (wrote.index.exists() && wrote.scale != read.scale) return {};
  if (wrote.size == MemoryAccess::unknown_size || read.size == MemoryAccess::unknown_size) return {};
  uint64_t behind = static_cast<uint64_t>(read.offset) - static_cast<uint64_t>(wrote.offset);
  if (behind > wrote.size || read.size > wrote.size - behind) return {};
  return behind;
}

// Whether a value fills its bytes, so that they are its bits.
bool is_all_bits(Type t) {
  return !t.has_lanes() && (t.is_integer() || t.is_float() || t.is_pointer()) && t.bits() == 8 * t.bytes();
}

Value with_bits_of(Pen& pen, Type to, Value v) {
  return pen.function().type(v) == to ? v : pen.convert(Op::Bits, to, v);
}

Value part_of(Pen& pen, Value stored, uint64_t behind, Type type) {
  Type from = pen.function().type(stored);
  if (from == type && behind == 0) return stored;
  if (!is_all_bits(from) || !is_all_bits(type)) return {};
  // Pointers are taken as a whole: what a part of one leads to nobody says.
  if ((from.is_pointer() || type.is_pointer()) && from.bits() != type.bits()) return {};
  bool big = pen.module().layout.order == ByteOrder::Big;
  uint64_t above = big ? from.bytes() - type.bytes() - behind : behind;
  Value word = with_bits_of(pen, Type::integer(from.bits()), stored);
  if (above) word = pen.shr_u(word, pen.integer(pen.function().type(word), static_cast<int64_t>(8 * above)));
  if (type.bits() < from.bits()) word = pen.narrow(Type::integer(type.bits()), word);
  return with_bits_of(pen, type, word);
}

Value filled(Pen& pen, Value byte, Type type) {
  Function& f = pen.function();
  if (type == f.type(byte)) return byte;
  if (!f.is_constant(byte) || type.bits() % 8) return {};
  Bits bits = 0;
  for (unsigned k = 0; k < type.bits(); k += 8) bits |= f.constant_word(byte) << k;
  if (!(type.is_integer() || type.is_float() || (type.is_pointer() && bits == 0))) return {};
  return f.constant(type, bits);
}

}  // namespace

Value value_written(Pen& pen, const Alias& alias, Instruction write, const MemoryAccess& read, Type type) {
  const Function& f = pen.function();
  if (f.op(write) != Op::Store && f.op(write) != Op::Fill) return {};
  const Address& a = f.address(write);
  auto behind = place_in(alias.access(write), read);
  if (!behind || a.is_volatile || a.masked) return {};
  return f.op(write) == Op::Fill ? filled(pen, f.operand(write, 0), type)
                                 : part_of(pen, f.operand(write, 0), *behind, type);
}

std::optional<CopiedFrom> copied_from(const Function& f, const Alias& alias, Instruction copy,
                                      const MemoryAccess& read) {
  if (f.op(copy) != Op::Copy) return {};
  const CopyShape& shape = f.copy_shape(copy);
  auto behind = place_in(alias.access(copy), read);
  if (!behind || shape.to.is_volatile || shape.from.is_volatile) return {};
  CopiedFrom out{shape.from, {}, alias.read_by_copy(copy)};
  // What the copy promised of all its bytes holds for few of them as far as their offset does.
  while (*behind % out.address.align) out.address.align /= 2;
  out.address.offset += static_cast<int64_t>(*behind);
  out.access.offset += static_cast<int64_t>(*behind);
  out.access.size = read.size;
  size_t first = shape.to.operand_count();
  for (size_t k = 0; k < shape.from.operand_count(); ++k) out.operands.push_back(f.operand(copy, first + k));
  Instruction maker = f.definition(out.access.base);
  // A copy may stand where a sole pointer is alone and the load behind its end.
  if (maker.exists() && f.op(maker) == Op::Sole) return {};
  return out;
}

}  // namespace porphyry
