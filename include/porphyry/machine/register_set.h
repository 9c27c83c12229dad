// Sets of physical registers, flags apart: a target has up to `capacity` registers of all classes together.
//
//   RegisterSet lost = target.form(f).writes - target.convention.kept;
//   for (unsigned r : lost) …
#pragma once

#include <bit>
#include <cstddef>
#include <cstdint>
#include <initializer_list>

namespace porphyry::machine {

class RegisterSet {
 public:
  static constexpr unsigned capacity = 128;

  constexpr RegisterSet() = default;
  constexpr RegisterSet(std::initializer_list<unsigned> registers) {
    for (unsigned r : registers) add(r);
  }
  // `count` registers from `first` on.
  static constexpr RegisterSet run(unsigned first, unsigned count) {
    RegisterSet out;
    for (unsigned r = first; r < first + count; ++r) out.add(r);
    return out;
  }

  constexpr void add(unsigned r) { words_[r / 64] |= uint64_t(1) << (r % 64); }
  constexpr void remove(unsigned r) { words_[r / 64] &= ~(uint64_t(1) << (r % 64)); }
  constexpr bool has(unsigned r) const { return words_[r / 64] >> (r % 64) & 1; }
  constexpr bool empty() const { return (words_[0] | words_[1]) == 0; }
  constexpr unsigned count() const {
    return static_cast<unsigned>(std::popcount(words_[0]) + std::popcount(words_[1]));
  }
  constexpr bool meets(const RegisterSet& o) const {
    return ((words_[0] & o.words_[0]) | (words_[1] & o.words_[1])) != 0;
  }
  constexpr bool operator==(const RegisterSet&) const = default;

  constexpr RegisterSet& operator|=(const RegisterSet& o) {
    for (size_t k = 0; k < word_count; ++k) words_[k] |= o.words_[k];
    return *this;
  }
  constexpr RegisterSet& operator&=(const RegisterSet& o) {
    for (size_t k = 0; k < word_count; ++k) words_[k] &= o.words_[k];
    return *this;
  }
  constexpr RegisterSet& operator-=(const RegisterSet& o) {
    for (size_t k = 0; k < word_count; ++k) words_[k] &= ~o.words_[k];
    return *this;
  }
  friend constexpr RegisterSet operator|(RegisterSet a, const RegisterSet& b) { return a |= b; }
  friend constexpr RegisterSet operator&(RegisterSet a, const RegisterSet& b) { return a &= b; }
  friend constexpr RegisterSet operator-(RegisterSet a, const RegisterSet& b) { return a -= b; }

  // The registers in ascending order. A loop goes over the set as it was when the loop began.
  class Iterator {
   public:
    constexpr explicit Iterator(const RegisterSet& set) : low_(set.words_[0]), high_(set.words_[1]) {}
    constexpr unsigned operator*() const {
      return static_cast<unsigned>(low_ ? std::countr_zero(low_) : 64 + std::countr_zero(high_));
    }
    constexpr Iterator& operator++() {
      uint64_t& word = low_ ? low_ : high_;
      word &= word - 1;
      return *this;
    }
    constexpr bool operator==(const Iterator&) const = default;

   private:
    uint64_t low_, high_;
  };
  constexpr Iterator begin() const { return Iterator(*this); }
  constexpr Iterator end() const { return Iterator(RegisterSet()); }

 private:
  static constexpr size_t word_count = capacity / 64;
  uint64_t words_[word_count] = {};
};

}  // namespace porphyry::machine
