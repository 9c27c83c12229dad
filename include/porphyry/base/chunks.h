// A list that only grows and whose elements never move: one thread may add while others read what they know
// to be there.
#pragma once

#include <array>
#include <bit>
#include <cstddef>
#include <memory>

namespace porphyry {

// Chunks of 64, 128, 256, … elements.
template <class T>
class Chunks {
 public:
  size_t size() const { return size_; }
  const T& operator[](size_t k) const {
    size_t chunk = chunk_of(k);
    return chunks_[chunk][k - first_in(chunk)];
  }
  void push_back(const T& v) {
    size_t chunk = chunk_of(size_);
    if (!chunks_[chunk]) chunks_[chunk] = std::make_unique<T[]>(size_t(64) << chunk);
    chunks_[chunk][size_ - first_in(chunk)] = v;
    ++size_;
  }
  size_t bytes() const { return size_ ? first_in(chunk_of(size_ - 1) + 1) * sizeof(T) : 0; }

 private:
  static size_t chunk_of(size_t k) { return static_cast<size_t>(std::bit_width(k / 64 + 1)) - 1; }
  static size_t first_in(size_t chunk) { return (size_t(64) << chunk) - 64; }
  std::array<std::unique_ptr<T[]>, 27> chunks_;
  size_t size_ = 0;
};

}  // namespace porphyry
