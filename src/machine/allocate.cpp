#include "porphyry/machine/allocate.h"

#include <algorithm>
#include <bit>
#include <limits>

#include "ranges.h"

namespace porphyry::machine {
namespace {

constexpr uint32_t none = 0xffffffff;

// One round: coalesce, scan, and either every register has its place or some are to be spilled.
class Scan {
 public:
  Scan(const Code& f, const Target& target) : f_(f), target_(target), ranges_(live_ranges(f, target)) {
    parent_.resize(f.virtuals.size());
    for (uint32_t v = 0; v < parent_.size(); ++v) parent_[v] = v;
    hints_.resize(f.virtuals.size());
    place_.assign(f.virtuals.size(), -1);
    spilled_.resize(f.virtuals.size());
  }

  void run() {
    coalesce();
    gather_hints();
    std::vector<uint32_t> order;
    for (uint32_t v = 0; v < parent_.size(); ++v)
      if (parent_[v] == v && !ranges_.virtuals[v].empty()) order.push_back(v);
    std::sort(order.begin(), order.end(),
              [&](uint32_t a, uint32_t b) { return first(a) != first(b) ? first(a) < first(b) : a < b; });
    for (uint32_t v : order) place(v);
  }

  uint32_t root(uint32_t v) const {
    while (parent_[v] != v) v = parent_[v];
    return v;
  }
  bool any_spilled() const { return std::find(spilled_.begin(), spilled_.end(), true) != spilled_.end(); }
  bool spilled(uint32_t v) const { return spilled_[root(v)]; }
  int place_of(uint32_t v) const { return place_[root(v)]; }

 private:
  uint32_t first(uint32_t v) const { return ranges_.virtuals[v].front().from; }
  uint32_t last(uint32_t v) const { return ranges_.virtuals[v].back().to; }

  uint32_t find(uint32_t v) {
    while (parent_[v] != v) v = parent_[v] = parent_[parent_[v]];
    return v;
  }

  // Copies whose two registers never hold different wanted values become one register, those in inner loops
  // first. Brief registers stay brief.
  void coalesce() {
    struct Copy {
      uint8_t depth;
      uint32_t to, from;
    };
    std::vector<Copy> copies;
    for (const CodeBlock& b : f_.blocks)
      for (uint32_t k = b.first; k < b.first + b.count; ++k) {
        const CodeLine& i = f_.code[k];
        if (i.form != copy_form) continue;
        Register to = f_.of(i)[0].reg, from = f_.of(i)[1].reg;
        if (is_virtual(to) && is_virtual(from))
          copies.push_back({b.depth, to - first_virtual, from - first_virtual});
      }
    std::stable_sort(copies.begin(), copies.end(),
                     [](const Copy& a, const Copy& b) { return a.depth > b.depth; });
    for (const Copy& c : copies) {
      uint32_t a = find(c.to), b = find(c.from);
      if (a == b || f_.virtuals[a].brief || f_.virtuals[b].brief) continue;
      if (f_.virtuals[a].register_class != f_.virtuals[b].register_class) continue;
      // A wide value is saved whole: the other one would be, too.
      if ((f_.virtuals[a].bits > 64) != (f_.virtuals[b].bits > 64)) continue;
      Segments &x = ranges_.virtuals[a], &y = ranges_.virtuals[b];
      if (meet(x, y)) continue;
      x = merged(std::move(x), std::move(y));
      y.clear();
      ranges_.weights[a] += ranges_.weights[b];
      parent_[b] = a;
    }
  }

  // Copies from and to physical registers say where a value would like to be.
  void gather_hints() {
    for (const CodeLine& i : f_.code) {
      if (i.form != copy_form) continue;
      Register to = f_.of(i)[0].reg, from = f_.of(i)[1].reg;
      if (is_virtual(to) && is_physical(from)) hints_[find(to - first_virtual)] |= mask_of_register(from);
      if (is_virtual(from) && is_physical(to)) hints_[find(from - first_virtual)] |= mask_of_register(to);
    }
  }

