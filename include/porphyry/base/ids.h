// Typed 32-bit handles. Everything in a module is named by a small integer into a flat table; the tag
// keeps a block's handle from being used where a value's is meant. A handle costs four bytes and copies
// like an integer.
#pragma once

#include <compare>
#include <cstdint>
#include <functional>

namespace porphyry {

template <class Tag>
struct Id {
  static constexpr uint32_t nothing = 0xffffffffu;

  uint32_t index = nothing;

  constexpr Id() = default;
  constexpr explicit Id(size_t i) : index(static_cast<uint32_t>(i)) {}

  // True when the handle names something.
  constexpr bool exists() const { return index != nothing; }
  constexpr auto operator<=>(const Id&) const = default;
};

}  // namespace porphyry

template <class Tag>
struct std::hash<porphyry::Id<Tag>> {
  size_t operator()(porphyry::Id<Tag> id) const { return std::hash<uint32_t>()(id.index); }
};
