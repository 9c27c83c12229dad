#include "porphyry/machine/allocate.h"

#include <optional>
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

Allocation allocate(Code before, const Target& target, RoundMemory work, bool remembered) {
  Allocation out(std::move(before));
  if (remembered) remember(out);
  Pieces pieces(out.code.memory());
  pieces.of.resize(out.code.virtuals.size());
  Scratch* const memory[] = {&work.one, &work.other};
  std::optional<Scan> scans[2];  // of this round and of the one before, each in memory of its own
  scans[0].emplace(out.code, target, pieces, memory[0]);
  for (size_t now = 0;; now = 1 - now) {
    ++out.rounds;
    Scan& scan = *scans[now];
    scan.run();
    if (!scan.any_to_split()) {
      settle(out.code, scan);
      if (out.rounds > 1) remove_superfluous_spills(out, target, pieces, memory[now]);
      return out;
    }
    if (!std::exchange(remembered, true)) remember(out);
    auto split_reasons = scan.split_reasons();
    out.split_reasons.insert(out.split_reasons.end(), split_reasons.begin(), split_reasons.end());
    const LineMoves moves = split_ranges(out, target, scan, pieces, memory[now]);
    scans[1 - now].reset();
    memory[1 - now]->reset();
    scans[1 - now].emplace(scan, moves, memory[1 - now]);
  }
}

namespace {

// Instructions that only move values: between registers, and to and from slots. What is made again counts as
// a reload, but touches no memory.
struct Moves {
  size_t copies = 0, spills_and_reloads = 0, accesses = 0;
};
Moves moves_in(const Code& f) {
  Moves out;
  for (const CodeLine& i : f.code) {
    out.copies += i.form == copy_form && f.of(i)[0].reg != f.of(i)[1].reg;
    out.spills_and_reloads += i.role == Role::Spill || i.role == Role::Reload;
    out.accesses += i.form == spill_form || i.form == reload_form;
  }
  return out;
}

}  // namespace

Allocation allocate_either(Code plain, Code scheduled, const Target& target, RoundMemory work,
                           bool remembered) {
  Allocation second = allocate(std::move(scheduled), target, work, remembered);
  work.reset();
  Allocation first = allocate(std::move(plain), target, work, remembered);
  const Moves was = moves_in(first.code), now = moves_in(second.code);
  bool no_more = now.copies <= was.copies && now.spills_and_reloads <= was.spills_and_reloads &&
                 now.accesses <= was.accesses;
  return no_more ? std::move(second) : std::move(first);
}

Allocation allocate(Code before, const Target& target) {
  Scratch one, other;
  return allocate(std::move(before), target, {one, other}, true);
}

}  // namespace porphyry::machine
