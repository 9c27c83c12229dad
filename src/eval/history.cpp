#include "history.h"

#include <algorithm>

namespace porphyry::eval {

const KindHistories::Next& KindHistories::after(uint32_t from, const KindAccess& access) {
  uint64_t key = uint64_t(from) << 32 | (uint64_t(access.kind.index) & 0x3fffffffu) << 2 |
                 (access.writes ? 2u : 0u) | (access.as_unwritten ? 1u : 0u);
  auto found = known_.find(key);
  if (found == known_.end()) found = known_.emplace(key, computed(from, access)).first;
  return found->second;
}

KindHistories::Next KindHistories::computed(uint32_t from, const KindAccess& access) {
  Row row = rows_[from];
  bool broken = access.writes ? row.read_as_unwritten : access.as_unwritten && row.written;
  if (broken) return {from, true, {}, true};
  auto meets = [&](const std::vector<KindPath>& others) -> const KindPath* {
    for (const KindPath& k : others)
      if (!kinds_.may_overlap(k, access.kind)) return &k;
    return nullptr;
  };
  const KindPath* other = meets(row.writes);
  if (!other && access.writes) other = meets(row.reads);
  if (other) return {from, true, *other, false};
  if (access.kind.exists()) {
    auto& list = access.writes ? row.writes : row.reads;
    if (std::find(list.begin(), list.end(), access.kind) == list.end()) list.push_back(access.kind);
    std::sort(list.begin(), list.end());
  }
  row.written |= access.writes;
  row.read_as_unwritten |= access.as_unwritten;
  auto same = std::find(rows_.begin(), rows_.end(), row);
  if (same == rows_.end()) same = rows_.insert(rows_.end(), row);
  return {static_cast<uint32_t>(same - rows_.begin()), false, {}, false};
}

}  // namespace porphyry::eval
