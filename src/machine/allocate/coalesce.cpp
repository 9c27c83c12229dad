#include "coalesce.h"

#include <algorithm>
#include <numeric>

namespace porphyry::machine {

Coalesced::Coalesced(size_t count, std::pmr::memory_resource* work) : parent_(count, work) {
  std::iota(parent_.begin(), parent_.end(), 0u);
}

uint32_t Coalesced::find(uint32_t v) {
  while (parent_[v] != v) v = parent_[v] = parent_[parent_[v]];
  return v;
}

namespace {

// A copy between two virtual registers, numbered from 0.
struct VirtualCopy {
  float weight;
  uint32_t line, to, from;
};

// The dearest first.
std::pmr::vector<VirtualCopy> copies_by_weight(const Code& f, std::pmr::memory_resource* work) {
  std::pmr::vector<VirtualCopy> out(work);
  for (const CodeBlock& b : f.blocks)
    for (uint32_t k = b.first; k < b.first + b.count; ++k) {
      const CodeLine& i = f.code[k];
      if (i.form != copy_form) continue;
      Register to = f.of(i)[0].reg, from = f.of(i)[1].reg;
      if (is_virtual(to) && is_virtual(from))
        out.push_back({f.weight(b), k, to - first_virtual, from - first_virtual});
    }
  std::sort(out.begin(), out.end(), [](const VirtualCopy& a, const VirtualCopy& b) {
    return a.weight != b.weight ? a.weight > b.weight : a.line < b.line;
  });
  return out;
}

// Whether the two, roots both, can be one; if so, `b` becomes part of `a`.
bool join_ranges(const Code& f, LiveRanges& ranges, uint32_t a, uint32_t b, std::pmr::memory_resource* work) {
  if (f.virtuals[a].register_class != f.virtuals[b].register_class) return false;
  // A wide value is spilled whole: the other one would be, too.
  if ((f.virtuals[a].bits > 64) != (f.virtuals[b].bits > 64)) return false;
  Segments &x = ranges.virtuals[a], &y = ranges.virtuals[b];
  if (meet(x, y)) return false;
  x = merged(x, y, work);
  y = {};
  ranges.weights[a] += ranges.weights[b];
  return true;
}

}  // namespace

Coalesced coalesce(const Code& f, LiveRanges& ranges, std::pmr::memory_resource* work) {
  Coalesced out(f.virtuals.size(), work);
  for (const VirtualCopy& c : copies_by_weight(f, work)) {
    uint32_t a = out.find(c.to), b = out.find(c.from);
    if (a != b && join_ranges(f, ranges, a, b, work)) out.join(b, a);
  }
  out.shorten();
  return out;
}

}  // namespace porphyry::machine
