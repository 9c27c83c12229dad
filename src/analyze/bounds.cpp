// Places are found by their loads; parameters are taken for one of a place until something else is brought,
// and each is looked at again when one of its arguments is. Near-linear in the loads, parameters and their
// uses.
#include "porphyry/analyze/bounds.h"

#include <algorithm>

#include "porphyry/analyze/number.h"
#include "porphyry/ir/edit.h"
#include "porphyry/ir/words.h"

namespace porphyry {
namespace {

constexpr size_t most_followed = 64;  // limits that block parameters bring

bool adds_constant(const Function& f, Instruction d) {
  return d.exists() && f.op(d) == Op::Add && f.is_constant(f.operand(d, 1));
}

// wide + bytes, which does not wrap: the widened root, and what is added to it.
BoundCheck sum_of(const Function& f, Value v) {
  BoundCheck out{.wide = v};
  if (Instruction d = f.definition(v); adds_constant(f, d)) {
    Number base = number_of(f, f.operand(d, 0));
    Bits k = f.constant_word(f.operand(d, 1));
    bool fits = (f.promises(d) & promise::fits_u) ||
                (base.exists() && base.width <= 64 && base.high + k <= mask_of(base.width));
    if (fits) out.wide = f.operand(d, 0), out.bound.bytes = k;
  }
  Instruction widened = f.definition(out.wide);
  bool widens = widened.exists() && f.op(widened) == Op::WidenU && can_be_bounded(f, f.operand(widened, 0));
  if (widens) {
    const Bound inner = root_of(f, f.operand(widened, 0));
    out.bound.root = inner.root, out.bound.offset = inner.offset;
  } else {
    out.bound.root = out.wide;
  }
  return out;
}

}  // namespace

Bound root_of(const Function& f, Value v) {
  Bound out{.root = v};
  const Bits mask = mask_of(f.type(v).bits());
  for (Instruction d = f.definition(v); adds_constant(f, d); d = f.definition(out.root)) {
    out.root = f.operand(d, 0);
    out.offset = (out.offset + f.constant_word(f.operand(d, 1))) & mask;
  }
  return out;
}

std::optional<BoundCheck> bound_check(const Function& f, Value condition) {
  struct Row {
    Op op;
    bool exceeds, turned;
  };
  static constexpr Row rows[] = {
      {Op::GtU, true, false}, {Op::LeU, false, false}, {Op::LtU, true, true}, {Op::GeU, false, true}};
  Instruction d = f.definition(condition);
  if (!d.exists() || info(f.op(d)).result != ResultRule::Truth) return std::nullopt;
  auto row = std::find_if(std::begin(rows), std::end(rows), [&](const Row& r) { return r.op == f.op(d); });
  if (row == std::end(rows) || !can_be_bounded(f, f.operand(d, 0))) return std::nullopt;
  BoundCheck out = sum_of(f, f.operand(d, row->turned));
  out.bound.limit = f.operand(d, !row->turned);
  out.exceeds = row->exceeds;
  return out;
}

std::optional<TrappingCheck> trapping_check(const Function& f, Instruction branch) {
  if (f.op(branch) != Op::When) return std::nullopt;
  const size_t trapping = only_traps(f, f.to(f.edge(branch, 0))) ? 0 : 1;
  if (!only_traps(f, f.to(f.edge(branch, trapping)))) return std::nullopt;
  auto check = bound_check(f, f.operand(branch, 0));
  if (!check || check->exceeds != (trapping == 0)) return std::nullopt;
  return TrappingCheck{*check, f.edge(branch, 1 - trapping)};
}

bool implies(const Function& f, const Bound& known, const Bound& asked) {
  const Bits mask = mask_of(f.type(known.root).bits());
  const Bits behind = (asked.offset - known.offset) & mask;
  return known.root == asked.root && known.bytes >= asked.bytes && behind <= known.bytes - asked.bytes;
}

GrowingLimits::GrowingLimits(const Module& module, const Function& f) {
  if (!module.kinds.any_grows()) return;
  std::vector<Value> found;
  find_loads(module, f, found);
  follow(f, std::move(found));
}

void GrowingLimits::find_loads(const Module& module, const Function& f, std::vector<Value>& found) {
  for (Block b : f.blocks())
    for (Instruction i : f.instructions(b)) {
      if (f.op(i) != Op::Load) continue;
      const Address& a = f.address(i);
      const KindRow* kind = module.kinds.growing(a.kind);
      if (a.indexed || a.masked || a.is_volatile || !kind) continue;
      const Place place{f.operand(i, 0), a.offset, kind->least, kind->most};
      auto known = std::find(places_.begin(), places_.end(), place);
      if (known == places_.end()) known = places_.insert(known, place);
      place_.set(f.result(i), static_cast<uint32_t>(known - places_.begin()) + 1);
      found.push_back(f.result(i));
    }
}

void GrowingLimits::follow(const Function& f, std::vector<Value> found) {
  auto parameter_at = [&](const Function::Use& use) {
    return f.parameters(f.to(use.edge))[use.slot.index - f.argument_slot(use.edge, 0).index];
  };
  std::vector<Value> parameters;
  for (size_t k = 0; k < found.size(); ++k)
    for (Slot s : f.uses(found[k])) {
      auto use = f.use(s);
      if (!use.edge.exists()) continue;
      Value p = parameter_at(use);
      if (place_.get(p)) continue;
      place_.set(p, place_.get(found[k]));
      found.push_back(p), parameters.push_back(p);
    }
  for (size_t k = 0; k < parameters.size(); ++k) {
    Value p = parameters[k];
    if (!place_.get(p)) continue;
    bool all = true;
    for (Edge e : f.edges_into(f.defining_block(p)))
      all &= place_.get(f.argument(e, f.result_index(p))) == place_.get(p);
    if (all) continue;
    place_.set(p, 0);
    for (Slot s : f.uses(p))
      if (auto use = f.use(s); use.edge.exists()) parameters.push_back(parameter_at(use));
  }
}

bool GrowingLimits::never_below(const Function& f, const Dominators& dominators, Value later,
                                Value earlier) const {
  if (later == earlier) return true;
  if (!same_place(later, earlier)) return false;
  const Block above = f.defining_block(earlier);
  std::vector<Value> seen{later};
  for (size_t k = 0; k < seen.size(); ++k) {
    if (k == most_followed) return false;
    Value v = seen[k];
    if (Instruction load = f.definition(v); load.exists()) {
      if (!dominators.available(f, earlier, load)) return false;
      continue;
    }
    Block b = f.defining_block(v);
    if (above == b || !dominators.dominates(above, b)) return false;
    for (Edge e : f.edges_into(b))
      if (Value w = f.argument(e, f.result_index(v));
          w != earlier && std::find(seen.begin(), seen.end(), w) == seen.end())
        seen.push_back(w);
  }
  return true;
}

Bits GrowingLimits::most(const Function& f, Value limit) const {
  if (const Place* p = place(limit)) return p->most;
  Number n = number_of(f, limit, 1);
  return n.exists() ? n.high : ~Bits(0);
}

Bits GrowingLimits::least(const Function& f, Value limit) const {
  if (const Place* p = place(limit)) return p->least;
  Number n = number_of(f, limit, 1);
  return n.exists() ? n.low : 0;
}

}  // namespace porphyry
