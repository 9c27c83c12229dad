#include "porphyry/ir/kinds.h"

#include <algorithm>

namespace porphyry {
KindTree Kinds::add_tree(Name name) {
  trees_.push_back(name);
  KindTree t(trees_.size() - 1);
  tree_names_.try_emplace(name.index, t);
  return t;
}

Kind Kinds::add_kind(KindRow row) {
  any_grows_ |= row.grows;
  Kind k = kinds_.add(row);
  kind_names_.try_emplace({row.tree.index, row.name.index}, k);
  return k;
}

Record Kinds::add_record(RecordRow row) {
  std::vector<uint64_t> offsets;
  for (const RecordMember& m : row.members) offsets.push_back(m.offset);
  std::sort(offsets.begin(), offsets.end());
  offsets_.add(std::move(offsets));
  Key key{row.tree.index, row.name.index};
  Record r = records_.add(std::move(row));
  record_names_.try_emplace(key, r);
  return r;
}

KindTree Kinds::find_tree(Name name) const {
  auto at = tree_names_.find(name.index);
  return at == tree_names_.end() ? KindTree() : at->second;
}

Kind Kinds::find_kind(KindTree tree, Name name) const {
  auto at = kind_names_.find({tree.index, name.index});
  return at == kind_names_.end() ? Kind() : at->second;
}

Record Kinds::find_record(KindTree tree, Name name) const {
  auto at = record_names_.find({tree.index, name.index});
  return at == record_names_.end() ? Record() : at->second;
}

KindPath Kinds::path(Kind kind) {
  auto [at, is_new] = known_kind_paths_.try_emplace(kind.index);
  if (is_new) at->second = paths_.add({.tree = kinds_[kind].tree, .kind = kind});
  return at->second;
}

std::optional<KindPath> Kinds::path(Record record, std::vector<uint16_t> members) {
  if (auto at = known_paths_.find({record.index, members}); at != known_paths_.end()) return at->second;
  KindPathRow row{.tree = records_[record].tree, .record = record, .members = members};
  Record at = record;
  for (uint16_t m : members) {
    if (!at.exists() || m >= records_[at].members.size()) return std::nullopt;
    const RecordMember& member = records_[at].members[m];
    row.offset += member.offset;
    row.room = room(at, m);
    row.kind = member.kind;
    at = member.kind.exists() ? Record() : member.record;
  }
  if (!row.kind.exists()) return std::nullopt;
  return known_paths_[{record.index, std::move(members)}] = paths_.add(std::move(row));
}

uint64_t Kinds::room(Record r, size_t member) const {
  uint64_t from = records_[r].members[member].offset, to = std::max(records_[r].size, from);
  const auto& offsets = offsets_[r];
  auto next = std::upper_bound(offsets.begin(), offsets.end(), from);
  return (next == offsets.end() ? to : std::min(to, *next)) - from;
}

bool Kinds::is_above_or_same(Kind above, Kind below) const {
  for (unsigned steps = 0; below.exists() && steps < depth_limit; below = kinds_[below].parent, ++steps)
    if (below == above) return true;
  return false;
}

// Whether `inner` lies somewhere in `outer`; remembered, so that shared records are looked into once.
bool Kinds::contains(Record outer, Record inner, std::map<uint32_t, bool>& known, unsigned depth) const {
  if (outer == inner) return true;
  auto [at, is_new] = known.try_emplace(outer.index, false);
  if (!is_new || depth == depth_limit) return at->second;
  for (const RecordMember& m : records_[outer].members)
    if (m.record.exists() && contains(m.record, inner, known, depth + 1)) return known[outer.index] = true;
  return false;
}

void Kinds::gather_places(Record outer, Record inner, uint64_t base, std::map<uint32_t, bool>& known,
                          std::vector<uint64_t>& out) const {
  if (outer == inner) return out.push_back(base);
  for (const RecordMember& m : records_[outer].members)
    if (out.size() <= place_limit && m.record.exists() && contains(m.record, inner, known, 0))
      gather_places(m.record, inner, base + m.offset, known, out);
}

std::vector<uint64_t> Kinds::places(Record outer, Record inner) const {
  std::vector<uint64_t> out;
  std::map<uint32_t, bool> known;
  if (contains(outer, inner, known, 0)) gather_places(outer, inner, 0, known, out);
  return out;
}

bool Kinds::may_overlap(KindPath a, KindPath b) const {
  if (!a.exists() || !b.exists() || a == b) return true;
  const KindPathRow &x = paths_[a], &y = paths_[b];
  if (x.tree != y.tree) return true;  // across trees nothing is claimed
  if (!x.record.exists() || !y.record.exists()) {
    if (x.record.exists()) return is_above_or_same(y.kind, x.kind);
    if (y.record.exists()) return is_above_or_same(x.kind, y.kind);
    return is_above_or_same(x.kind, y.kind) || is_above_or_same(y.kind, x.kind);
  }
  auto meet = [](const KindPathRow& outer, const KindPathRow& inner, uint64_t base) {
    uint64_t from = base + inner.offset;
    return from < outer.offset + outer.room && outer.offset < from + inner.room;
  };
  // With more places than are looked at, they may.
  auto meet_somewhere = [&](const KindPathRow& outer, const KindPathRow& inner) {
    std::vector<uint64_t> bases = places(outer.record, inner.record);
    return bases.size() > place_limit ||
           std::any_of(bases.begin(), bases.end(), [&](uint64_t b) { return meet(outer, inner, b); });
  };
  return meet_somewhere(x, y) || meet_somewhere(y, x);
}

uint32_t Kinds::align(KindPath p) const {
  if (!p.exists()) return 1;
  unsigned steps = 0;
  for (Kind k = paths_[p].kind; k.exists() && steps < depth_limit; k = kinds_[k].parent, ++steps)
    if (kinds_[k].align) return kinds_[k].align;
  return 1;
}

}  // namespace porphyry
