// The independent checker of allocations. It shares nothing with the allocator but the code's tables: a
// forward data-flow analysis of which virtual registers' values each place (physical register or frame slot)
// holds, by intersection where ways meet.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "porphyry/machine/allocate.h"

namespace porphyry::machine {
namespace {

// Which virtual registers' values each place holds. Places are physical registers, then frame slots from 64
// on. Pairs in order, place first: there are few at a time.
class Held {
 public:
  bool has(uint32_t place, Register v) const {
    return std::binary_search(pairs_.begin(), pairs_.end(), pair(place, v));
  }
  void add(uint32_t place, Register v) {
    auto at = std::lower_bound(pairs_.begin(), pairs_.end(), pair(place, v));
    if (at == pairs_.end() || *at != pair(place, v)) pairs_.insert(at, pair(place, v));
  }
  // No place holds the register's value any more; the place holds nothing.
  void forget(Register v) {
    std::erase_if(pairs_, [&](uint64_t p) { return static_cast<Register>(p) == v; });
  }
  void clear(uint32_t place) {
    auto [from, to] = range(place);
    pairs_.erase(pairs_.begin() + from, pairs_.begin() + to);
  }
  std::vector<Register> in(uint32_t place) const {
    auto [from, to] = range(place);
    std::vector<Register> out;
    for (ptrdiff_t k = from; k < to; ++k)
      out.push_back(static_cast<Register>(pairs_[static_cast<size_t>(k)]));
    return out;
  }
  void set(uint32_t place, const std::vector<Register>& values) {
    clear(place);
    for (Register v : values) add(place, v);
  }
  // Whoever holds `from` holds `to` as well.
  void name_alike(Register to, Register from) {
    std::vector<uint32_t> places;
    for (uint64_t p : pairs_)
      if (static_cast<Register>(p) == from) places.push_back(static_cast<uint32_t>(p >> 32));
    for (uint32_t place : places) add(place, to);
  }
  // What both hold; whether that is less than before.
  bool intersect(const Held& other) {
    size_t before = pairs_.size(), kept = 0;
    auto at = other.pairs_.begin();
    for (uint64_t p : pairs_) {
      while (at != other.pairs_.end() && *at < p) ++at;
      if (at != other.pairs_.end() && *at == p) pairs_[kept++] = p;
    }
    pairs_.resize(kept);
    return kept != before;
  }

 private:
  static uint64_t pair(uint32_t place, Register v) { return uint64_t(place) << 32 | v; }
  std::pair<ptrdiff_t, ptrdiff_t> range(uint32_t place) const {
    auto from = std::lower_bound(pairs_.begin(), pairs_.end(), pair(place, 0)),
         to = std::lower_bound(from, pairs_.end(), pair(place + 1, 0));
    return {from - pairs_.begin(), to - pairs_.begin()};
  }

  std::vector<uint64_t> pairs_;
};

class Checker {
 public:
  Checker(const Code& before, const Allocation& after, const Target& target)
      : before_(before), after_(after), f_(after.code), target_(target) {}

  Diagnostics run() {
    if (!pair_up()) return std::move(problems_);
    find_only_writes();
    std::vector<std::optional<Held>> at_start(f_.blocks.size());
    at_start[0] = Held();
    std::vector<uint32_t> work{0};
    while (!work.empty()) {
      uint32_t b = work.back();
      work.pop_back();
      Held state = *at_start[b];
      walk(b, state, false);
      for (uint32_t s : f_.successors(f_.blocks[b])) {
        if (!at_start[s]) {
          at_start[s] = state;
          work.push_back(s);
        } else if (at_start[s]->intersect(state)) {
          work.push_back(s);
        }
      }
    }
    for (uint32_t b = 0; b < f_.blocks.size(); ++b)
      if (at_start[b]) walk(b, *at_start[b], true);
    return std::move(problems_);
  }

 private:
  void complain(uint32_t k, std::string what) {
    if (problems_.size() < 20)
      problems_.push_back(complaint(fmt::format("in '{}', instruction {}: {}", f_.name, k, what),
                                    "the value that the code before allocation meant"));
  }

  bool is_inserted(const CodeLine& i) const { return i.role == Role::Spill || i.role == Role::Reload; }

  // The instructions of before must be those of after, but for what was inserted; copies may have become
  // spills or reloads, and constants may be made elsewhere.
  bool pair_up() {
    original_.assign(f_.code.size(), 0xffffffff);
    stayed_.assign(before_.code.size(), false);
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      uint32_t k = before_.blocks[b].first, end = k + before_.blocks[b].count;
      for (uint32_t j = f_.blocks[b].first; j < f_.blocks[b].first + f_.blocks[b].count; ++j) {
        if (is_inserted(f_.code[j])) continue;
        while (k < end && !same(before_.code[k], f_.code[j])) ++k;
        if (k == end) return complain(j, "it is not in the code before allocation"), false;
        stayed_[k] = true;
        original_[j] = k++;
      }
    }
    return true;
  }
  bool same(const CodeLine& x, const CodeLine& y) const {
    return x.form == y.form && x.origin == y.origin && x.first_operand == y.first_operand;
  }

