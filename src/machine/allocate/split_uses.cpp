#include "split_uses.h"

namespace porphyry::machine {
namespace {

constexpr uint32_t unknown = no_loop - 1;

uint32_t common_loop(const Code& f, uint32_t a, uint32_t b) {
  while (a != b) {
    uint32_t& deeper = depth_of(f, a) >= depth_of(f, b) ? a : b;
    deeper = f.loops[deeper].outer;
  }
  return a;
}

}  // namespace

SplitUses::SplitUses(const Code& f, const Scan& scan, std::pmr::memory_resource* work)
    : f_(f),
      scan_(scan),
      gone_(f.virtuals.size(), work),
      starts_(work),
      lines_(work),
      cuts_(f.virtuals.size(), work),
      homes_(f.virtuals.size(), unknown, work) {
  starts_.reserve(f.blocks.size());
  for (const CodeBlock& b : f.blocks) starts_.push_back(b.first);
  find_lines();
  find_cuts();
  if (!f.loops.empty()) find_homes();
}

void SplitUses::find_lines() {
  for (uint32_t v = 0; v < gone_.size(); ++v) gone_[v] = scan_.to_split(v);
  for (uint32_t b = 0; b < f_.blocks.size(); ++b)
    for (uint32_t k = f_.blocks[b].first; k < f_.blocks[b].first + f_.blocks[b].count; ++k) {
      bool names = false;
      each_register(f_, f_.code[k], [&](Register r, bool, bool) { names |= splits(r); });
      if (names) lines_.push_back({k, b});
    }
}

void SplitUses::find_cuts() {
  for (const Scan::ToSplit& e : scan_.splits()) cuts_[e.root].at = e.at;
  each([&](const Line& n, Register r, bool read, bool) {
    if (f_.code[n.line].role != Role::Program) return;
    Cut& cut = cuts_[scan_.root(r - first_virtual)];
    (2 * n.line + !read <= cut.at ? cut.before : cut.behind) = true;
  });
}

void SplitUses::find_homes() {
  each([&](const Line& n, Register r, bool, bool) {
    uint32_t& home = homes_[scan_.root(r - first_virtual)];
    const uint32_t loop = f_.blocks[n.block].loop;
    home = home == unknown ? loop : common_loop(f_, home, loop);
  });
}

}  // namespace porphyry::machine
