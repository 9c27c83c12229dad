// Types are four-byte values, equal when their bits are equal; nothing needs to own them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace porphyry {

enum class Shape : uint8_t { None, Bool, Integer, Float, Pointer };

// bool, i2 … i128, f32, f64, ptr; and 2 to 1024 lanes of any of them but ptr: f32[8], bool[8].
class Type {
 public:
  static constexpr unsigned lane_limit = 1024;
  // Words that constants with lanes of one module may take when it is read: a few letters make thousands.
  static constexpr uint64_t constant_budget = uint64_t(1) << 24;

  constexpr Type() = default;
  static constexpr Type boolean() { return Type(Shape::Bool, 1, 1); }
  // No type (see exists) for a width that no integer has at all: 0, and more than 128.
  static constexpr Type integer(unsigned bits) {
    return bits == 0 || bits > 128 ? Type() : Type(Shape::Integer, bits, 1);
  }
  static constexpr Type f32() { return Type(Shape::Float, 32, 1); }
  static constexpr Type f64() { return Type(Shape::Float, 64, 1); }
  // Pointers have 64 bits, or 32 in a module whose layout says so.
  static constexpr Type pointer(unsigned bits = 64) { return Type(Shape::Pointer, bits, 1); }
  // The same elements in another number of lanes; 1 gives the scalar.
  constexpr Type with_lanes(unsigned lanes) const {
    return lanes == 0 || lanes > 0xffff ? Type() : Type((word_ & 0xffff) | lanes << 16);
  }
  // Whether the language has it; one that was put together may be none: i1, two lanes of ptr, 2,000 lanes.
  constexpr bool is_valid() const {
    bool fits = lanes() >= 1 && lanes() <= lane_limit;
    switch (shape()) {
      case Shape::None: return false;
      case Shape::Bool: return fits && bits() == 1;
      case Shape::Integer: return fits && bits() >= 2 && bits() <= 128;
      case Shape::Float: return fits && (bits() == 32 || bits() == 64);
      case Shape::Pointer: return lanes() == 1 && (bits() == 32 || bits() == 64);
    }
    return false;
  }
  // Reads "i32", "ptr", "f32[8]", …; nothing when no such type exists. "ptr" is one of 64 bits.
  static std::optional<Type> named(std::string_view name);

  constexpr Shape shape() const { return static_cast<Shape>(word_ & 0xff); }
  constexpr bool exists() const { return shape() != Shape::None; }
  // These ask for the shape of the elements: true for lanes as well.
  constexpr bool is_bool() const { return shape() == Shape::Bool; }
  constexpr bool is_integer() const { return shape() == Shape::Integer; }
  constexpr bool is_float() const { return shape() == Shape::Float; }
  constexpr bool is_pointer() const { return shape() == Shape::Pointer; }

  constexpr bool has_lanes() const { return lanes() > 1; }
  constexpr unsigned lanes() const { return word_ >> 16; }
  constexpr Type element() const { return with_lanes(1); }
  // Bits of one element; of all lanes side by side.
  constexpr unsigned bits() const { return word_ >> 8 & 0xff; }
  constexpr unsigned total_bits() const { return bits() * lanes(); }
  // Bytes in memory: each element in whole bytes, but lanes of bool as one integer of as many bits. Spare
  // bits are zero.
  constexpr unsigned bytes() const { return is_bool() ? (lanes() + 7u) / 8u : lanes() * element_bytes(); }
  constexpr unsigned element_bytes() const { return (bits() + 7u) / 8u; }
  // 64-bit words that hold a constant of the type: one or two an element, low word first, lane by lane.
  constexpr unsigned words() const { return lanes() * words_per_lane(); }
  constexpr unsigned words_per_lane() const { return bits() > 64 ? 2u : 1u; }
  std::string name() const;
  constexpr bool operator==(const Type&) const = default;

 private:
  constexpr explicit Type(uint32_t word) : word_(word) {}
  constexpr Type(Shape shape, unsigned bits, unsigned lanes)
      : word_(static_cast<uint32_t>(shape) | bits << 8 | lanes << 16) {}

  // The shape in 8 bits, bits in 8, lanes in 16: one word, as types are compared and copied all the time.
  uint32_t word_ = 0;
};

// Short names of the most common types, to be taken one by one where they are wanted: `using types::i64;`.
namespace types {
inline constexpr Type i8 = Type::integer(8), i32 = Type::integer(32), i64 = Type::integer(64),
                      i128 = Type::integer(128), f32 = Type::f32(), f64 = Type::f64(), ptr = Type::pointer();
}

}  // namespace porphyry
