// Table: a vector indexed by one kind of handle. SideTable: the same, grown on demand, for facts that only
// some entries have. Plain rows are kept as Rows. FixedTable: of a settled size, in memory of one's choice.
#pragma once

#include <cassert>
#include <memory_resource>
#include <vector>

#include "porphyry/base/ids.h"
#include "porphyry/base/rows.h"

namespace porphyry {

template <class T>
using RowsOf =
    std::conditional_t<std::is_trivially_copyable_v<T> && alignof(T) <= 8, Rows<T>, std::vector<T>>;

template <class Handle, class T>
class Table {
 public:
  Table() = default;
  explicit Table(size_t count, const T& value = T()) : rows_(count, value) {}

  Handle add(T row) {
    rows_.push_back(std::move(row));
    return Handle(rows_.size() - 1);
  }
  T& operator[](Handle id) {
    assert(id.index < rows_.size());
    return rows_[id.index];
  }
  const T& operator[](Handle id) const {
    assert(id.index < rows_.size());
    return rows_[id.index];
  }
  size_t size() const { return rows_.size(); }
  bool empty() const { return rows_.empty(); }
  void resize(size_t count, const T& value = T()) { rows_.resize(count, value); }
  bool holds(Handle id) const { return id.index < rows_.size(); }
  void reserve(size_t count) { rows_.reserve(count); }
  void shrink_to_fit() { rows_.shrink_to_fit(); }
  size_t bytes() const { return rows_.capacity() * sizeof(T); }
  RowsOf<T>& rows() { return rows_; }
  const RowsOf<T>& rows() const { return rows_; }
  auto begin() { return rows_.begin(); }
  auto end() { return rows_.end(); }
  auto begin() const { return rows_.begin(); }
  auto end() const { return rows_.end(); }

 private:
  RowsOf<T> rows_;
};

template <class Handle, class T>
class FixedTable {
 public:
  FixedTable(size_t count, std::pmr::memory_resource* memory, const T& value = T())
      : rows_(count, value, memory) {}
  // Later, for a table that most functions do not want at all.
  explicit FixedTable(std::pmr::memory_resource* memory) : rows_(memory) {}
  bool empty() const { return rows_.empty(); }
  bool holds(Handle id) const { return id.index < rows_.size(); }
  void make(size_t count, const T& value = T()) { rows_.assign(count, value); }

  bool operator==(const FixedTable&) const = default;

  T& operator[](Handle id) {
    assert(id.index < rows_.size());
    return rows_[id.index];
  }
  const T& operator[](Handle id) const {
    assert(id.index < rows_.size());
    return rows_[id.index];
  }

 private:
  std::pmr::vector<T> rows_;
};

// Reading past the end gives the default value; writing grows the table.
template <class Handle, class T>
class SideTable {
 public:
  T get(Handle id) const { return id.index < rows_.size() ? rows_[id.index] : T(); }
  void set(Handle id, T value) {
    if (id.index == rows_.size()) return rows_.push_back(std::move(value));  // most often the next one
    if (id.index > rows_.size()) rows_.resize(id.index + 1);
    rows_[id.index] = std::move(value);
  }
  void reserve(size_t count) { rows_.reserve(count); }
  void shrink_to_fit() { rows_.shrink_to_fit(); }
  size_t bytes() const { return rows_.capacity() * sizeof(T); }
  RowsOf<T>& rows() { return rows_; }
  const RowsOf<T>& rows() const { return rows_; }

 private:
  RowsOf<T> rows_;
};

}  // namespace porphyry
