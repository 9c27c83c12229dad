#include "porphyry/ir/realm.h"

#include <algorithm>
#include <cstring>

#include "porphyry/base/hash.h"

namespace porphyry {
size_t Realm::place(std::string_view text, uint64_t hash) const {
  size_t mask = table_.size() - 1;
  for (size_t at = hash & mask;; at = (at + 1) & mask) {
    const Entry& e = table_[at];
    if (e.name == empty) return at;
    bool same = e.hash == hash && e.size == text.size();
    if (same && (text.size() <= whole_hash_length || texts_[e.name] == text)) return at;
  }
}

void Realm::grow() {
  std::vector<Entry> old = std::move(table_);
  table_.assign(std::max<size_t>(64, old.size() * 2), Entry());
  size_t mask = table_.size() - 1;
  for (const Entry& e : old) {
    if (e.name == empty) continue;
    size_t at = e.hash & mask;
    while (table_[at].name != empty) at = (at + 1) & mask;
    table_[at] = e;
  }
}

std::string_view Realm::keep(std::string_view text) {
  if (text.empty()) return {};
  if (text.size() > chunk_left_) {
    // As much again as there is, so that a small realm stays small.
    chunk_left_ = std::max<size_t>(text.size(), std::clamp<size_t>(chunk_bytes_, 256, 65536));
    chunk_bytes_ += chunk_left_;
    chunks_.push_back(std::make_unique_for_overwrite<char[]>(chunk_left_));
    chunk_at_ = chunks_.back().get();
  }
  char* to = chunk_at_;
  std::memcpy(to, text.data(), text.size());
  chunk_at_ += text.size(), chunk_left_ -= text.size();
  return {to, text.size()};
}

Name Realm::name(std::string_view text) {
  auto locked = lock();
  if (texts_.size() * 2 >= table_.size()) grow();
  uint64_t hash = hash_of(text);
  Entry& e = table_[place(text, hash)];
  if (e.name == empty) {
    e = {hash, static_cast<uint32_t>(texts_.size()), static_cast<uint32_t>(text.size())};
    texts_.push_back(keep(text));
  }
  return Name(e.name);
}

void Realm::look_ahead(std::string_view text) const {
  __builtin_prefetch(&table_[hash_of(text) & (table_.size() - 1)], 1);
}

Name Realm::find(std::string_view text) const {
  auto locked = lock();
  if (table_.empty()) return {};
  uint32_t found = table_[place(text, hash_of(text))].name;
  return found == empty ? Name() : Name(found);
}

size_t Realm::bytes() const { return chunk_bytes_ + texts_.bytes() + table_.capacity() * sizeof(table_[0]); }

}  // namespace porphyry
