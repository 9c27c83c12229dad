// Rows: a vector of plain rows, which move as bytes. Several of them can live side by side in one block of
// memory that their owner keeps (see TableBlock), so that a record of many tables is copied with one
// allocation. Rows that outgrow the block leave it; their place there stays unused until the owner moves them
// again.
#pragma once

#include <algorithm>
#include <cassert>
#include <cstddef>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <new>
#include <stdexcept>
#include <type_traits>
#include <utility>

#include "porphyry/base/bytes.h"

namespace porphyry {

template <class T>
class Rows {
  static_assert(std::is_trivially_copyable_v<T> && alignof(T) <= alignof(std::max_align_t));

 public:
  using value_type = T;
  Rows() = default;
  explicit Rows(size_t count, const T& value = T()) { resize(count, value); }
  Rows(const Rows& other) { append(other.rows_, other.size_); }
  Rows(Rows&& other) noexcept { swap(other); }
  Rows& operator=(Rows other) noexcept {
    swap(other);
    return *this;
  }
  ~Rows() { release(); }
  void swap(Rows& other) noexcept {
    std::swap(rows_, other.rows_);
    std::swap(size_, other.size_);
    uint32_t room = room_, borrowed = borrowed_;
    room_ = other.room_, borrowed_ = other.borrowed_;
    other.room_ = room & most, other.borrowed_ = borrowed & 1;
  }

  size_t size() const { return size_; }
  bool empty() const { return size_ == 0; }
  size_t capacity() const { return room_; }
  // Bytes of its own; what lies in a shared block is counted there.
  size_t own_bytes() const { return borrowed_ ? 0 : size_t(room_) * sizeof(T); }
  T* data() { return rows_; }
  const T* data() const { return rows_; }
  T* begin() { return rows_; }
  T* end() { return rows_ + size_; }
  const T* begin() const { return rows_; }
  const T* end() const { return rows_ + size_; }
  T& back() { return rows_[size_ - 1]; }
  T& operator[](size_t k) {
    assert(k < size_);
    return rows_[k];
  }
  const T& operator[](size_t k) const {
    assert(k < size_);
    return rows_[k];
  }

  void push_back(const T& row) {
    if (size_ == room_) {
      T kept = row;  // it may lie in the rows that move
      grow(size_ + size_t(1));
      rows_[size_++] = kept;
      return;
    }
    rows_[size_++] = row;
  }
  void append(const T* first, size_t count) {
    if (count == 0) return;
    if (size_ + count > room_) grow(size_ + count);
    std::memcpy(static_cast<void*>(rows_ + size_), first, count * sizeof(T));
    size_ += static_cast<uint32_t>(count);
  }
  // So many more rows, for the caller to fill; where the first of them is.
  T* extend(size_t count) {
    if (size_ + count > room_) grow(size_ + count);
    T* first = rows_ + size_;
    size_ += static_cast<uint32_t>(count);
    return first;
  }
  void resize(size_t count, const T& value = T()) {
    if (count > room_) grow(count);
    if (count > size_) std::fill(rows_ + size_, rows_ + count, value);
    size_ = static_cast<uint32_t>(count);
  }
  void reserve(size_t count) {
    if (count > room_) set_room(count);
  }
  void shrink_to_fit() {
    if (!borrowed_ && size_ != room_) set_room(size_);
  }

 private:
  friend class TableBlock;
  static constexpr uint32_t most = 0x7fffffff;

  void grow(size_t least) {
    size_t twice = std::min<size_t>(room_ * size_t(2), most);
    set_room(std::max({least, twice, size_t(4)}));
  }
  void set_room(size_t room) {
    if (room == 0) return release();
    if (room > most) throw std::length_error("more rows than a table takes");
    void* moved = std::realloc(static_cast<void*>(borrowed_ ? nullptr : rows_), room * sizeof(T));
    if (!moved) throw std::bad_alloc();
    if (borrowed_ && size_) std::memcpy(moved, static_cast<void*>(rows_), size_ * sizeof(T));
    rows_ = static_cast<T*>(moved);
    room_ = static_cast<uint32_t>(room) & most;
    borrowed_ = 0;
  }
  void release() {
    if (rows_ && !borrowed_) std::free(static_cast<void*>(rows_));
    rows_ = nullptr;
    size_ = 0, room_ = 0, borrowed_ = 0;
  }

  T* rows_ = nullptr;
  uint32_t size_ = 0;
  uint32_t room_ : 31 = 0;
  uint32_t borrowed_ : 1 = 0;  // lies in a shared block
};

// A block of memory in which several Rows live. Fill one of the summed sizes, then let the old one go.
class TableBlock {
 public:
  TableBlock() = default;
  explicit TableBlock(size_t bytes) : block_(bytes) {}
  size_t bytes() const { return block_.size(); }

  template <class T>
  static size_t place_for(size_t rows) {
    return (rows * sizeof(T) + 7) / 8 * 8;
  }
  // Gives `rows` the content of `from`, which may be itself, and room for so many, at `offset` in this block,
  // behind which the next one goes.
  template <class T>
  void take_in(Rows<T>& rows, const Rows<T>& from, size_t room, size_t& offset) {
    static_assert(alignof(T) <= 8);
    assert(room >= from.size_ && offset + place_for<T>(room) <= bytes());
    Rows<T> in;
    in.rows_ = reinterpret_cast<T*>(block_.get() + offset);
    in.size_ = from.size_;
    in.room_ = static_cast<uint32_t>(room) & Rows<T>::most;
    in.borrowed_ = 1;
    if (from.size_) std::memcpy(static_cast<void*>(in.rows_), from.rows_, from.size_ * sizeof(T));
    rows.swap(in);
    offset += place_for<T>(room);
  }

 private:
  Bytes block_;
};

}  // namespace porphyry
