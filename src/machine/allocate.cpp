#include "porphyry/machine/allocate.h"

#include <utility>

#include "scan.h"
#include "split.h"

namespace porphyry::machine {
namespace {

// What the operands were before any of them was split or placed.
void remember(Allocation& out) {
  const Code& f = out.code;
  out.virtual_of.reserve(f.operands.size());
  for (const CodeOperand& o : f.operands) out.virtual_of.push_back(o.reg);
  out.of_address.reserve(f.addresses.size());
  for (const CodeAddress& a : f.addresses) out.of_address.push_back({a.base, a.index});
}

void settle(Code& f, const Scan& scan) {
  auto settled = [&](Register r) { return is_virtual(r) ? scan.place_of(r - first_virtual) : r; };
  for (CodeOperand& o : f.operands)
    if (o.kind == OperandKind::Register && o.reg != no_register) o.reg = settled(o.reg);
  for (CodeAddress& a : f.addresses) {
    if (a.base != no_register) a.base = settled(a.base);
    if (a.index != no_register) a.index = settled(a.index);
  }
}

}  // namespace

Allocation allocate(Code before, const Target& target, Scratch& work, bool remembered) {
  Allocation out(std::move(before));
  if (remembered) remember(out);
  Pieces pieces(out.code.memory());
  pieces.of.resize(out.code.virtuals.size());
  for (;; work.reset()) {
    ++out.rounds;
    Scan scan(out.code, target, pieces, &work);
    scan.run();
    if (!scan.any_to_split()) {
      settle(out.code, scan);
      if (out.rounds > 1) tidy_slots(out, target, pieces, &work);
      return out;
    }
    if (!std::exchange(remembered, true)) remember(out);
    auto evictions = scan.evictions();
    out.evictions.insert(out.evictions.end(), evictions.begin(), evictions.end());
    split_ranges(out, target, scan, pieces, &work);
  }
}

Allocation allocate(Code before, const Target& target) {
  Scratch work;
  return allocate(std::move(before), target, work, true);
}

}  // namespace porphyry::machine