  void expect(uint32_t k, const Held& state, uint32_t place, Register wanted, bool report) {
    if (!report || wanted == no_register || is_physical(wanted)) return;
    if (state.has(place, wanted)) return;
    complain(k, fmt::format("{} does not hold the value of v{}",
                            place < 64 ? std::string(target_.register_name(place, 64))
                                       : fmt::format("slot {}", place - 64),
                            wanted - first_virtual));
  }
  void define(Held& state, uint32_t place, Register v) {
    state.clear(place);
    if (!is_virtual(v)) return;
    state.forget(v);
    state.add(place, v);
  }
  // `to` now holds what `from` held, and (for a copy of the program) a new value of the virtual `v`.
  void transfer(Held& state, uint32_t to, uint32_t from, Register v) {
    if (is_virtual(v)) state.forget(v);
    if (to != from) state.set(to, state.in(from));
    if (is_virtual(v)) state.add(to, v);
  }

  // A copy `to = from` of the program that coalescing or spilling removed or turned into a spill or reload.
  void rename_copies(uint32_t first_before, uint32_t last_before, Held& state) {
    for (uint32_t k = first_before; k < last_before; ++k) {
      const CodeLine& i = before_.code[k];
      if (i.form != copy_form) continue;  // a constant that is made again where it is wanted
      Register to = before_.of(i)[0].reg, from = before_.of(i)[1].reg;
      if (!is_virtual(to)) continue;
      if (to == from) continue;
      state.forget(to);
      if (is_virtual(from)) state.name_alike(to, from);
    }
  }

  // A spill or reload may want a value that a copy of the program, removed since, has just given its name;
  // constants that are made elsewhere now may stand before it.
  void catch_up(uint32_t b, uint32_t& next_before, uint32_t place, Register wanted, Held& state) {
    uint32_t end = before_.blocks[b].first + before_.blocks[b].count;
    while (is_virtual(wanted) && !state.has(place, wanted) && next_before < end && !stayed_[next_before]) {
      rename_copies(next_before, next_before + 1, state);
      ++next_before;
    }
  }

  void walk(uint32_t b, Held& state, bool report) {
    uint32_t next_before = before_.blocks[b].first;
    for (uint32_t k = f_.blocks[b].first; k < f_.blocks[b].first + f_.blocks[b].count; ++k) {
      const CodeLine& i = f_.code[k];
      auto operands = f_.of(i);
      if (is_inserted(i)) {
        inserted(b, k, next_before, state, report);
        continue;
      }
      rename_copies(next_before, original_[k], state);
      next_before = original_[k] + 1;
      if (i.form == copy_form) {
        Register to = after_.virtual_of[i.first_operand], from = after_.virtual_of[i.first_operand + 1];
        expect(k, state, operands[1].reg, from, report);
        if (is_virtual(to))
          transfer(state, operands[0].reg, operands[1].reg, to);
        else
          state.set(operands[0].reg, state.in(operands[1].reg));
        continue;
      }
      for (uint32_t o = 0; o < i.operand_count; ++o) {
        const CodeOperand& x = operands[o];
        if (x.kind == OperandKind::Register && x.read)
          expect(k, state, x.reg, after_.virtual_of[i.first_operand + o], report);
        if (x.kind != OperandKind::Memory && x.kind != OperandKind::Address) continue;
        const CodeAddress& a = f_.addresses[static_cast<size_t>(x.value)];
        auto [base, index] = after_.of_address[static_cast<size_t>(x.value)];
        if (a.base != no_register) expect(k, state, a.base, base, report);
        if (a.index != no_register) expect(k, state, a.index, index, report);
      }
      for (unsigned r : implicit_writes(target_, f_, i)) state.clear(r);
      for (uint32_t o = 0; o < i.operand_count; ++o)
        if (operands[o].kind == OperandKind::Register && operands[o].written)
          define(state, operands[o].reg, after_.virtual_of[i.first_operand + o]);
    }
    rename_copies(next_before, before_.blocks[b].first + before_.blocks[b].count, state);
  }

