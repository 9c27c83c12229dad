// The independent checker of allocations. It shares nothing with the allocator but the code's tables: a
// forward data-flow analysis of which virtual registers' values each place (physical register or frame slot)
// holds, by intersection where ways meet.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "porphyry/machine/allocate.h"

namespace porphyry::machine {
namespace {

// Places: physical registers, then frame slots from 64 on.
using Held = std::map<uint32_t, std::set<Register>>;

class Checker {
 public:
  Checker(const Code& before, const Allocation& after, const Target& target)
      : before_(before), after_(after), f_(after.code), target_(target) {}

  Diagnostics run() {
    if (!pair_up()) return std::move(problems_);
    std::vector<std::optional<Held>> at_start(f_.blocks.size());
    at_start[0] = Held();
    std::vector<uint32_t> work{0};
    while (!work.empty()) {
      uint32_t b = work.back();
      work.pop_back();
      Held state = *at_start[b];
      walk(b, state, false);
      for (uint32_t s : f_.blocks[b].successors) {
        if (!at_start[s]) {
          at_start[s] = state;
          work.push_back(s);
        } else if (intersect(*at_start[s], state)) {
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

  bool is_inserted(const CodeLine& i) const { return i.role == Role::Save || i.role == Role::Fetch; }

  // The instructions of before must be those of after, but for what was inserted; copies may have become
  // saves or fetches, and constants may be made elsewhere.
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

  static bool intersect(Held& into, const Held& other) {
    bool changed = false;
    for (auto it = into.begin(); it != into.end();) {
      auto o = other.find(it->first);
      std::set<Register> both;
      if (o != other.end())
        std::set_intersection(it->second.begin(), it->second.end(), o->second.begin(), o->second.end(),
                              std::inserter(both, both.end()));
      if (both.size() != it->second.size()) changed = true, it->second = both;
      it = it->second.empty() ? into.erase(it) : std::next(it);
    }
    return changed;
  }

  void expect(uint32_t k, const Held& state, uint32_t place, Register wanted, bool report) {
    if (!report || wanted == no_register || is_physical(wanted)) return;
    auto held = state.find(place);
    if (held != state.end() && held->second.contains(wanted)) return;
    complain(k, fmt::format("{} does not hold the value of v{}",
                            place < 64 ? std::string(target_.register_name(place, 64))
                                       : fmt::format("slot {}", place - 64),
                            wanted - first_virtual));
  }
  void define(Held& state, uint32_t place, Register v) {
    if (is_virtual(v))
      for (auto& [p, held] : state) held.erase(v);
    state[place].clear();
    if (is_virtual(v)) state[place].insert(v);
  }
  // `to` now holds what `from` held, and (for a copy of the program) a new value of the virtual `v`.
  void transfer(Held& state, uint32_t to, uint32_t from, Register v) {
    std::set<Register> held = state[from];
    if (is_virtual(v)) {
      for (auto& [p, h] : state) h.erase(v);
      held.erase(v);
      held.insert(v);
    }
    if (to == from)
      state[to].insert(v);
    else
      state[to] = held;
  }

  // A copy `to = from` of the program that coalescing or spilling removed or turned into a save or fetch.
  void rename_copies(uint32_t first_before, uint32_t last_before, Held& state) {
    for (uint32_t k = first_before; k < last_before; ++k) {
      const CodeLine& i = before_.code[k];
      if (i.form != copy_form) continue;  // a constant that is made again where it is wanted
      Register to = before_.of(i)[0].reg, from = before_.of(i)[1].reg;
      if (!is_virtual(to)) continue;
      for (auto& [p, held] : state) {
        held.erase(to);
        if (is_virtual(from) && held.contains(from)) held.insert(to);
      }
    }
  }

  // A save or fetch may want a value that a copy of the program, removed since, has just given its name;
  // constants that are made elsewhere now may stand before it.
  void catch_up(uint32_t b, uint32_t& next_before, uint32_t place, Register wanted, Held& state) {
    uint32_t end = before_.blocks[b].first + before_.blocks[b].count;
    while (is_virtual(wanted) && !state[place].contains(wanted) && next_before < end &&
           !stayed_[next_before]) {
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
        // A fetch or save that stands for a copy of the program comes with that copy's turn.
        if (i.form == save_form) {
          Register v = after_.virtual_of[i.first_operand + 1], from = after_.virtual_of[i.first_operand];
          uint32_t slot = 64 + static_cast<uint32_t>(operands[1].value);
          catch_up(b, next_before, operands[0].reg, from, state);
          expect(k, state, operands[0].reg, from, report);
          if (from == v)
            transfer_same(state, slot, operands[0].reg, v);
          else
            pass_copy(b, next_before, v, from, state), transfer(state, slot, operands[0].reg, v);
        } else if (i.form == fetch_form) {
          Register v = after_.virtual_of[i.first_operand + 1], to = after_.virtual_of[i.first_operand];
          uint32_t slot = 64 + static_cast<uint32_t>(operands[1].value);
          catch_up(b, next_before, slot, v, state);
          expect(k, state, slot, v, report);
          if (to == v)
            transfer_same(state, operands[0].reg, slot, v);
          else
            pass_copy(b, next_before, to, v, state), transfer(state, operands[0].reg, slot, to);
        } else {  // a constant made again
          Register v = after_.virtual_of[i.first_operand];
          if (is_virtual(v) && is_the_constant(i, v, no_copies)) {
            state[operands[0].reg] = {v};
          } else if (Register from = copied_constant(b, next_before, i, v); from != no_register) {
            pass_copy(b, next_before, v, from, state);
            define(state, operands[0].reg, v);
          } else if (is_virtual(v) && is_the_constant(i, v)) {
            state[operands[0].reg] = {v};
          } else if (report) {
            complain(k, "it does not make the constant again that it should");
          }
        }
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
          state[operands[0].reg] = state[operands[1].reg];
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
      for (RegisterMask m = implicit_writes(target_, f_, i); m; m &= m - 1)
        state.erase(static_cast<uint32_t>(__builtin_ctzll(m)));
      for (uint32_t o = 0; o < i.operand_count; ++o)
        if (operands[o].kind == OperandKind::Register && operands[o].written)
          define(state, operands[o].reg, after_.virtual_of[i.first_operand + o]);
    }
    rename_copies(next_before, before_.blocks[b].first + before_.blocks[b].count, state);
  }

  void transfer_same(Held& state, uint32_t to, uint32_t from, Register v) {
    bool had = state[from].contains(v);
    state[to] = state[from];
    if (!had) state[to].erase(v);
  }

  // Whether the program makes `v` in one place only, and there as `i` does, or copies it from what is: over
  // at most so many copies.
  static constexpr unsigned no_copies = 0;
  bool is_the_constant(const CodeLine& i, Register v, unsigned copies = 8) const {
    unsigned writes = 0;
    bool alike = false;
    Register copied = no_register;
    for (const CodeLine& x : before_.code)
      each_register(before_, x, [&](Register r, bool, bool written) {
        if (!written || r != v) return;
        ++writes;
        if (x.form == copy_form) copied = before_.of(x)[1].reg;
        alike = x.form == i.form && x.operand_count == i.operand_count;
        for (uint8_t o = 1; alike && o < i.operand_count; ++o)
          alike = before_.of(x)[o].value == f_.of(i)[o].value;
      });
    if (writes == 1 && is_virtual(copied) && copies > 0) return is_the_constant(i, copied, copies - 1);
    return writes == 1 && alike;
  }

  // Where the program next copies into `to`: the source, when it is the constant that `i` makes.
  Register copied_constant(uint32_t b, uint32_t next_before, const CodeLine& i, Register to) const {
    uint32_t end = before_.blocks[b].first + before_.blocks[b].count;
    for (uint32_t k = next_before; k < end; ++k) {
      const CodeLine& x = before_.code[k];
      if (x.form != copy_form || before_.of(x)[0].reg != to) continue;
      Register from = before_.of(x)[1].reg;
      return is_virtual(from) && is_the_constant(i, from) ? from : no_register;
    }
    return no_register;
  }

  // Steps over the program's copy that a save or fetch stands for, and over removed ones before it.
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
  std::vector<uint32_t> original_;  // by instruction of after: the one of before
  std::vector<bool> stayed_;        // by instruction of before
  Diagnostics problems_;
};

}  // namespace

Diagnostics check_allocation(const Code& before, const Allocation& after, const Target& target) {
  return Checker(before, after, target).run();
}

}  // namespace porphyry::machine