  // Lower is better: hinted, then free to clobber, then kept ones already used, then kept ones.
  struct Candidates {
    uint8_t list[first_virtual];
    size_t count = 0;
    const uint8_t* begin() const { return list; }
    const uint8_t* end() const { return list + count; }
  };
  Candidates candidates(uint32_t v) const {
    const RegisterClass& c = target_.classes[f_.virtuals[v].register_class];
    Candidates out;
    auto rank = [&](unsigned r) {
      if (hints_[v] & mask_of_register(r)) return 0;
      if (!(target_.convention.kept & mask_of_register(r))) return 1;
      return used_ & mask_of_register(r) ? 2 : 3;
    };
    for (int wanted = 0; wanted < 4; ++wanted)
      for (unsigned r = c.first; r < unsigned(c.first + c.count); ++r)
        if (r != target_.convention.stack && rank(r) == wanted)
          out.list[out.count++] = static_cast<uint8_t>(r);
    return out;
  }

  bool conflicts(uint32_t v, uint32_t other) const {
    return meet(ranges_.virtuals[v], ranges_.virtuals[other]);
  }

  float cost(uint32_t v) const {
    if (f_.virtuals[v].brief) return std::numeric_limits<float>::infinity();
    const Segments& s = ranges_.virtuals[v];
    uint32_t length = 1;
    for (const Segment& x : s) length += x.to - x.from;
    return ranges_.weights[v] / static_cast<float>(length);
  }

  void place(uint32_t v) {
    uint32_t now = first(v);
    auto regs = candidates(v);
    for (uint8_t r : regs) {
      auto& there = held_[r];
      std::erase_if(there, [&](uint32_t o) { return last(o) <= now; });
      if (meet(ranges_.virtuals[v], ranges_.blocked[r])) continue;
      if (std::any_of(there.begin(), there.end(), [&](uint32_t o) { return conflicts(v, o); })) continue;
      return put(v, r);
    }
    // No room: the cheapest to spill goes, this one or those in its way in one register.
    float best = cost(v);
    int where = -1;
    for (uint8_t r : regs) {
      if (meet(ranges_.virtuals[v], ranges_.blocked[r])) continue;
      float sum = 0;
      for (uint32_t o : held_[r])
        if (conflicts(v, o)) sum += cost(o);
      if (sum < best) best = sum, where = r;
    }
    if (where < 0) {
      spilled_[v] = true;
      return;
    }
    auto& there = held_[where];
    for (uint32_t o : there)
      if (conflicts(v, o)) spilled_[o] = true, place_[o] = -1;
    std::erase_if(there, [&](uint32_t o) { return spilled_[o]; });
    put(v, static_cast<uint8_t>(where));
  }

  void put(uint32_t v, uint8_t r) {
    place_[v] = r;
    used_ |= mask_of_register(r);
    held_[r].push_back(v);
  }

  const Code& f_;
  const Target& target_;
  LiveRanges ranges_;
  std::vector<uint32_t> parent_;
  std::vector<RegisterMask> hints_;
  std::vector<int> place_;
  std::vector<bool> spilled_;
  std::vector<uint32_t> held_[first_virtual];
  RegisterMask used_ = 0;
};

// Rewrites the code so that spilled registers live in frame slots. `was` remembers what each brief register
// stands for.
class Spiller {
 public:
  Spiller(Code& f, const Target& target, const Scan& scan, std::vector<Register>& was)
      : f_(f),
        target_(target),
        scan_(scan),
        was_(was),
        slots_(f.virtuals.size(), none),
        only_write_(f.virtuals.size(), none) {}

  void run() {
    find_remade();
    std::vector<CodeLine> old = std::move(f_.code);
    f_.code.clear();
    for (CodeBlock& b : f_.blocks) {
      uint32_t from = b.first, count = b.count;
      b.first = static_cast<uint32_t>(f_.code.size());
      for (uint32_t k = from; k < from + count; ++k) instruction(old[k]);
      b.count = static_cast<uint32_t>(f_.code.size()) - b.first;
    }
  }

