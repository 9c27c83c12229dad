// What is wrong with an input, as data: where, what, and what was expected. Nothing here prints; see
// render/diagnostics.h.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace porphyry {

struct Diagnostic {
  std::string file;      // empty when the mistake is not in a file
  uint32_t line = 0;     // from 1; 0 when there is no position
  uint32_t column = 0;   // from 1, in bytes
  uint32_t length = 1;   // bytes to mark
  std::string message;   // what is wrong
  std::string expected;  // what would have been right; may be empty
  std::string excerpt;   // the line itself, or the printed instruction for a built module
  uint32_t mark = 0;     // where in the excerpt the marked bytes start, from 0
};

using Diagnostics = std::vector<Diagnostic>;

// A value, or the reasons why there is none.
template <class T>
class Result {
 public:
  Result(T value) : value_(std::move(value)) {}               // NOLINT: conversion is the point
  Result(Diagnostics why) : why_(std::move(why)) {}           // NOLINT
  Result(Diagnostic why) { why_.push_back(std::move(why)); }  // NOLINT

  bool good() const { return value_.has_value(); }
  explicit operator bool() const { return good(); }
  T& operator*() { return *value_; }
  const T& operator*() const { return *value_; }
  T* operator->() { return &*value_; }
  const T* operator->() const { return &*value_; }
  const Diagnostics& why() const { return why_; }

 private:
  std::optional<T> value_;
  Diagnostics why_;
};

// A diagnostic without a position.
inline Diagnostic complaint(std::string message, std::string expected = "") {
  Diagnostic d;
  d.message = std::move(message);
  d.expected = std::move(expected);
  return d;
}

// "1 operand", "3 operands"; `many` where an s does not do.
std::string counted(uint64_t n, std::string_view one, std::string_view many = {});

// "a, b or c" for messages.
std::string listed(const std::vector<std::string>& words, std::string_view last = "or");

// The candidate closest to `word` by edit distance, or empty when none is near (more than a third of the
// letters and one differ). O(candidates * length^2).
std::string nearest(std::string_view word, const std::vector<std::string>& candidates);

}  // namespace porphyry
