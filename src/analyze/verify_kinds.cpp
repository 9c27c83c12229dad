#include "verify_kinds.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class KindVerifier {
 public:
  KindVerifier(const Module& module, const Origin& origin, Diagnostics& out)
      : module_(module), kinds_(module.kinds), origin_(origin), out_(out) {}

  void run() {
    for (size_t k = 0; k < kinds_.kind_count(); ++k) kind(Kind(k));
    find_kind_cycles();
    sizes_known_ = true;
    for (size_t k = 0; k < kinds_.record_count(); ++k) record(Record(k));
    if (sizes_known_) find_record_cycles();
  }

 private:
  std::string name(Name n) const { return "'" + std::string(module_.text(n)) + "'"; }

  void complain(const std::vector<PlaceMap::Span>* places, uint32_t index, std::string excerpt,
                std::string message, std::string expected) {
    if (origin_.places && index < places->size()) {
      out_.push_back(origin_.source->at((*places)[index].offset, (*places)[index].length, std::move(message),
                                        std::move(expected)));
    } else {
      Diagnostic d = complaint(std::move(message), std::move(expected));
      d.length = static_cast<uint32_t>(excerpt.size());
      d.excerpt = std::move(excerpt);
      out_.push_back(std::move(d));
    }
  }
  void complain(Kind k, std::string message, std::string expected) {
    complain(origin_.places ? &origin_.places->kinds : nullptr, k.index,
             std::string(module_.text(kinds_[k].name)), std::move(message), std::move(expected));
  }
  void complain(Record r, std::string message, std::string expected) {
    complain(origin_.places ? &origin_.places->records : nullptr, r.index,
             fmt::format("record {} size {}", module_.text(kinds_[r].name), kinds_[r].size),
             std::move(message), std::move(expected));
  }

  void kind(Kind k) {
    const KindRow& row = kinds_[k];
    if (row.tree.index >= kinds_.tree_count())
      return complain(k, "kind " + name(row.name) + " belongs to no kinds", "a tree of the module");
    if (row.align & (row.align - 1))
      complain(k, "the alignment of " + name(row.name) + " is no power of two", "1, 2, 4, 8, …");
    if (!row.parent.exists()) return;
    if (row.parent.index >= kinds_.kind_count())
      complain(k, "the kind above " + name(row.name) + " is not there", "a kind of the same kinds");
    else if (kinds_[row.parent].tree != row.tree)
      complain(k, "the kind above " + name(row.name) + " belongs to other kinds", "a kind of the same kinds");
  }

  // Each kind is walked up from once: those of this walk carry its number, and learn their depth on the way
  // back.
  void find_kind_cycles() {
    std::vector<uint32_t> walk(kinds_.kind_count()), depth(kinds_.kind_count()), way;
    bool told = false;
    for (uint32_t k = 0; k < kinds_.kind_count(); ++k) {
      way.clear();
      uint32_t at = k;
      for (; at < kinds_.kind_count() && walk[at] == 0; at = kinds_[Kind(at)].parent.index) {
        walk[at] = k + 1;
        way.push_back(at);
      }
      if (at < kinds_.kind_count() && walk[at] == k + 1)
        complain(Kind(at), "kind " + name(kinds_[Kind(at)].name) + " is above itself",
                 "a tree: a root at the top");
      uint32_t below = at < kinds_.kind_count() ? depth[at] : 0;
      for (size_t w = way.size(); w-- > 0;) {
        depth[way[w]] = ++below;
        if (below <= Kinds::depth_limit || std::exchange(told, true)) continue;
        complain(Kind(way[w]), "kind " + name(kinds_[Kind(way[w])].name) + " lies deeper than 64 kinds",
                 "a flatter tree");
      }
    }
  }

  void record(Record r) {
    const RecordRow& row = kinds_[r];
    std::vector<size_t> order(row.members.size());
    for (size_t k = 0; k < order.size(); ++k) order[k] = k;
    std::stable_sort(order.begin(), order.end(),
                     [&](size_t a, size_t b) { return row.members[a].offset < row.members[b].offset; });
    uint64_t end = 0;
    Name before;
    for (size_t k : order) {
      const RecordMember& m = row.members[k];
      if (!member_is_there(r, m)) continue;
      // How wide a plain kind is only its accesses say; it takes a byte at least.
      uint64_t size = m.kind.exists() ? 1 : kinds_[m.record].size;
      if (m.offset < end)
        complain(r, "members " + name(before) + " and " + name(m.name) + " of " + name(row.name) + " overlap",
                 "members apart from one another");
      else if (m.offset > row.size || size > row.size - m.offset)
        complain(r,
                 "member " + name(m.name) + " reaches past the " + std::to_string(row.size) + " bytes of " +
                     name(row.name),
                 "a larger record");
      if (m.offset + size > end) end = m.offset + size, before = m.name;
    }
    std::vector<Name> names;
    for (const RecordMember& m : row.members) names.push_back(m.name);
    std::sort(names.begin(), names.end());
    for (size_t k = 1; k < names.size(); ++k)
      if (names[k] == names[k - 1])
        complain(r, "two members of " + name(row.name) + " are called " + name(names[k]),
                 "names of their own");
  }

  bool member_is_there(Record r, const RecordMember& m) {
    bool good =
        m.kind.exists() != m.record.exists() &&
        (m.kind.exists() ? m.kind.index < kinds_.kind_count() : m.record.index < kinds_.record_count());
    if (good) good = (m.kind.exists() ? kinds_[m.kind].tree : kinds_[m.record].tree) == kinds_[r].tree;
    if (good) return true;
    sizes_known_ = false;
    complain(r, "member " + name(m.name) + " of " + name(kinds_[r].name) + " is of no kind that is there",
             "a kind or record of the same kinds");
    return false;
  }

  // Depth first; a record that is met again on the way down contains itself.
  void find_record_cycles() {
    enum : uint8_t { Fresh, Open, Done };
    std::vector<uint8_t> state(kinds_.record_count(), Fresh);
    for (uint32_t k = 0; k < kinds_.record_count(); ++k) {
      if (state[k] != Fresh) continue;
      std::vector<std::pair<uint32_t, size_t>> way{{k, 0}};
      state[k] = Open;
      while (!way.empty()) {
        auto& [at, next] = way.back();
        const auto& members = kinds_[Record(at)].members;
        if (next == members.size()) {
          state[at] = Done;
          way.pop_back();
          continue;
        }
        Record inner = members[next++].record;
        if (!inner.exists() || state[inner.index] == Done) continue;
        if (state[inner.index] == Open) {
          complain(inner, "record " + name(kinds_[inner].name) + " contains itself",
                   "records inside larger ones");
          continue;
        }
        state[inner.index] = Open;
        if (way.size() == Kinds::depth_limit) {
          complain(inner, "record " + name(kinds_[inner].name) + " lies in more than 64 records", "fewer");
          state[inner.index] = Done;
          continue;
        }
        way.push_back({inner.index, 0});
      }
    }
  }

  const Module& module_;
  const Kinds& kinds_;
  const Origin& origin_;
  Diagnostics& out_;
  bool sizes_known_ = true;
};

}  // namespace

void verify_kinds(const Module& module, const Origin& origin, Diagnostics& out) {
  KindVerifier(module, origin, out).run();
}

}  // namespace porphyry
