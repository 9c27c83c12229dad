#include "porphyry/ir/realm.h"

namespace porphyry {

Name Realm::name(std::string_view text) {
  if (auto it = by_text_.find(text); it != by_text_.end()) return Name(it->second);
  texts_.emplace_back(text);
  uint32_t index = static_cast<uint32_t>(texts_.size() - 1);
  by_text_.emplace(texts_.back(), index);
  return Name(index);
}

Name Realm::find(std::string_view text) const {
  auto it = by_text_.find(text);
  return it == by_text_.end() ? Name() : Name(it->second);
}

}  // namespace porphyry