 private:
  bool spilled(Register r) const {
    return is_virtual(r) && r - first_virtual < slots_.size() && scan_.spilled(r - first_virtual);
  }

  // Values whose one write is an instruction that reads no register: made again instead of fetched.
  void find_remade() {
    std::vector<uint32_t> writes(slots_.size());
    for (uint32_t k = 0; k < f_.code.size(); ++k)
      each_register(f_, f_.code[k], [&](Register r, bool, bool written) {
        if (!written || !spilled(r)) return;
        uint32_t v = scan_.root(r - first_virtual);
        only_write_[v] =
            ++writes[v] == 1 && is_constant(f_.code[k]) ? static_cast<uint32_t>(remade_.size()) : none;
        if (only_write_[v] != none) remade_.push_back(f_.code[k]);
      });
  }
  bool is_constant(const CodeLine& i) const {
    if (i.form < first_real_form || target_.form(i.form).reads || target_.form(i.form).writes) return false;
    bool registers = false;
    each_register(f_, i, [&](Register, bool read, bool) { registers |= read; });
    return !registers && i.operand_count > 0 && f_.of(i)[0].written &&
           f_.of(i)[0].kind == OperandKind::Register &&
           (i.operand_count == 1 || f_.of(i)[1].kind == OperandKind::Literal || reads_pool(f_.of(i)[1]));
  }

  bool reads_pool(const CodeOperand& o) const {
    return o.kind == OperandKind::Memory && f_.addresses[static_cast<size_t>(o.value)].anchor == Anchor::Pool;
  }

  uint32_t slot(Register r) {
    uint32_t& s = slots_[scan_.root(r - first_virtual)];
    if (s == none) {
      s = static_cast<uint32_t>(f_.slots.size());
      unsigned bytes = f_.shape(r).bits > 64 ? 16 : 8;
      f_.slots.push_back({bytes, bytes, 0});
    }
    return s;
  }

  Register brief(Register r) {
    VirtualRegister shape = f_.shape(r);
    shape.brief = true;
    f_.virtuals.push_back(shape);
    was_.resize(f_.virtuals.size(), no_register);
    Register made = static_cast<Register>(first_virtual + f_.virtuals.size() - 1);
    was_[made - first_virtual] = r;
    return made;
  }

  void put(FormIndex form, Role role, Instruction origin, CodeOperand a, CodeOperand b) {
    CodeLine i{.form = form,
               .operand_count = 2,
               .role = role,
               .first_operand = static_cast<uint32_t>(f_.operands.size()),
               .origin = origin};
    f_.operands.push_back(a);
    f_.operands.push_back(b);
    f_.code.push_back(i);
  }
  void fetch(Register into, Register from, Instruction origin) {
    uint32_t again = only_write_[scan_.root(from - first_virtual)];
    if (again != none) {
      CodeLine i = remade_[again];
      uint32_t first = static_cast<uint32_t>(f_.operands.size());
      for (uint8_t k = 0; k < i.operand_count; ++k) f_.operands.push_back(f_.operands[i.first_operand + k]);
      f_.operands[first].reg = into;
      i.first_operand = first;
      i.role = Role::Fetch;
      f_.code.push_back(i);
      return;
    }
    put(fetch_form, Role::Fetch, origin, {OperandKind::Register, false, true, into, 0},
        {OperandKind::Literal, false, false, from, slot(from)});
  }
  void save(Register from, Register into, Instruction origin) {
    put(save_form, Role::Save, origin, {OperandKind::Register, true, false, from, 0},
        {OperandKind::Literal, false, false, into, slot(into)});
  }

