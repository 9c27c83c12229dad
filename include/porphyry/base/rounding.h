// Multiples of numbers.
#pragma once

namespace porphyry {

// The least multiple of `to` that is not below `n`, and the greatest that is not above. `to` is not 0, and
// the result fits.
template <class T>
constexpr T round_up(T n, T to) {
  return (n + to - 1) / to * to;
}
template <class T>
constexpr T round_down(T n, T to) {
  return n / to * to;
}
// How many of `to` hold `n`.
template <class T>
constexpr T parts_for(T n, T to) {
  return (n + to - 1) / to;
}

}  // namespace porphyry
