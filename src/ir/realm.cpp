#include "porphyry/ir/realm.h"

#include <algorithm>
#include <cstring>

#include "porphyry/base/hash.h"

namespace porphyry {

size_t Realm::place(std::string_view text) const {
  size_t mask = table_.size() - 1;
  for (size_t at = hash_of(text) & mask;; at = (at + 1) & mask)
    if (table_[at] == empty || texts_[table_[at]] == text) return at;
}

void Realm::grow() {
  table_.assign(std::max<size_t>(64, table_.size() * 2), empty);
  for (size_t k = 0; k < texts_.size(); ++k) table_[place(texts_[k])] = static_cast<uint32_t>(k);
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
  if (texts_.size() * 2 >= table_.size()) grow();
  size_t at = place(text);
  if (table_[at] == empty) {
    table_[at] = static_cast<uint32_t>(texts_.size());
    texts_.push_back(keep(text));
  }
  return Name(table_[at]);
}

Name Realm::find(std::string_view text) const {
  if (table_.empty()) return {};
  uint32_t found = table_[place(text)];
  return found == empty ? Name() : Name(found);
}

size_t Realm::bytes() const {
  return chunk_bytes_ + texts_.capacity() * sizeof(texts_[0]) + table_.capacity() * sizeof(table_[0]);
}

}  // namespace porphyry