  void instruction(CodeLine i) {
    bool remade_here = false;
    each_register(f_, i, [&](Register r, bool, bool written) {
      remade_here |= written && spilled(r) && only_write_[scan_.root(r - first_virtual)] != none;
    });
    if (remade_here) return;  // the value is made where it is wanted
    if (i.form == copy_form) {
      Register to = f_.of(i)[0].reg, from = f_.of(i)[1].reg;
      if (spilled(to) && spilled(from)) {
        if (scan_.root(to - first_virtual) == scan_.root(from - first_virtual)) return;
        Register t = brief(from);
        fetch(t, from, i.origin);
        return save(t, to, i.origin);
      }
      if (spilled(from)) return fetch(to, from, i.origin);
      if (spilled(to)) return save(from, to, i.origin);
    }
    std::vector<std::pair<Register, Register>> renamed, saves;  // (old, brief)
    auto rename = [&](Register r, bool read, bool written) {
      if (!spilled(r)) return r;
      for (auto [old, now] : renamed)
        if (old == r) {
          if (written) saves.push_back({r, now});
          return now;
        }
      Register t = brief(r);
      if (read) fetch(t, r, i.origin);
      if (written) saves.push_back({r, t});
      renamed.push_back({r, t});
      return t;
    };
    for (uint8_t k = 0; k < i.operand_count; ++k) {
      CodeOperand o = f_.operands[i.first_operand + k];
      if (o.kind == OperandKind::Register && o.reg != no_register && o.read) {
        Register now = rename(o.reg, true, o.written);
        f_.operands[i.first_operand + k].reg = now;
      } else if (o.kind == OperandKind::Memory || o.kind == OperandKind::Address) {
        CodeAddress a = f_.addresses[static_cast<size_t>(o.value)];
        if (a.base != no_register) a.base = rename(a.base, true, false);
        if (a.index != no_register) a.index = rename(a.index, true, false);
        f_.addresses[static_cast<size_t>(o.value)] = a;
      }
    }
    for (uint8_t k = 0; k < i.operand_count; ++k) {
      CodeOperand& o = f_.operands[i.first_operand + k];
      if (o.kind == OperandKind::Register && o.reg != no_register && !o.read && o.written && spilled(o.reg)) {
        Register old = o.reg, now = brief(old);
        f_.operands[i.first_operand + k].reg = now;
        saves.push_back({old, now});
      }
    }
    f_.code.push_back(i);
    for (auto [old, now] : saves) save(now, old, i.origin);
  }

  Code& f_;
  const Target& target_;
  const Scan& scan_;
  std::vector<Register>& was_;
  std::vector<uint32_t> slots_, only_write_;
  std::vector<CodeLine> remade_;
};

}  // namespace

Allocation allocate(Code before, const Target& target) {
  Allocation out;
  out.code = std::move(before);
  std::vector<Register> was(out.code.virtuals.size(), no_register);
  for (;;) {
    ++out.rounds;
    Scan scan(out.code, target);
    scan.run();
    if (scan.any_spilled()) {
      Spiller(out.code, target, scan, was).run();
      continue;
    }
    auto original = [&](Register r) {
      while (is_virtual(r) && r - first_virtual < was.size() && was[r - first_virtual] != no_register)
        r = was[r - first_virtual];
      return r;
    };
    auto settled = [&](Register r) {
      return is_virtual(r) ? static_cast<Register>(scan.place_of(r - first_virtual)) : r;
    };
    out.virtual_of.resize(out.code.operands.size(), no_register);
    for (size_t k = 0; k < out.code.operands.size(); ++k) {
      CodeOperand& o = out.code.operands[k];
      if (o.reg == no_register) continue;
      out.virtual_of[k] = original(o.reg);
      if (o.kind == OperandKind::Register) o.reg = settled(o.reg);
    }
    for (CodeAddress& a : out.code.addresses) {
      out.of_address.push_back({original(a.base), original(a.index)});
      if (a.base != no_register) a.base = settled(a.base);
      if (a.index != no_register) a.index = settled(a.index);
    }
    return out;
  }
}

}  // namespace porphyry::machine
