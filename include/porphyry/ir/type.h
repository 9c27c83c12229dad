// Types are four-byte values, equal when their bits are equal; nothing needs to own them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace porphyry {

enum class Shape : uint8_t { None, Bool, Integer, Float, Pointer };

// bool, i8 … i64, f32, f64, ptr. The word of lanes is reserved: one lane is a scalar.
class Type {
 public:
  constexpr Type() = default;
  static constexpr Type boolean() { return Type(Shape::Bool, 1); }
  static constexpr Type integer(unsigned bits) { return Type(Shape::Integer, bits); }
  static constexpr Type f32() { return Type(Shape::Float, 32); }
  static constexpr Type f64() { return Type(Shape::Float, 64); }
  static constexpr Type pointer() { return Type(Shape::Pointer, 64); }
  // Reads "i32", "ptr", …; nothing when no such type exists.
  static std::optional<Type> named(std::string_view name);

  constexpr Shape shape() const { return shape_; }
  constexpr bool exists() const { return shape_ != Shape::None; }
  constexpr bool is_bool() const { return shape_ == Shape::Bool; }
  constexpr bool is_integer() const { return shape_ == Shape::Integer; }
  constexpr bool is_float() const { return shape_ == Shape::Float; }
  constexpr bool is_pointer() const { return shape_ == Shape::Pointer; }
  constexpr unsigned bits() const { return bits_; }
  constexpr unsigned lanes() const { return lanes_; }
  // Bytes in memory: spare bits of the last byte are zero.
  constexpr unsigned bytes() const { return (bits_ + 7u) / 8u; }
  std::string name() const;
  constexpr bool operator==(const Type&) const = default;

 private:
  constexpr Type(Shape shape, unsigned bits) : shape_(shape), bits_(static_cast<uint8_t>(bits)), lanes_(1) {}

  Shape shape_ = Shape::None;
  uint8_t bits_ = 0;
  uint16_t lanes_ = 0;
};

}  // namespace porphyry
