#include "porphyry/analyze/frequency.h"

#include <algorithm>

namespace porphyry {
namespace {

// Relative chances of edges without weights, and bounds that keep nests of loops finite.
constexpr float stays = 7, goes = 1, traps = 0.05f;
constexpr float against_hint = 0.05f;  // of what it would be
constexpr float usual_rounds = 8, most_rounds = 1e4f, most_times = 1e9f;
constexpr float rare = 0.1f;  // of the likeliest edge's share

}  // namespace

Frequencies::Frequencies(const Function& f, const Dominators& dominators, const Loops& loops,
                         std::pmr::memory_resource* memory)
    : f_(f),
      dominators_(dominators),
      loops_(loops),
      times_(f.block_limit(), memory),
      unlikely_(f.block_limit(), memory),
      hopeless_(f.block_limit(), memory),
      shares_(memory) {
  find_hopeless();
  // Likely until an edge says so: an entry in unlikely_ is 2 while no way has been found.
  for (Block b : dominators.order()) unlikely_[b] = 2;
  if (f.entry().exists()) times_[f.entry()] = 1, unlikely_[f.entry()] = 0;
  for (Block b : dominators.order()) {
    if (loops.is_header(b)) times_[b] *= rounds(b);
    times_[b] = std::min(times_[b], most_times);
    if (unlikely_[b] == 2) unlikely_[b] = 1;
    if (f.edges(b).size() == 0) continue;
    shares(b);
    float largest = 0;
    for (const Share& s : shares_) largest = std::max(largest, s.value);
    for (size_t k = 0; k < shares_.size(); ++k) {
      Block to = f.to(f.edges(b)[k]);
      if (dominators.dominates(to, b)) continue;  // back to a loop's head, which has its rounds
      times_[to] += times_[b] * shares_[k].value;
      bool is_rare = shares_[k].value < rare * largest && (!shares_[k].leaves || hopeless_[to]);
      if (!unlikely_[b] && !is_rare) unlikely_[to] = 0;
    }
  }
}

// Backwards: what ends in a trap, and what leads only there.
void Frequencies::find_hopeless() {
  const auto& order = dominators_.order();
  for (size_t k = order.size(); k-- > 0;) {
    Function::EdgeRange ways = f_.edges(order[k]);
    bool none = ways.size() > 0;
    for (Edge e : ways) none &= hopeless_[f_.to(e)] != 0;
    if (Instruction end = f_.last(order[k]); ways.size() == 0) none = end.exists() && f_.op(end) == Op::Trap;
    hopeless_[order[k]] = none;
  }
}

void Frequencies::shares(Block home) {
  shares_.clear();
  Block header = loops_.header(home);
  bool weighted = false;
  for (Edge e : f_.edges(home)) weighted |= f_.weight(e) != Function::no_weight;
  float sum = 0;
  // The way that a hint speaks against, when there is one.
  Edge seldom;
  if (Instruction end = f_.terminator(home); f_.op(end) == Op::When && f_.hint(end) != Function::Hint::None)
    seldom = f_.edge(end, f_.hint(end) == Function::Hint::Likely ? 1 : 0);
  for (Edge e : f_.edges(home)) {
    bool leaves = header.exists() && !loops_.contains(header, f_.to(e));
    float chance = hopeless_[f_.to(e)] ? traps : leaves ? goes : stays;
    if (weighted) {
      uint64_t w = f_.weight(e);
      chance = w == Function::no_weight ? 1 : std::max(static_cast<float>(w), 1e-3f);
    }
    if (!weighted && e == seldom) chance *= against_hint;
    shares_.push_back({chance, leaves});
    sum += chance;
  }
  for (Share& s : shares_) s.value /= sum;
}

// How often a loop's head runs for each time the loop is entered, when weights around it tell.
float Frequencies::rounds(Block header) const {
  double in = 0, back = 0;
  bool known = true;
  for (Edge e : f_.edges_into(header)) {
    uint64_t w = f_.weight(e);
    known &= w != Function::no_weight;
    (dominators_.dominates(header, f_.from(e)) ? back : in) += static_cast<double>(w);
  }
  if (known && in > 0) return std::min(static_cast<float>(1 + back / in), most_rounds);
  // Else one branch that goes on or leaves, at the loop's head or at its end.
  auto by_branch = [&](Block b) {
    double on = 0, out = 0;
    for (Edge e : f_.edges(b)) {
      if (f_.weight(e) == Function::no_weight) return 0.0f;
      (loops_.contains(header, f_.to(e)) ? on : out) += static_cast<double>(f_.weight(e));
    }
    return out > 0 && on > 0 ? std::min(static_cast<float>(1 + on / out), most_rounds) : 0.0f;
  };
  if (float n = by_branch(header); n > 0) return n;
  for (Edge e : f_.edges_into(header))
    if (dominators_.dominates(header, f_.from(e)))
      if (float n = by_branch(f_.from(e)); n > 0) return n;
  return usual_rounds;
}

}  // namespace porphyry
