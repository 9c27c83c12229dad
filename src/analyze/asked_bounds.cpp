#include "asked_bounds.h"

#include <algorithm>

#include "porphyry/analyze/number.h"
#include "porphyry/ir/words.h"

namespace porphyry {

// Whether a value is made once in a call, so that it is the same wherever it is met.
static bool stays_the_same(const Function& f, Value v) {
  if (f.is_constant(v) || f.kind(v) == ValueKind::Parameter) return true;
  return f.defining_block(v) == f.entry() && !f.first_in(f.entry()).exists();
}

AskedLimit limit_of(const GivenBounds& body, Value v) {
  AskedLimit out{.value = v, .least = body.limits.least(body.f, v)};
  const GrowingLimits::Place* p = body.limits.place(v);
  if (p && stays_the_same(body.f, p->base)) out.base = p->base, out.offset = p->offset;
  return out;
}

std::optional<AskedLimit> only_place(const Function& f, AskedLimit limit) {
  if (limit.value.exists() && !f.is_constant(limit.value) && !limit.base.exists()) return std::nullopt;
  limit.value = {};
  return limit;
}

std::optional<AskedLimit> read_behind(const GivenBounds& body, const AskedLimit& limit, Instruction call) {
  const Function& f = body.f;
  if (limit.value.exists() && !f.is_constant(limit.value)) {
    Instruction read = f.definition(limit.value);
    if (!read.exists()) return std::nullopt;
    const bool behind = f.block(read) == f.block(call)
                            ? f.comes_before(call, read)
                            : body.dominators.dominates(f.block(call), f.block(read));
    if (!behind) return std::nullopt;
  }
  return only_place(f, limit);
}

std::optional<AskedLimit> limit_at(const GivenBounds& body, Block start, const AskedLimit& limit) {
  constexpr size_t most_brought = 16;
  const Function& f = body.f;
  if (!limit.value.exists() || f.is_constant(limit.value)) return limit;
  std::vector<Value> seen{limit.value};
  Value above;
  for (size_t k = 0; k < seen.size(); ++k) {
    if (k == most_brought) return std::nullopt;
    const Value v = seen[k];
    const Block home = f.defining_block(v);
    const bool below = home.exists() && body.dominators.dominates(start, home);
    if (below && f.kind(v) == ValueKind::Result) continue;
    if (below && home != start) {
      if (!limit.base.exists()) return std::nullopt;  // edges may bring numbers of several places
      for (Edge e : f.edges_into(home))
        if (Value w = f.argument(e, f.result_index(v)); std::find(seen.begin(), seen.end(), w) == seen.end())
          seen.push_back(w);
      continue;
    }
    if (above.exists()) return std::nullopt;
    above = v;
  }
  return above.exists() ? limit_of(body, above) : only_place(f, limit);
}

AskedLimit limit_along(const GivenBounds& body, Edge e, const AskedLimit& limit) {
  const Function& f = body.f;
  if (!limit.value.exists() || f.kind(limit.value) != ValueKind::BlockParameter ||
      f.defining_block(limit.value) != f.to(e))
    return limit;
  return limit_of(body, f.argument(e, f.result_index(limit.value)));
}

Bound moved_to(const Function& f, const Bound& bound, Value to) {
  Bound out = bound;
  const Bound from = root_of(f, to);
  out.root = from.root;
  out.offset = (bound.offset + from.offset) & mask_of(f.type(to).bits());
  return out;
}

bool is_small(const Function& f, const AskedBound& asked) {
  const Bound& bound = asked.bound;
  const Bits mask = mask_of(f.type(bound.root).bits());
  Number n = number_of(f, bound.root);
  if (!n.exists()) return false;
  Bits high = n.high + bound.offset;
  if (n.low + bound.offset > mask) high -= mask + 1;
  return high <= mask && high + bound.bytes <= asked.limit.least;
}

bool says_enough(const GivenBounds& body, const Given& g, const AskedBound& asked) {
  const Function& f = body.f;
  const Bound& bound = asked.bound;
  if (g.kind == Given::Kind::Check) return implies(f, g.bound, bound);
  const Bits mask = mask_of(f.type(bound.root).bits());
  const Bits high = g.bound.bytes + ((bound.offset - g.bound.offset) & mask);
  return high <= mask && high + bound.bytes <= asked.limit.least;
}

bool limit_is_enough(const GivenBounds& body, const Given& g, const AskedLimit& asked) {
  if (g.kind == Given::Kind::Number) return true;
  const Value limit = g.bound.limit;
  if (asked.value == limit || body.limits.most(body.f, limit) <= asked.least) return true;
  const GrowingLimits::Place* p = body.limits.place(limit);
  if (!p || p->base != asked.base || p->offset != asked.offset) return false;
  return !asked.value.exists() || body.limits.never_below(body.f, body.dominators, asked.value, limit);
}

bool met_on_edge(const GivenBounds& body, Edge e, const AskedBound& asked) {
  return body.any_of(asked.bound.root, [&](const Given& g) {
    return g.kind != Given::Kind::Call && g.on == e && says_enough(body, g, asked) &&
           limit_is_enough(body, g, asked.limit);
  });
}

}  // namespace porphyry