  // A spill, a reload, a copy instead of a reload, or a constant made again. It moves what a place holds,
  // whatever that is; where it stands for a copy of the program (from one virtual register to another), it
  // comes with that copy's turn.
  void inserted(uint32_t b, uint32_t k, uint32_t& next_before, Held& state, bool report) {
    const CodeLine& i = f_.code[k];
    auto operands = f_.of(i);
    Register first = after_.virtual_of[i.first_operand];
    if (i.form >= first_real_form) return made_again(b, k, first, next_before, state, report);
    Register second = after_.virtual_of[i.first_operand + 1];
    auto place = [&](const CodeOperand& o) {
      return o.kind == OperandKind::Register ? o.reg : 64 + static_cast<uint32_t>(o.value);
    };
    // A spill that was taken out is left as a copy of its register to itself.
    bool spills = i.role == Role::Spill, into_second = i.form == spill_form;
    uint32_t to = place(operands[into_second ? 1 : 0]), from = place(operands[into_second ? 0 : 1]);
    Register to_named = spills ? second : first, from_named = spills ? first : second;
    if (to_named == from_named) {
      if (to != from) state.set(to, state.in(from));
      return;
    }
    catch_up(b, next_before, from, from_named, state);
    expect(k, state, from, from_named, report);
    pass_copy(b, next_before, to_named, from_named, state);
    transfer(state, to, from, to_named);
    if (!is_virtual(to_named)) return;
    state.add(from, to_named);  // both have it now
    if (is_virtual(from_named)) state.name_alike(to_named, from_named);
  }

  // Which constant it makes is seen from the instruction itself. `named` is a virtual register that the
  // program copies the constant to here, or nothing.
  void made_again(uint32_t b, uint32_t k, Register named, uint32_t& next_before, Held& state, bool report) {
    const CodeLine& i = f_.code[k];
    Register into = f_.of(i)[0].reg;
    std::vector<Register> alike;
    for (auto [v, line] : only_writes_)
      if (makes_the_same(before_.code[line], i)) alike.push_back(v);
    if (named == no_register) {
      if (alike.empty() && report) complain(k, "it makes a constant again that the program never made");
      state.set(into, alike);
      return;
    }
    uint32_t end = before_.blocks[b].first + before_.blocks[b].count;
    for (uint32_t at = next_before; at < end; ++at) {
      const CodeLine& x = before_.code[at];
      if (x.form != copy_form || before_.of(x)[0].reg != named) continue;
      if (std::find(alike.begin(), alike.end(), before_.of(x)[1].reg) == alike.end()) break;
      pass_copy(b, next_before, named, before_.of(x)[1].reg, state);
      define(state, into, named);
      return;
    }
    if (report) complain(k, "it does not make the constant again that it should");
  }

  bool makes_the_same(const CodeLine& x, const CodeLine& y) const {
    bool alike = x.form == y.form && x.operand_count == y.operand_count;
    for (uint8_t o = 1; alike && o < y.operand_count; ++o)
      alike = before_.of(x)[o].value == f_.of(y)[o].value;
    return alike;
  }

  // Virtual registers that one instruction without operands to read writes, or one copy of such a one.
  void find_only_writes() {
    std::map<Register, std::pair<unsigned, uint32_t>> writes;
    for (uint32_t k = 0; k < before_.code.size(); ++k)
      each_register(before_, before_.code[k], [&](Register r, bool, bool written) {
        if (written && is_virtual(r)) ++writes[r].first, writes[r].second = k;
      });
    for (auto [v, made] : writes) {
      Register at = v;
      for (unsigned copies = 0; copies < 8; ++copies) {
        auto w = writes.find(at);
        if (w == writes.end() || w->second.first != 1) break;
        const CodeLine& line = before_.code[w->second.second];
        if (line.form == copy_form) {
          at = before_.of(line)[1].reg;
          continue;
        }
        bool reads = false;
        each_register(before_, line, [&](Register, bool read, bool) { reads |= read; });
        if (!reads && line.form >= first_real_form) only_writes_[v] = w->second.second;
        break;
      }
    }
  }

  // Steps over the program's copy that a spill or reload stands for, and over removed ones before it.
  void pass_copy(uint32_t b, uint32_t& next_before, Register to, Register from, Held& state) {
    uint32_t end = before_.blocks[b].first + before_.blocks[b].count;
    for (uint32_t k = next_before; k < end; ++k) {
      const CodeLine& i = before_.code[k];
      if (i.form == copy_form && before_.of(i)[0].reg == to && before_.of(i)[1].reg == from) {
        rename_copies(next_before, k, state);
        next_before = k + 1;
        return;
      }
    }
  }

  const Code& before_;
  const Allocation& after_;
  const Code& f_;
  const Target& target_;
  std::vector<uint32_t> original_;            // by instruction of after: the one of before
  std::vector<bool> stayed_;                  // by instruction of before
  std::map<Register, uint32_t> only_writes_;  // the instruction that makes a constant, by each that has it
  Diagnostics problems_;
};

}  // namespace

Diagnostics check_allocation(const Code& before, const Allocation& after, const Target& target) {
  return Checker(before, after, target).run();
}

}  // namespace porphyry::machine
