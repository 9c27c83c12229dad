// number: what was computed before is not computed again. Blocks are gone through along the dominator tree's
// order; each operation is looked up by what it does and takes, and one that dominates it takes its place.
// Loads are looked up with the version of memory that they may see, and one that sees a store of the same
// bytes takes what was stored.
//
// B. Alpern, M. Wegman, K. Zadeck, "Detecting Equality of Variables in Programs", 1988, in its hashing form,
// with memory as one more operand. O(instructions), and the budget of memory queries for each load.
#include <fmt/format.h>

#include <bit>

#include "porphyry/analyze/memory_flow.h"
#include "porphyry/ir/edit.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

class Numberer {
 public:
  explicit Numberer(FunctionContext& c)
      : c_(c),
        f_(c.function),
        dominators_(c.facts.get<Dominators>()),
        alias_(c.module, f_, c.module[c.symbol].facts),
        rows_(f_.instruction_limit()),
        heads_(std::bit_ceil(f_.instruction_limit() + 1)) {}

  void run() {
    bool loads = false;
    for (Block b : dominators_.order())
      for (Instruction i : f_.instructions(b)) loads |= f_.op(i) == Op::Load;
    if (loads) flow_.emplace(f_, dominators_, alias_, c_.in_module.get<CallEffects>());
    for (Block b : dominators_.order())
      for (Instruction i = f_.first(b), next; i.exists(); i = next) {
        next = f_.next(i);
        if (info(f_.op(i)).is_plain() || f_.op(i) == Op::At || f_.op(i) == Op::AddressOf)
          look_up(i, {});
        else if (f_.op(i) == Op::Load)
          load(i);
      }
  }

 private:
  void load(Instruction i) {
    const Address& a = f_.address(i);
    if (a.is_volatile || a.masked) return;
    MemoryAccess access = alias_.access(i);
    MemoryVersion seen = flow_->seen_by(i, access);
    Instruction writer = seen.writer();
    if (writer.exists() && f_.op(writer) == Op::Store && forward(i, access, writer)) return;
    look_up(i, seen);
  }

  // The stored value, where the store wrote just these bytes and as this type.
  bool forward(Instruction i, const MemoryAccess& access, Instruction store) {
    const Address& a = f_.address(store);
    Value v = f_.operand(store, 0);
    if (a.is_volatile || a.masked || f_.type(v) != f_.type(f_.result(i))) return false;
    if (!dominates(store, i) || alias_.of(alias_.access(store), access).relation != Overlap::Same)
      return false;
    replace(i, v, "the bytes hold what was stored there", store);
    return true;
  }

  bool dominates(Instruction a, Instruction b) const {
    return f_.block(a) == f_.block(b) ? f_.comes_before(a, b)
                                      : dominators_.dominates(f_.block(a), f_.block(b));
  }

  void look_up(Instruction i, MemoryVersion memory) {
    uint32_t h = hash(i, memory);
    Instruction& head = heads_[h & (heads_.size() - 1)];
    // Of equal operations none of which dominates the others there may be many: branches of a choose.
    unsigned budget = 16;
    for (Instruction known = head; known.exists() && budget; known = row(known).next, --budget) {
      if (row(known).hash != h || !f_.alive(known) || !equal(known, i) || !(row(known).memory == memory))
        continue;
      if (!dominates(known, i)) continue;
      // The one that stays may do what both may.
      if (f_.permits(known) & ~f_.permits(i)) f_.set_permits(known, f_.permits(known) & f_.permits(i));
      for (size_t k = 1; k < f_.result_count(i); ++k) f_.replace_uses(f_.result(i, k), f_.result(known, k));
      return replace(
          i, f_.result(known),
          f_.op(i) == Op::Load ? "nothing wrote the bytes since they were loaded" : "it was computed before",
          known);
    }
    row(i) = {head, h, memory};
    head = i;
  }

  bool exchangeable(Instruction i) const { return info(f_.op(i)).commutes() && f_.operand_count(i) == 2; }
  uint32_t hash(Instruction i, MemoryVersion memory) const {
    size_t h = static_cast<size_t>(f_.op(i)) * 0x9e3779b97f4a7c15u + memory.code;
    auto mix = [&](size_t v) { h = (h ^ v) * 0xff51afd7ed558ccdu, h ^= h >> 29; };
    if (exchangeable(i)) {
      uint32_t a = f_.operand(i, 0).index, b = f_.operand(i, 1).index;
      mix(std::min(a, b)), mix(std::max(a, b));
    } else {
      for (Value v : f_.operands(i)) mix(v.index);
    }
    Type t = f_.type(f_.result(i));
    mix(t.total_bits());
    if (f_.op(i) == Op::AddressOf) mix(f_.symbol(i).index);
    if (f_.op(i) == Op::Load || f_.op(i) == Op::At)
      mix(static_cast<size_t>(f_.address(i).offset * 31 + f_.address(i).scale));
    return static_cast<uint32_t>(h >> 16);
  }

  bool equal(Instruction a, Instruction b) const {
    if (f_.op(a) != f_.op(b) || f_.operand_count(a) != f_.operand_count(b) ||
        f_.result_count(a) != f_.result_count(b))
      return false;
    if (f_.type(f_.result(a)) != f_.type(f_.result(b))) return false;
    bool same = true;
    for (size_t k = 0; k < f_.operand_count(a); ++k) same &= f_.operand(a, k) == f_.operand(b, k);
    bool crossed =
        exchangeable(a) && f_.operand(a, 0) == f_.operand(b, 1) && f_.operand(a, 1) == f_.operand(b, 0);
    if (!same && !crossed) return false;
    switch (info(f_.op(a)).detail()) {
      case Detail::Symbol: return f_.symbol(a) == f_.symbol(b);
      case Detail::Lanes:
        for (size_t k = 0; k < f_.type(f_.result(a)).lanes(); ++k)
          if (f_.shuffle_lane(a, k) != f_.shuffle_lane(b, k)) return false;
        return true;
      case Detail::Address: {
        const Address &x = f_.address(a), &y = f_.address(b);
        // An early load's value may be arbitrary where another one's is not.
        return x.offset == y.offset && x.scale == y.scale && x.indexed == y.indexed && x.masked == y.masked &&
               (!x.early || y.early) && x.is_volatile == y.is_volatile;
      }
      default: return true;
    }
  }

  void replace(Instruction i, Value by, const char* why, Instruction from) {
    Value old = f_.result(i);
    if (c_.wants_notes())
      c_.done(f_.position(i), c_.name(old), "became " + c_.name(by), why,
              {{"operation", write_text(c_.module, f_, i)}, {"the same", write_text(c_.module, f_, from)}});
    hand_name_over(f_, old, by);
    f_.replace_uses(old, by);
    f_.erase(i);
  }

  FunctionContext& c_;
  Function& f_;
  const Dominators& dominators_;
  Alias alias_;
  std::optional<MemoryFlow> flow_;
  // Known operations by hash: chains of instructions, the newest first.
  struct Row {
    Instruction next;
    uint32_t hash = 0;
    MemoryVersion memory;
  };
  Row& row(Instruction i) { return rows_[i]; }
  Table<Instruction, Row> rows_;
  std::vector<Instruction> heads_;  // a power of two
};

}  // namespace

void number(FunctionContext& c) { Numberer(c).run(); }

}  // namespace porphyry
