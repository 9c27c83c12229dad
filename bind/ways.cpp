// In which way a rule covers an operation: with operands in registers as they come, or in one of the special
// shapes that legalization knows how to write. See machine::Way.
#include "book.h"

namespace porphyry::bind {
namespace {

using namespace machine;

class Shape {
 public:
  explicit Shape(const BoundRule& rule) : rule_(rule) {}

  Covered covered() const {
    const PatternNode& root = rule_.nodes[0];
    if (root.op == Op::Shuffle) return shuffle(root);
    if (is_plain()) return of(Way::Plain, root);
    if (!root.result.has_lanes())
      return is_by_constant(root) && rule_.nodes.size() == 3 ? of(Way::ByConstant, root) : none();
    return lanes(root);
  }

 private:
  static Covered none() { return {}; }
  static Covered of(Way way, const PatternNode& n) {
    return {way, n.op, carrier(n.operand), carrier(n.result)};
  }

  const BoundNode* child(const PatternNode& n, size_t k) const {
    return n.children[k] < 0 ? nullptr : &rule_.nodes[static_cast<size_t>(n.children[k])];
  }
  bool has_register(const PatternNode& n, size_t k) const {
    const PatternNode* c = child(n, k);
    return c && c->kind == NodeKind::Register;
  }
  bool has_constant(const PatternNode& n, size_t k) const {
    const PatternNode* c = child(n, k);
    return c && c->kind == NodeKind::Constant;
  }
  const BoundNode* inner(const PatternNode& n, size_t k) const {
    const BoundNode* c = child(n, k);
    return c && c->kind == NodeKind::Operation ? c : nullptr;
  }
  const BoundNode* inner(const PatternNode& n, size_t k, Op op) const {
    const BoundNode* c = inner(n, k);
    return c && c->op == op ? c : nullptr;
  }

  bool is_plain() const {
    for (size_t k = 1; k < rule_.nodes.size(); ++k) {
      NodeKind kind = rule_.nodes[k].kind;
      if (kind != NodeKind::Register && kind != NodeKind::Memory) return false;
    }
    return true;
  }
  bool is_by_constant(const PatternNode& root) const {
    return has_register(root, 0) && has_constant(root, 1);
  }

  bool has_literal(const PatternNode& n, uint64_t literal) const {
    const PatternNode* c = child(n, 1);
    return c && c->kind == NodeKind::Literal && c->literal == literal;
  }
  bool is_low_half(const PatternNode& n, size_t k) const {
    const PatternNode* masked = inner(n, k, Op::And);
    return masked && has_register(*masked, 0) &&
           has_literal(*masked, static_cast<uint64_t>(mask_of(n.result.bits() / 2)));
  }
  bool is_signed_half(const PatternNode& n, size_t k) const {
    unsigned half = n.result.bits() / 2;
    const PatternNode* down = inner(n, k, Op::ShrS);
    const PatternNode* up = down && has_literal(*down, half) ? inner(*down, 0, Op::Shl) : nullptr;
    return up && has_register(*up, 0) && has_literal(*up, half);
  }

  Covered shuffle(const PatternNode& root) const {
    if (has_register(root, 0) && has_register(root, 1)) return of(Way::Shuffle, root);
    const PatternNode* a = child(root, 0);
    const PatternNode* b = a ? inner(root, 1, a->op) : nullptr;
    if (b && has_register(*a, 0) && has_register(*b, 0))
      return {Way::Joined, a->op, carrier(a->operand), carrier(root.result)};
    return none();
  }

  Covered lanes(const PatternNode& root) const {
    if (const PatternNode* all = inner(root, 0, Op::WidenU); all && root.op == Op::Neg) {
      const PatternNode* compare = inner(*all, 0);
      if (compare && has_register(*compare, 0) && has_register(*compare, 1))
        return {Way::Mask, compare->op, carrier(compare->operand), {}};
    } else if (is_by_constant(root)) {
      return of(Way::ByConstant, root);
    } else if (has_register(root, 0) && inner(root, 1, Op::Splat)) {
      return of(Way::BySplat, root);
    } else if (is_low_half(root, 0) && is_low_half(root, 1)) {
      return of(Way::LowHalves, root);
    } else if (is_signed_half(root, 0) && is_signed_half(root, 1)) {
      return of(Way::SignedHalves, root);
    } else if (const BoundNode* low = inner(root, 0, Op::Shuffle);
               low && !child(root, 1) && info(root.op).layout == Layout::Convert) {
      bool is_lowest = has_register(*low, 0);
      for (size_t k = 0; k < low->shuffled.size(); ++k) is_lowest &= low->shuffled[k] == k;
      if (is_lowest) return {Way::OfLow, root.op, carrier(low->operand), carrier(root.result)};
    }
    return none();
  }

  const BoundRule& rule_;
};

}  // namespace

Covered covered_by(const BoundRule& rule) { return Shape(rule).covered(); }

}  // namespace porphyry::bind
