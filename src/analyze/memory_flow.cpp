#include "porphyry/analyze/memory_flow.h"

#include <algorithm>

namespace porphyry {
namespace {

bool makes_version(const Function& f, Instruction i) {
  const OperationInfo& row = info(f.op(i));
  if (row.layout == Layout::Load) return f.address(i).is_volatile;
  return row.writes_memory() || f.op(i) == Op::Reserve;
}

}  // namespace

MemoryFlow::MemoryFlow(const Function& f, const Dominators& dominators, const Alias& alias,
                       const CallEffects& effects)
    : f_(f),
      dominators_(dominators),
      alias_(alias),
      effects_(effects),
      start_(f.block_limit()),
      end_(f.block_limit()) {
  std::vector<uint8_t> writes(f.block_limit());
  for (Block b : dominators.order())
    for (Instruction i : f.instructions(b))
      if (makes_version(f, i)) writes[b.index] = 1, end_[b] = MemoryVersion::behind(i);
  // First every block with several ways in has a version of its own; those at which all ways bring the same
  // are dropped then, twice, which is enough for loops that write nothing inside others.
  for (int round = 0; round < 3; ++round) {
    for (Block b : dominators.order()) {
      Edge first = f.first_in(b);
      MemoryVersion start = first.exists() ? end_[f.from(first)] : MemoryVersion();
      if (first.exists() && f.next_in(first).exists()) {
        MemoryVersion own = MemoryVersion::at(b), common = own;
        bool same = round > 0;
        for (Edge e : f.edges_into(b)) {
          if (!dominators.reachable(f.from(e))) continue;
          MemoryVersion in = end_[f.from(e)];
          if (in == own) continue;
          same &= common == own || common == in;
          common = in;
        }
        start = same ? common : own;
      }
      start_[b] = start;
      if (!writes[b.index]) end_[b] = start;
    }
  }
  for (Block b : dominators.order()) {
    MemoryVersion now = start_[b];
    for (Instruction i : f.instructions(b)) {
      const OperationInfo& row = info(f.op(i));
      if (row.reads_memory() || row.writes_memory() || row.ends_block()) before_.set(i, now);
      if (!makes_version(f, i)) continue;
      before_.set(i, now);
      now = MemoryVersion::behind(i);
    }
  }
}

MemoryVersion MemoryFlow::seen_by(Instruction i, const MemoryAccess& a, unsigned budget) const {
  return pass(before(i), a, budget);
}

MemoryVersion MemoryFlow::seen_at(Block start, const MemoryAccess& a, unsigned budget) const {
  return pass(start_[start], a, budget);
}

MemoryVersion MemoryFlow::seen_at_end(Block b, const MemoryAccess& a, unsigned budget) const {
  return pass(end_[b], a, budget);
}

MemoryVersion MemoryFlow::pass(MemoryVersion now, const MemoryAccess& a, unsigned& budget) const {
  for (; budget && !now.is_start(); --budget) {
    if (now.is_join()) {
      Block above = dominators_.immediate(now.join());
      if (!above.exists() || !crossed(now.join(), end_[above], a, budget)) return now;
      now = end_[above];
    } else {
      if (alias_.may_write(now.writer(), a, effects_)) return now;
      now = before(now.writer());
    }
  }
  return now;
}

// Whether all ways from `above`, which is the version at the end of the join's immediate dominator, bring
// bytes that no write changed.
bool MemoryFlow::crossed(Block join, MemoryVersion above, const MemoryAccess& a, unsigned& budget) const {
  std::vector<Block> seen{join}, work{join};
  while (!work.empty()) {
    Block b = work.back();
    work.pop_back();
    for (Edge e : f_.edges_into(b)) {
      if (!dominators_.reachable(f_.from(e))) continue;
      MemoryVersion now = end_[f_.from(e)];
      while (!(now == above)) {
        if (budget == 0 || now.is_start()) return false;
        --budget;
        if (now.is_join()) {
          if (std::find(seen.begin(), seen.end(), now.join()) == seen.end())
            seen.push_back(now.join()), work.push_back(now.join());
          break;
        }
        if (alias_.may_write(now.writer(), a, effects_)) return false;
        now = before(now.writer());
      }
    }
  }
  return true;
}

}  // namespace porphyry
