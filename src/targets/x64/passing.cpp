// Values by the System V AMD64 ABI, version 1.0, section 3.2.3, for what C can say:
//   bool, i8, i16              a register, zeros above (C's signed char and short: pass a widened i32)
//   i2 … i64                   a register, zeros above
//   i65 … i128                 two registers or two stack words, never one of each; i128 on the stack at a
//                              multiple of 16
//   lanes up to 64, 128 bits   a float register, or stack words
//   wider lanes                stack words, as they lie in memory; lanes of bool as integers of as many bits
//   C structures               up to sixteen bytes in words of eight, each in a register of its kind
#include "porphyry/machine/passing.h"

#include <bit>

#include "x64.h"

namespace porphyry::targets {

namespace {

using types::i32, types::i64;
const Type two = Type::f64().with_lanes(2);

std::vector<Type> words(unsigned bits) {
  return bits <= 64 ? std::vector<Type>{bits <= 32 ? i32 : i64} : std::vector<Type>(2, i64);
}

std::vector<Type> parts(Type t, bool as_result) {
  if (!t.has_lanes()) {
    if (t.is_float() || t.is_pointer()) return {t};
    bool plain =
        t.is_bool() || (t.is_integer() && t.bits() <= 64 && std::has_single_bit(t.bits()) && t.bits() >= 8);
    if (plain && (as_result || t.bits() >= 32)) return {t};
    return words(t.bits());
  }
  if (t.is_bool()) return t.lanes() <= 128 ? words(t.lanes()) : std::vector<Type>();
  if (t.total_bits() <= 64) return {Type::f64()};
  return t.total_bits() <= 128 ? std::vector<Type>{two} : std::vector<Type>();
}

bool as_it_stands(Type t, bool as_result) {
  if (t.has_lanes()) return t == two;
  if (t.is_float() || t.is_pointer()) return true;
  if (t.is_bool()) return as_result;
  return t.is_integer() &&
         (t.bits() == 32 || t.bits() == 64 || (as_result && (t.bits() == 8 || t.bits() == 16)));
}

bool aligned_on_stack(Type t) { return t == Type::integer(128); }

std::vector<Type> structure(const machine::CLayout& layout) {
  if (layout.bytes > 16 || layout.bytes == 0) return {};
  bool whole[2] = {false, false};
  for (auto [offset, type] : layout.members)
    if (!type.is_float()) whole[offset / 8] = whole[(offset + type.bytes() - 1) / 8] = true;
  std::vector<Type> out;
  for (size_t k = 0; k < (layout.bytes + 7) / 8; ++k) out.push_back(whole[k] ? i64 : Type::f64());
  return out;
}

}  // namespace

const machine::PassingRules x64_passing{parts, as_it_stands, aligned_on_stack, structure};

}  // namespace porphyry::targets
