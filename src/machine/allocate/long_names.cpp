// Idea: a register with a long name costs a byte in each instruction that does not work on a whole word,
// whose form says so already; a counter of whole words costs next to nothing there, what is computed in half
// words or bytes much. Ranges that are copied from or to a short name have it; of the others the dearest come
// first: a range fits while fewer than there are short names live wherever it lives. What does not fit
// gets a long name. Invariant: of the ranges that fit, no more than there are short names live in one place.
// Cost: a search tree over positions holds how many do; O(log positions) for each segment.
#include "long_names.h"

#include <algorithm>
#include <tuple>

namespace porphyry::machine {
namespace {

// How many ranges live at each position: added over an interval, asked for the most in one.
class LiveCounts {
 public:
  LiveCounts(uint32_t positions, std::pmr::memory_resource* work)
      : positions_(positions), most_(4 * size_t(positions_), work), all_(4 * size_t(positions_), work) {}
  void add(uint32_t from, uint32_t to) { add(1, 0, positions_, from, to); }
  uint32_t most(uint32_t from, uint32_t to) const { return most(1, 0, positions_, from, to); }

 private:
  void add(size_t node, uint32_t low, uint32_t high, uint32_t from, uint32_t to) {
    if (to <= low || high <= from) return;
    if (from <= low && high <= to) return void((++most_[node], ++all_[node]));
    const uint32_t middle = low + (high - low) / 2;
    add(2 * node, low, middle, from, to), add(2 * node + 1, middle, high, from, to);
    most_[node] = all_[node] + std::max(most_[2 * node], most_[2 * node + 1]);
  }
  uint32_t most(size_t node, uint32_t low, uint32_t high, uint32_t from, uint32_t to) const {
    if (to <= low || high <= from) return 0;
    if (from <= low && high <= to) return most_[node];
    const uint32_t middle = low + (high - low) / 2;
    return all_[node] +
           std::max(most(2 * node, low, middle, from, to), most(2 * node + 1, middle, high, from, to));
  }

  uint32_t positions_;
  std::pmr::vector<uint32_t> most_, all_;  // by node: within it, and of what was added to all of it
};

// Whether a line works on a whole word, or is a copy of one.
bool is_of_words(const Code& f, const Target& target, const CodeLine& i) {
  if (i.form == copy_form) return f.of(i)[0].value > target.word_bits / 2;
  if (i.form < first_real_form) return true;  // what is put into the frame may be as wide
  for (const FormOperand& o : target.form(i.form).operands)
    if (o.kind == OperandKind::Register && o.register_class == 0 && o.type.bits() == target.word_bits)
      return true;
  return false;
}

// By root: how many bytes a long name costs.
std::pmr::vector<uint32_t> costs(const Code& f, const Target& target, Coalesced& one,
                                 std::pmr::memory_resource* work) {
  std::pmr::vector<uint32_t> out(f.virtuals.size(), work);
  for (const CodeLine& i : f.code) {
    if (is_of_words(f, target, i)) continue;
    if (i.form == copy_form && one.root_register(f.of(i)[0].reg) == one.root_register(f.of(i)[1].reg))
      continue;
    uint32_t last = none;
    each_register(f, i, [&](Register r, bool, bool) {
      if (!is_virtual(r)) return;
      const uint32_t root = one.find(r - first_virtual);
      out[root] += root != last;
      last = root;
    });
  }
  return out;
}

}  // namespace

std::pmr::vector<uint8_t> with_long_names(const Code& f, const Target& target, const LiveRanges& ranges,
                                          Coalesced& one, std::span<const RegisterSet> hints,
                                          std::pmr::memory_resource* work) {
  std::pmr::vector<uint8_t> out(f.virtuals.size(), work);
  const RegisterSet& longer = target.upkeep.longer;
  const std::pmr::vector<uint32_t> bytes = costs(f, target, one, work);
  auto is_settled = [&](uint32_t v) {
    for (unsigned r : hints[v])
      if (!longer.has(r) && !meet(ranges.virtuals[v], ranges.blocked[r])) return true;
    return false;
  };
  struct Range {
    uint32_t root, bytes;
    bool settled;
  };
  std::pmr::vector<Range> order(work);
  for (size_t c = 0; c < target.classes.size(); ++c) {
    const RegisterSet all = RegisterSet::run(target.classes[c].first, target.classes[c].count);
    if (!all.meets(longer)) continue;
    const RegisterSet names = all - target.convention.reserved - target.convention.kept - longer;
    order.clear();
    for (uint32_t v = 0; v < f.virtuals.size(); ++v)
      if (one.find(v) == v && f.virtuals[v].register_class == c && !ranges.virtuals[v].empty())
        order.push_back({v, bytes[v], is_settled(v)});
    std::ranges::sort(order, [](const Range& a, const Range& b) {
      return std::tuple(!a.settled, b.bytes, a.root) < std::tuple(!b.settled, a.bytes, b.root);
    });
    LiveCounts counts(2 * static_cast<uint32_t>(f.code.size()) + 2, work);
    for (unsigned r : names)
      for (const Segment& s : ranges.blocked[r]) counts.add(s.from, s.to);
    for (const Range& range : order) {
      const Segments& segments = ranges.virtuals[range.root];
      uint32_t most = 0;
      for (const Segment& s : segments) most = std::max(most, counts.most(s.from, s.to));
      out[range.root] = !range.settled && most >= names.count();
      if (out[range.root]) continue;
      for (const Segment& s : segments) counts.add(s.from, s.to);
    }
  }
  return out;
}

}  // namespace porphyry::machine
