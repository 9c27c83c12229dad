#include "derivation.h"

#include <algorithm>

namespace porphyry::eval {

Datum Derivations::promised(Datum pointer, bool sole, bool unwritten) {
  uint32_t before = of(pointer);
  while (before && !is_active(before)) before = earlier_[before];  // ended ones say nothing any more
  uint32_t number = static_cast<uint32_t>(earlier_.size());
  earlier_.push_back(before);
  active_.emplace(number, Promise{pointer.object(), sole, unwritten, {}});
  by_object_[pointer.object()].push_back(number);
  pointer.high = uint64_t(number) << 32 | pointer.object();
  return pointer;
}

void Derivations::end(uint32_t promise) {
  auto found = active_.find(promise);
  if (found == active_.end()) return;
  touched_chunks_ -= found->second.touched.size();
  auto list = by_object_.find(found->second.object);
  std::erase(list->second, promise);
  if (list->second.empty()) by_object_.erase(list);
  active_.erase(found);
}

bool Derivations::comes_from(uint32_t number, uint32_t promise) const {
  while (number > promise) number = earlier_[number];  // earlier ones have smaller numbers
  return number == promise;
}

bool Derivations::keeps_sole(Promise& p, bool derived, uint64_t offset, uint64_t size, bool writes,
                             bool keep_book) {
  uint8_t now = writes ? (derived ? derived_write : other_write) : (derived ? derived_read : other_read);
  for (uint64_t at = offset; at < offset + size; ++at) {
    auto [chunk_at, is_new] = p.touched.try_emplace(at / chunk);
    touched_chunks_ += is_new;
    uint8_t& seen = chunk_at->second[at % chunk];
    uint8_t all = seen | now;
    bool both = (all & (derived_read | derived_write)) && (all & (other_read | other_write));
    if (both && (all & (derived_write | other_write))) return false;
    if (keep_book) seen = all;
  }
  return true;
}

Derivations::Broken Derivations::access(Datum pointer, uint64_t offset, uint64_t size, bool writes,
                                        bool keep_book) {
  auto watching = by_object_.find(pointer.object());
  if (watching == by_object_.end()) return Broken::Nothing;
  for (uint32_t number : watching->second) {
    Promise& p = active_.find(number)->second;
    bool derived = comes_from(of(pointer), number);
    if (p.unwritten && derived && writes) return Broken::Unwritten;
    if (p.sole && !keeps_sole(p, derived, offset, size, writes, keep_book)) return Broken::Sole;
  }
  return Broken::Nothing;
}

}  // namespace porphyry::eval
