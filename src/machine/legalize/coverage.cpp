#include <algorithm>

#include "porphyry/machine/legalize.h"

namespace porphyry::machine {

Coverage::Coverage(const Target& target, Features features)
    : word_(Type::integer(target.word_bits)), rows_(operation_count) {
  for (const Rule& rule : target.rules)
    if (!rule.matches_constant && !(rule.needs & ~features)) note(rule);
}

void Coverage::note(const Rule& rule) {
  const PatternNode& root = rule.nodes[0];
  auto child = [&](const PatternNode& n, size_t k) {
    return n.children[k] < 0 ? nullptr : &rule.nodes[static_cast<size_t>(n.children[k])];
  };
  auto is_op = [](const PatternNode* n, Op op) { return n && n->kind == NodeKind::Operation && n->op == op; };
  auto is_register = [](const PatternNode* n) { return n && n->kind == NodeKind::Register; };
  auto add = [&](Way way, Op op, Type operand, Type result) {
    rows_[static_cast<size_t>(op)].push_back({way, carrier(operand), carrier(result)});
  };
  const PatternNode *a = child(root, 0), *b = child(root, 1);
  if (root.op == Op::Shuffle) {
    if (is_register(a) && is_register(b))
      shuffles_.push_back({root.operand, a->variable == b->variable, root.lanes});
    else if (a && b && is_op(b, a->op) && is_register(child(*a, 0)) && is_register(child(*b, 0)))
      add(Way::Joined, a->op, a->operand, root.result);
    return;
  }
  bool plain = true;
  for (const PatternNode& n : rule.nodes.subspan(1))
    plain &= n.kind == NodeKind::Register || n.kind == NodeKind::Memory;
  if (plain) return add(Way::Plain, root.op, root.operand, root.result);
  if (!root.result.has_lanes()) {
    bool by_constant = is_register(a) && b && b->kind == NodeKind::Constant && rule.nodes.size() == 3;
    if (by_constant) add(Way::ByConstant, root.op, root.operand, root.result);
    return;
  }
  if (is_op(a, Op::WidenU) && root.op == Op::Neg) {
    const PatternNode* compare = child(*a, 0);
    if (compare && compare->kind == NodeKind::Operation && is_register(child(*compare, 0)) &&
        is_register(child(*compare, 1)))
      add(Way::Mask, compare->op, compare->operand, {});
  } else if (is_register(a) && b && b->kind == NodeKind::Constant) {
    add(Way::ByConstant, root.op, root.operand, root.result);
  } else if (is_register(a) && is_op(b, Op::Splat)) {
    add(Way::BySplat, root.op, root.operand, root.result);
  } else if (is_op(a, Op::Shuffle) && !b && info(root.op).layout == Layout::Convert) {
    bool lowest = is_register(child(*a, 0));
    for (size_t k = 0; k < a->lanes.size(); ++k) lowest &= a->lanes[k] == k;
    if (lowest) add(Way::OfLow, root.op, a->operand, root.result);
  }
}

bool Coverage::has(Way way, Op op, Type operand, Type result) const {
  operand = carrier(operand), result = carrier(result);
  const auto& rows = rows_[static_cast<size_t>(op)];
  return std::any_of(rows.begin(), rows.end(), [&](const Row& r) {
    return r.operand == operand && r.way == way && r.result == result;
  });
}

Type Coverage::whole(Type element) const {
  for (const Row& r : rows_[static_cast<size_t>(Op::Load)])
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
