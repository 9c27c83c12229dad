// A walk backwards from an instruction, up to where each way meets one of several proofs of a bound.
// Invariant: on every way that was walked the bound is still to be met, against the limit that stands with
// the block; a block that is asked for two of them ends the walk. O(blocks * proofs).
#pragma once

#include <algorithm>
#include <vector>

#include "asked_bounds.h"
#include "porphyry/analyze/bound_proofs.h"

namespace porphyry {

class BoundWalk {
 public:
  using Proofs = std::vector<const Given*>;
  // Blocks are marked in `visits`, which walks share; `steps` counts them up to a budget.
  struct Visit {
    uint32_t walk = 0;
    AskedLimit limit;
  };
  BoundWalk(const GivenBounds& body, const Proofs& proofs, uint32_t number, std::vector<Visit>& visits,
            size_t& steps)
      : body_(body), f_(body.f), proofs_(proofs), number_(number), visits_(visits), steps_(steps) {
    if (visits_.size() < f_.block_limit()) visits_.resize(f_.block_limit());
  }

  bool all_ways(Instruction at, const AskedBound& asked) {
    stops_ = {{f_.block(at), at, asked.limit}};
    const Block start = f_.defining_block(asked.bound.root);
    while (!stops_.empty()) {
      const Stop stop = stops_.back();
      stops_.pop_back();
      if (met_in(stop)) continue;
      if (stop.block == start || stop.block == f_.entry() || !go_on(stop)) return false;
      if (++steps_ > BoundProofs::budget) return false;
    }
    return true;
  }

 private:
  // At the end of what a block holds before an instruction, or at all of its end.
  struct Stop {
    Block block;
    Instruction before;
    AskedLimit limit;
  };
  // Along the edges into a block; false when a block is asked for a second limit, or above the limit's
  // definition for one that is of no place.
  bool go_on(const Stop& stop) {
    AskedLimit limit = stop.limit;
    Instruction made = limit.value.exists() ? f_.definition(limit.value) : Instruction();
    if (made.exists() && f_.block(made) == stop.block) {
      if (!limit.base.exists()) return false;
      limit.value = {};
    }
    for (Edge e : f_.edges_into(stop.block)) {
      if (!body_.dominators.reachable(f_.from(e))) continue;
      const AskedLimit along = limit_along(body_, e, limit);
      if (met_on(e, along)) continue;
      Visit& visit = visits_[f_.from(e).index];
      if (visit.walk == number_ && visit.limit != along) return false;
      if (visit.walk == number_) continue;
      visit = {number_, along};
      stops_.push_back({f_.from(e), {}, along});
    }
    return true;
  }
  bool met_in(const Stop& stop) const {
    return std::any_of(proofs_.begin(), proofs_.end(), [&](const Given* g) {
      return g->kind == Given::Kind::Call && f_.block(g->call) == stop.block &&
             (!stop.before.exists() || f_.comes_before(g->call, stop.before)) &&
             read_behind(body_, stop.limit, g->call);
    });
  }
  bool met_on(Edge e, const AskedLimit& limit) const {
    return std::any_of(proofs_.begin(), proofs_.end(), [&](const Given* g) {
      return g->kind != Given::Kind::Call && g->on == e && limit_is_enough(body_, *g, limit);
    });
  }

  const GivenBounds& body_;
  const Function& f_;
  const Proofs& proofs_;
  const uint32_t number_;
  std::vector<Visit>& visits_;
  size_t& steps_;
  std::vector<Stop> stops_;
};

}  // namespace porphyry
