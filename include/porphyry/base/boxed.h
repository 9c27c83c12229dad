// A value that is seldom there: a pointer's size while it is empty, copied with its owner.
#pragma once

#include <memory>

namespace porphyry {

template <class T>
class Boxed {
 public:
  Boxed() = default;
  Boxed(T value) : held_(std::make_unique<T>(std::move(value))) {}  // NOLINT: conversion is the point
  Boxed(const Boxed& other) : held_(other.held_ ? std::make_unique<T>(*other.held_) : nullptr) {}
  Boxed(Boxed&&) noexcept = default;
  Boxed& operator=(Boxed other) noexcept {
    held_ = std::move(other.held_);
    return *this;
  }

  // Null while there is nothing.
  const T* get() const { return held_.get(); }
  const T* operator->() const { return held_.get(); }
  const T& operator*() const { return *held_; }
  // Made when it is needed first.
  T& make() {
    if (!held_) held_ = std::make_unique<T>();
    return *held_;
  }
  void reset() { held_.reset(); }

 private:
  std::unique_ptr<T> held_;
};

}  // namespace porphyry
