// Ranges over what functions and modules keep in lists and rows, for `for` loops:
//
//   for (Symbol s : module.functions())
//     for (Block b : f.blocks())
//       for (Instruction i : f.instructions(b))
//         for (Value v : f.operands(i)) …
//
// A range reads the next handle when the loop comes to it: handles may be added and others erased meanwhile,
// but not the current one. A loop that erases what it is at keeps the next one itself.
#pragma once

#include <cstddef>
#include <iterator>

namespace porphyry {

// A linked list: `next` gives the handle behind one, nothing behind the last.
template <class Owner, class Handle, Handle (Owner::*next)(Handle) const>
class Chain {
 public:
  Chain(const Owner& owner, Handle first) : owner_(&owner), first_(first) {}
  struct iterator {
    const Owner* owner;
    Handle at;
    Handle operator*() const { return at; }
    iterator& operator++() { return at = (owner->*next)(at), *this; }
    bool operator==(std::default_sentinel_t) const { return !at.exists(); }
  };
  iterator begin() const { return {owner_, first_}; }
  std::default_sentinel_t end() const { return {}; }
  bool empty() const { return !first_.exists(); }
  // O(length).
  size_t count() const {
    size_t n = 0;
    for (Handle h = first_; h.exists(); h = (owner_->*next)(h)) ++n;
    return n;
  }

 private:
  const Owner* owner_;
  Handle first_;
};

// Rows that have a number each: `at` gives the element of an owner's `of` by its number.
template <class Owner, class Of, class Element, Element (Owner::*at)(Of, size_t) const>
class Numbered {
 public:
  Numbered(const Owner& owner, Of of, size_t count) : owner_(&owner), of_(of), count_(count) {}
  struct iterator {
    const Numbered* range;
    size_t k;
    Element operator*() const { return (*range)[k]; }
    iterator& operator++() { return ++k, *this; }
    bool operator==(const iterator& other) const { return k == other.k; }
  };
  iterator begin() const { return {this, 0}; }
  iterator end() const { return {this, count_}; }
  size_t size() const { return count_; }
  bool empty() const { return count_ == 0; }
  Element operator[](size_t k) const { return (owner_->*at)(of_, k); }

 private:
  const Owner* owner_;
  Of of_;
  size_t count_;
};

}  // namespace porphyry
