// A realm owns what modules share: interned names. Two realms share nothing, so two threads that work in
// different realms need no lock.
#pragma once

#include <deque>
#include <string>
#include <string_view>
#include <unordered_map>

#include "porphyry/base/ids.h"

namespace porphyry {

using Name = Id<struct NameTag>;

class Realm {
 public:
  Realm() = default;
  Realm(const Realm&) = delete;
  Realm& operator=(const Realm&) = delete;

  // The handle of `text`, made when it is new. Average O(length).
  Name name(std::string_view text);
  // The handle of `text` when it exists.
  Name find(std::string_view text) const;
  std::string_view text(Name name) const { return texts_[name.index]; }
  size_t name_count() const { return texts_.size(); }

 private:
  std::deque<std::string> texts_;  // a deque: views of the texts stay valid
  std::unordered_map<std::string_view, uint32_t> by_text_;
};

}  // namespace porphyry
