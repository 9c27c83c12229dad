// A block of raw bytes. A large one comes straight from the system and goes straight back to it, so that the
// tables of a huge function do not stay behind as holes in a heap that stay unused.
#pragma once

#include <cstddef>
#include <utility>

namespace porphyry {

class Bytes {
 public:
  Bytes() = default;
  // Not initialized; at least of the alignment of `new`. Throws std::bad_alloc when there are none.
  explicit Bytes(size_t size);
  Bytes(Bytes&& other) noexcept
      : at_(std::exchange(other.at_, nullptr)), size_(std::exchange(other.size_, 0)) {}
  Bytes& operator=(Bytes&& other) noexcept {
    std::swap(at_, other.at_), std::swap(size_, other.size_);
    return *this;
  }
  ~Bytes() {
    if (at_) release();
  }

  std::byte* get() const { return at_; }
  size_t size() const { return size_; }

 private:
  static constexpr size_t large = 256 << 10;
  void release();

  std::byte* at_ = nullptr;
  size_t size_ = 0;
};

}  // namespace porphyry
