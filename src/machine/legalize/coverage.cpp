#include <algorithm>
#include <numeric>

#include "porphyry/machine/legalize.h"

namespace porphyry::machine {

Coverage::Coverage(const Target& target, Features features)
    : word_(Type::integer(target.word_bits)), first_(operation_count + 1) {
  std::vector<Covered> found;
  for (const Rule& rule : target.rules.first(target.constant_rules)) {
    const Covered& c = rule.covered;
    if (c.way == Way::None || (rule.needs & ~features)) continue;
    if (c.way == Way::Shuffle) {
      const PatternNode& root = rule.nodes[0];
      auto variable = [&](size_t k) { return rule.nodes[static_cast<size_t>(root.children[k])].variable; };
      shuffles_.push_back({c.operand, variable(0) == variable(1), root.lanes});
    } else if (found.empty() || found.back() != c) {  // rules for the same often stand together
      found.push_back(c);
    }
  }
  for (const Covered& c : found) ++first_[static_cast<size_t>(c.op) + 1];
  std::partial_sum(first_.begin(), first_.end(), first_.begin());
  rows_.resize(found.size());
  std::vector<uint16_t> next = first_;
  for (const Covered& c : found) rows_[next[static_cast<size_t>(c.op)]++] = c;
}

std::span<const Covered> Coverage::of(Op op) const {
  size_t k = static_cast<size_t>(op);
  return {rows_.data() + first_[k], rows_.data() + first_[k + 1]};
}

bool Coverage::has(const Covered& wanted) const {
  auto rows = of(wanted.op);
  return std::find(rows.begin(), rows.end(), wanted) != rows.end();
}

Type Coverage::whole(Type element) const {
  for (const Covered& r : of(Op::Load))
    if (r.way == Way::Plain && r.result.has_lanes() && r.result.element() == element) return r.result;
  return {};
}

bool Coverage::shuffle(Type lanes, bool of_one, std::span<const uint16_t> order) const {
  return std::any_of(shuffles_.begin(), shuffles_.end(), [&](const Shuffle& s) {
    if (s.lanes != lanes || (s.of_one && !of_one)) return false;
    return s.order.empty() || std::equal(s.order.begin(), s.order.end(), order.begin(), order.end());
  });
}

}  // namespace porphyry::machine
