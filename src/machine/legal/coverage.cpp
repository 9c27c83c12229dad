#include <algorithm>

#include "porphyry/machine/legalize.h"

namespace porphyry::machine {

Coverage::Coverage(const Target& target, uint8_t features) : rows_(operation_count) {
  for (const Rule& rule : target.rules) {
    if (rule.matches_constant || (rule.needs & ~features)) continue;
    const PatternNode& root = rule.nodes[0];
    bool plain = true;
    for (const PatternNode& n : rule.nodes.subspan(1))
      plain &= n.kind == NodeKind::Register || n.kind == NodeKind::Memory;
    if (plain) rows_[static_cast<size_t>(root.op)].push_back({carrier(root.operand), carrier(root.result)});
  }
}

bool Coverage::covers(Op op, Type operand, Type result) const {
  operand = carrier(operand), result = carrier(result);
  return std::any_of(rows_[static_cast<size_t>(op)].begin(), rows_[static_cast<size_t>(op)].end(),
                     [&](const Row& r) { return r.operand == operand && r.result == result; });
}

}  // namespace porphyry::machine
