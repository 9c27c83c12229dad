// Idea: blocks are visited in the order in which runs come to them, a loop's once for each round, and what
// comes in by several ways is joined: each value, and memory, is a choice among what the ways bring. So the
// terms grow with the blocks, not with the ways through them. A state holds under its guard; what ends under
// a guard is gathered.
#include "executor.h"

#include <fmt/format.h>

#include <algorithm>

#include "porphyry/analyze/loops.h"
#include "porphyry/print/print.h"

namespace porphyry::prove {
namespace {

constexpr unsigned deepest_calls = 4;

struct State {
  Term guard;
  SymbolicMemory memory;
  std::vector<std::optional<SymbolicValue>> values;  // by handle
};

class Executor {
 public:
  Executor(Algebra& algebra, z3::context& c, const Module& module, const ExecutorLimits& limits)
      : a_(algebra), c_(c), module_(module), limits_(limits) {}

  SymbolicOutcome run(Symbol symbol, const std::vector<SymbolicValue>& arguments,
                      const SymbolicMemory& memory, const Term& guard, unsigned depth);

 private:
  class Body;
  friend class Body;
  Algebra& a_;
  z3::context& c_;
  const Module& module_;
  const ExecutorLimits& limits_;
  size_t steps_ = 0;
};

class Executor::Body {
 public:
  Body(Executor& e, Symbol symbol, unsigned depth)
      : e_(e),
        a_(e.a_),
        c_(e.c_),
        module_(e.module_),
        symbol_(symbol),
        f_(module_.function(symbol)),
        depth_(depth),
        dominators_(f_),
        promises_(a_),
        out_{no(), no(), no(), told_none(), {}, {told_none(), told_none(), {}}} {
    if (!is_reducible(f_, dominators_)) throw NotFollowed{"a loop with several ways in"};
  }

  SymbolicOutcome run(const std::vector<SymbolicValue>& arguments, const SymbolicMemory& memory,
                      const Term& guard) {
    State start{guard, memory, std::vector<std::optional<SymbolicValue>>(f_.value_limit())};
    for (size_t k = 0; k < arguments.size(); ++k) start.values[f_.parameters()[k].index] = arguments[k];
    out_.memory = memory;
    out_.told_at_trap = memory.told;
    const auto& order = dominators_.order();
    SideTable<Block, uint32_t> place;
    for (size_t k = 0; k < order.size(); ++k) place.set(order[k], static_cast<uint32_t>(k));
    place_ = &place;
    coming_.resize((e_.limits_.rounds + 1) * order.size());
    coming_[0].push_back(std::move(start));
    for (unsigned round = 0; round <= e_.limits_.rounds; ++round)
      for (size_t k = 0; k < order.size(); ++k) {
        auto& all = coming_[round * order.size() + k];
        if (all.empty()) continue;
        State s = joined(std::move(all));
        all.clear();
        block(order[k], round, std::move(s));
      }
    return std::move(out_);
  }

 private:
  Term no() const { return c_.bool_val(false); }
  Term told_none() const { return c_.bv_val(0, 64); }
  static Term both(const Term& x, const Term& y) {
    return x.is_true() ? y : y.is_true() ? x : x.is_false() ? x : y.is_false() ? y : x && y;
  }
  static Term either(const Term& x, const Term& y) { return x.is_false() ? y : y.is_false() ? x : x || y; }
  static Term negated(const Term& x) {
    return x.is_false() ? x.ctx().bool_val(true) : x.is_true() ? x.ctx().bool_val(false) : !x;
  }
  static Term choice(const Term& when, const Term& then, const Term& otherwise) {
    return when.is_true() || z3::eq(then, otherwise) ? then
           : when.is_false()                         ? otherwise
                                                     : z3::ite(when, then, otherwise);
  }

  static SymbolicMemory choice(const Term& when, const SymbolicMemory& then,
                               const SymbolicMemory& otherwise) {
    SymbolicMemory out{
        choice(when, then.outside, otherwise.outside), choice(when, then.told, otherwise.told), {}};
    // An object that one side has made is there, and the other side says nothing of it.
    for (size_t k = 0; k < std::max(then.frames.size(), otherwise.frames.size()); ++k)
      out.frames.push_back(k >= then.frames.size() ? otherwise.frames[k]
                           : k >= otherwise.frames.size()
                               ? then.frames[k]
                               : choice(when, then.frames[k], otherwise.frames[k]));
    return out;
  }

  State joined(std::vector<State> all) const {
    State out = std::move(all.back());
    for (size_t k = all.size() - 1; k-- > 0;) {
      State& s = all[k];
      for (size_t v = 0; v < s.values.size(); ++v) {
        if (!s.values[v]) continue;
        if (!out.values[v]) {
          out.values[v] = s.values[v];
          continue;
        }
        if (s.values[v]->frame != out.values[v]->frame && !z3::eq(s.values[v]->bits, out.values[v]->bits))
          throw NotFollowed{"a pointer that leads to one object or another"};
        out.values[v] =
            SymbolicValue{choice(s.guard, s.values[v]->bits, out.values[v]->bits), out.values[v]->frame};
      }
      out.memory = choice(s.guard, s.memory, out.memory);
      out.guard = either(s.guard, out.guard);
    }
    return out;
  }

  SymbolicValue value(const State& s, Value v) const {
    if (!f_.is_constant(v)) {
      if (!s.values[v.index]) throw NotFollowed{"a value that is not there"};
      return *s.values[v.index];
    }
    const Type t = f_.type(v);
    Terms lanes;
    for (unsigned k = 0; k < t.lanes(); ++k) {
      const Bits w = f_.constant_word(v, k);
      Term low = a_.number(t.bits(), static_cast<uint64_t>(w));
      if (t.bits() > 64)
        low = z3::concat(c_.bv_val(static_cast<uint64_t>(w >> 64), t.bits() - 64),
                         c_.bv_val(static_cast<uint64_t>(w), 64));
      lanes.push_back(low);
    }
    return {a_.side_by_side(lanes)};
  }
  Term bits(const State& s, Value v) const {
    SymbolicValue out = value(s, v);
    if (out.frame >= 0) throw NotFollowed{"the address of a frame object as a number"};
    return out.bits;
  }

  void block(Block b, unsigned round, State s) {
    for (Instruction i : f_.instructions(b)) {
      if (++e_.steps_ > e_.limits_.most_steps)
        throw NotFollowed{fmt::format("more than {} operations", e_.limits_.most_steps)};
      if (std::chrono::steady_clock::now() > e_.limits_.end)
        throw NotFollowed{fmt::format("{} operations in the time that there is", e_.steps_)};
      if (info(f_.op(i)).ends_block()) return end(i, b, round, s);
      instruction(i, s);
    }
  }

  // ---- ends of blocks -------------------------------------------------------------------------------------

  void end(Instruction i, Block b, unsigned round, State& s) {
    switch (f_.op(i)) {
      case Op::Go: return go(f_.edge(i, 0), b, round, s, s.guard);
      case Op::When: {
        const Term yes = Algebra::is_true(bits(s, f_.operand(i, 0))).simplify();
        go(f_.edge(i, 0), b, round, s, both(s.guard, yes));
        return go(f_.edge(i, 1), b, round, s, both(s.guard, negated(yes)));
      }
      case Op::Choose: {
        const Term v = bits(s, f_.operand(i, 0));
        Term rest = s.guard;
        for (size_t k = 0; k + 1 < f_.edge_count(i); ++k) {
          if (f_.case_value(i, k) >> 64) throw NotFollowed{"a choice by wide numbers"};
          const Term is =
              (v == a_.number(Algebra::bits(v), static_cast<uint64_t>(f_.case_value(i, k)))).simplify();
          go(f_.edge(i, k), b, round, s, both(rest, is));
          rest = both(rest, negated(is));
        }
        return go(f_.edge(i, f_.edge_count(i) - 1), b, round, s, rest);
      }
      case Op::Trap: return trap(s, s.guard);
      case Op::Return: {
        Terms results;
        for (Value v : f_.operands(i)) results.push_back(bits(s, v));
        return leave(s, std::move(results));
      }
      case Op::ReturnCall: {
        std::vector<SymbolicValue> results = call(i, s);
        Terms terms;
        for (const SymbolicValue& v : results) terms.push_back(v.bits);
        return leave(s, std::move(terms));
      }
      default: throw NotFollowed{fmt::format("'{}'", write_text(module_, f_, i))};
    }
  }

  void go(Edge e, Block from, unsigned round, const State& s, const Term& guard) {
    if (guard.is_false()) return;
    const Block to = f_.to(e);
    const bool back = dominators_.dominates(to, from);
    if (back && round == e_.limits_.rounds) {
      out_.exceeds = either(out_.exceeds, guard);
      return;
    }
    State next{guard, s.memory, s.values};
    for (size_t k = 0; k < f_.argument_count(e); ++k)
      next.values[f_.parameters(to)[k].index] = value(s, f_.argument(e, k));
    coming_[(round + back) * dominators_.order().size() + place_->get(to)].push_back(std::move(next));
  }

  void trap(State& s, const Term& when) {
    out_.told_at_trap = choice(when, s.memory.told, out_.told_at_trap);
    out_.traps = either(out_.traps, when);
  }

  void leave(const State& s, Terms results) {
    if (!std::exchange(has_left_, true)) {
      out_.results = std::move(results);
      out_.memory = s.memory;
      return;
    }
    for (size_t k = 0; k < results.size(); ++k)
      out_.results[k] = choice(s.guard, results[k], out_.results[k]);
    out_.memory = choice(s.guard, s.memory, out_.memory);
  }

  // ---- instructions ---------------------------------------------------------------------------------------

  void instruction(Instruction i, State& s) {
    const OperationInfo& row = info(f_.op(i));
    switch (row.layout) {
      case Layout::Watch:
      case Layout::Here:
      case Layout::End:
      case Layout::Release: return;
      case Layout::Load: return load(i, s);
      case Layout::Store: return store(i, s);
      case Layout::At: return give(i, s, {address(i, s, 0, f_.address(i))});
      case Layout::Reserve: return reserve(i, s);
      case Layout::AddressOf: return give(i, s, {{address_of(c_, module_, f_.symbol(i))}});
      case Layout::Sole: return give(i, s, {value(s, f_.operand(i, 0))});
      case Layout::Copy:
      case Layout::Fill: return spans(i, s);
      case Layout::Call: return give(i, s, call(i, s));
      case Layout::Carry:
      case Layout::Pair: return pair(i, s);
      default: return plain(i, s);
    }
  }
  void give(Instruction i, State& s, const std::vector<SymbolicValue>& results) {
    for (size_t k = 0; k < results.size(); ++k) s.values[f_.result(i, k).index] = results[k];
  }

  void pair(Instruction i, State& s) {
    if (f_.type(f_.operand(i, 0)).has_lanes() || f_.promises(i)) throw NotFollowed{"two results in lanes"};
    Terms in;
    for (Value v : f_.operands(i)) in.push_back(bits(s, v));
    const Terms both_results = a_.two(f_.op(i), in);
    give(i, s, {{both_results[0]}, {both_results[1]}});
  }

  void plain(Instruction i, State& s) {
    const Op op = f_.op(i);
    const Type result = f_.type(f_.result(i));
    // Of pointers into one object the offsets are compared; what else is done with them is not followed.
    if (op == Op::Pick && result.is_pointer()) return pick_pointer(i, s);
    Terms in;
    std::vector<Type> types;
    for (Value v : f_.operands(i)) types.push_back(f_.type(v)), in.push_back(bits(s, v));
    if (f_.permits(i) || (module_[symbol_].facts.permits && (result.is_float() || types[0].is_float())))
      throw NotFollowed{"operations that permit other results"};
    if (f_.promises(i)) broken(i, s, types, in);
    if (info(op).layout == Layout::Shuffle) {
      std::vector<uint16_t> lanes;
      for (unsigned k = 0; k < result.lanes(); ++k) lanes.push_back(f_.shuffle_lane(i, k));
      return give(i, s, {{a_.shuffled(in[0], in[1], types[0], lanes)}});
    }
    Term traps = no();
    auto out = a_.apply(op, types, result, in, traps);
    if (!out) throw NotFollowed{fmt::format("'{}'", info(op).name)};
    traps = traps.simplify();
    if (!traps.is_false()) {
      trap(s, both(s.guard, traps));
      s.guard = both(s.guard, negated(traps));
    }
    give(i, s, {{out->simplify()}});
  }

  void pick_pointer(Instruction i, State& s) {
    const Term yes = Algebra::is_true(bits(s, f_.operand(i, 0)));
    const SymbolicValue one = value(s, f_.operand(i, 1)), two = value(s, f_.operand(i, 2));
    if (one.frame != two.frame) throw NotFollowed{"a pointer that leads to one object or another"};
    give(i, s, {{choice(yes, one.bits, two.bits), one.frame}});
  }

  void broken(Instruction i, State& s, const std::vector<Type>& types, const Terms& in) {
    Term kept = c_.bool_val(true);
    const unsigned to = f_.type(f_.result(i)).bits();
    if (info(f_.op(i)).layout == Layout::Lane || info(f_.op(i)).layout == Layout::Put) {
      kept = z3::ult(in[1], a_.number(Algebra::bits(in[1]), types[0].lanes()));
    } else {
      for (unsigned lane = 0; lane < types[0].lanes(); ++lane) {
        std::vector<Term> v;
        for (size_t k = 0; k < in.size(); ++k) v.push_back(Algebra::lane_of(in[k], lane, types[k].bits()));
        kept = both(kept, promises_.kept(f_.op(i), f_.promises(i), v, to));
      }
    }
    out_.breaks = either(out_.breaks, both(s.guard, negated(kept.simplify())));
  }

  // ---- memory ---------------------------------------------------------------------------------------------

  Term index_term(const State& s, Value v) const { return Algebra::sign_extend(bits(s, v), 64); }
  SymbolicValue address(Instruction i, const State& s, size_t first, const Address& a) const {
    SymbolicValue out = value(s, f_.operand(i, first));
    if (Algebra::bits(out.bits) != 64) throw NotFollowed{"pointers of 32 bits"};
    if (a.indexed)
      out.bits =
          out.bits + index_term(s, f_.operand(i, first + 1)) * a_.number(64, static_cast<uint64_t>(a.scale));
    if (a.offset) out.bits = out.bits + a_.number(64, static_cast<uint64_t>(a.offset));
    out.bits = out.bits.simplify();
    return out;
  }
  static Term& part(SymbolicMemory& m, int frame) {
    return frame < 0 ? m.outside : m.frames[static_cast<size_t>(frame)];
  }

  bool high_first() const { return module_.layout.order == ByteOrder::Big; }
  // A number of so many bytes.
  Term read(const Term& memory, const Term& at, unsigned bytes) const {
    Term out = z3::select(memory, at);
    for (unsigned k = 1; k < bytes; ++k) {
      const Term next = z3::select(memory, at + a_.number(64, k));
      out = high_first() ? z3::concat(out, next) : z3::concat(next, out);
    }
    return out;
  }
  Term written(Term memory, const Term& at, const Term& bits_of, unsigned bytes) const {
    const Term whole = Algebra::zero_extend(bits_of, 8 * bytes);
    for (unsigned k = 0; k < bytes; ++k) {
      const unsigned from = 8 * (high_first() ? bytes - 1 - k : k);
      memory = z3::store(memory, at + a_.number(64, k), whole.extract(from + 7, from));
    }
    return memory;
  }
  // What is accessed one after the other: lanes, each with its own bytes; lanes of bools share theirs.
  static unsigned parts_of(Type t) { return t.is_bool() ? 1 : t.lanes(); }
  static unsigned part_bytes(Type t) { return t.is_bool() ? t.bytes() : t.element_bytes(); }
  Term behind(const Term& at, uint64_t bytes) const { return at + a_.number(64, bytes); }

  void load(Instruction i, State& s) {
    const Address& a = f_.address(i);
    const Type t = f_.type(f_.result(i));
    const SymbolicValue at = address(i, s, 0, a);
    const unsigned width = t.is_bool() ? t.total_bits() : t.bits(), each = part_bytes(t);
    Term& memory = part(s.memory, at.frame);
    Terms lanes;
    for (unsigned k = 0; k < parts_of(t); ++k) {
      Term v = Algebra::zero_extend(read(memory, behind(at.bits, k * each), each), width);
      if (a.masked) {
        const Term mask = bits(s, f_.operand(i, a.operand_count()));
        const Term others = bits(s, f_.operand(i, a.operand_count() + 1));
        v = choice(Algebra::is_true(mask.extract(k, k)), v, Algebra::lane_of(others, k, width));
      }
      lanes.push_back(v);
    }
    if (a.is_volatile) lanes = {seen_outside(s, "read", at, a_.side_by_side(lanes), true)};
    give(i, s, {{a_.side_by_side(lanes)}});
  }

  void store(Instruction i, State& s) {
    const Address& a = f_.address(i);
    const Type t = f_.type(f_.operand(i, 0));
    const Term v = bits(s, f_.operand(i, 0));
    const SymbolicValue at = address(i, s, 1, a);
    const unsigned width = t.is_bool() ? t.total_bits() : t.bits(), each = part_bytes(t);
    Term& memory = part(s.memory, at.frame);
    for (unsigned k = 0; k < parts_of(t); ++k) {
      const Term place = behind(at.bits, k * each);
      Term lane = Algebra::zero_extend(parts_of(t) > 1 ? Algebra::lane_of(v, k, width) : v, 8 * each);
      if (a.masked) {
        const Term mask = bits(s, f_.operand(i, 1 + a.operand_count()));
        lane = choice(Algebra::is_true(mask.extract(k, k)), lane, read(memory, place, each));
      }
      memory = written(memory, place, lane, each);
    }
    if (a.is_volatile) seen_outside(s, "write", at, v, false);
  }

  // Volatile accesses are told in their order, like calls; what one reads is anybody's.
  Term seen_outside(State& s, const char* what, const SymbolicValue& at, const Term& v, bool reads) {
    if (at.frame >= 0) throw NotFollowed{"volatile accesses of frame objects"};
    auto ask = [&](const std::string& name, const z3::sort& sort) {
      z3::sort_vector domain(c_);
      z3::expr_vector given(c_);
      for (const Term& t : {s.memory.told, at.bits, v}) domain.push_back(t.get_sort()), given.push_back(t);
      return c_.function(name.c_str(), domain, sort)(given);
    };
    const std::string name = fmt::format("volatile {} of {}", what, Algebra::bits(v));
    const Term out = reads ? ask("value of " + name, v.get_sort()) : v;
    s.memory.told = ask(name, c_.bv_sort(64));
    return out;
  }

  void reserve(Instruction i, State& s) {
    z3::sort sort = c_.array_sort(c_.bv_sort(64), c_.bv_sort(8));
    s.memory.frames.push_back(
        c_.constant(fmt::format("frame {} {} {}", symbol_.index, i.index, e_.steps_).c_str(), sort));
    give(i, s, {{a_.number(64, 0), static_cast<int>(s.memory.frames.size() - 1)}});
  }

  void spans(Instruction i, State& s) {
    constexpr uint64_t most = 64;  // that are written one by one
    const bool fills = f_.op(i) == Op::Fill;
    const Value count = f_.operand(i, f_.operand_count(i) - 1);
    const Address to = fills ? f_.address(i) : f_.copy_shape(i).to;
    const Address from = fills ? Address() : f_.copy_shape(i).from;
    if (to.is_volatile || from.is_volatile) throw NotFollowed{"volatile copies and fills"};
    const SymbolicValue at = address(i, s, fills ? 1 : 0, to);
    const SymbolicValue source = fills ? SymbolicValue{at.bits} : address(i, s, to.operand_count(), from);
    const Term was = fills ? Term(c_) : part(s.memory, source.frame);
    // Byte k of what is written, k being a number or not.
    auto byte = [&](const Term& k) {
      return fills ? bits(s, f_.operand(i, 0)) : z3::select(was, source.bits + k);
    };
    Term& memory = part(s.memory, at.frame);
    if (f_.is_constant(count) && f_.constant_bits(count) <= most) {
      for (uint64_t k = 0; k < static_cast<uint64_t>(f_.constant_bits(count)); ++k)
        memory = z3::store(memory, behind(at.bits, k), byte(a_.number(64, k)));
      return;
    }
    // Memory as a function of the place.
    const Term x = c_.bv_const("place", 64), k = x - at.bits;
    const Term n = Algebra::zero_extend(bits(s, count), 64);
    memory = z3::lambda(x, z3::ite(z3::ult(k, n), byte(k), z3::select(memory, x)));
  }

  // ---- calls ----------------------------------------------------------------------------------------------

  std::vector<SymbolicValue> call(Instruction i, State& s) {
    const Symbol to = f_.symbol(i);
    std::vector<SymbolicValue> arguments;
    for (Value v : f_.operands(i)) arguments.push_back(value(s, v));
    if (!module_.is_function(to)) return outside(to, arguments, s);
    if (depth_ + 1 >= deepest_calls) {  // runs that go deeper are left out, like those of many rounds
      out_.exceeds = either(out_.exceeds, s.guard);
      s.guard = no();
      std::vector<SymbolicValue> none;
      for (Type t : module_.signature(to)->results) none.push_back({a_.number(t.total_bits(), 0)});
      return none;
    }
    SymbolicOutcome inner = e_.run(to, arguments, s.memory, s.guard, depth_ + 1);
    out_.breaks = either(out_.breaks, inner.breaks);
    out_.exceeds = either(out_.exceeds, inner.exceeds);
    if (!inner.traps.is_false()) {
      out_.told_at_trap = choice(inner.traps, inner.told_at_trap, out_.told_at_trap);
      out_.traps = either(out_.traps, inner.traps);
      s.guard = both(s.guard, negated(inner.traps));
    }
    s.memory = inner.memory;
    std::vector<SymbolicValue> out;
    for (const Term& t : inner.results) out.push_back({t});
    if (out.size() < module_.signature(to)->results.size())  // it never returns
      for (Type t : module_.signature(to)->results) out.push_back({a_.number(t.total_bits(), 0)});
    return out;
  }

  // A function of which nothing is known but that it does the same when it finds the same.
  std::vector<SymbolicValue> outside(Symbol to, const std::vector<SymbolicValue>& arguments, State& s) {
    const SymbolRow& row = module_[to];
    const std::string name(module_.symbol_name(to));
    Terms in = {};
    for (const SymbolicValue& v : arguments) {
      if (v.frame >= 0) throw NotFollowed{"a frame object's address that goes outside"};
      in.push_back(v.bits);
    }
    const bool pure = row.facts.outside & outside::pure;
    if (!pure) in.push_back(s.memory.told), in.push_back(s.memory.outside);
    auto ask = [&](const std::string& what, const z3::sort& sort) {
      z3::sort_vector domain(c_);
      z3::expr_vector given(c_);
      for (const Term& t : in) domain.push_back(t.get_sort()), given.push_back(t);
      return c_.function((what + " of " + name).c_str(), domain, sort)(given);
    };
    std::vector<SymbolicValue> out;
    const auto& results = row.signature->results;
    for (size_t k = 0; k < results.size(); ++k)
      out.push_back({in.empty()
                         ? c_.bv_const((std::to_string(k) + " of " + name).c_str(), results[k].total_bits())
                         : ask(std::to_string(k), c_.bv_sort(results[k].total_bits()))});
    if (pure) return out;
    if (!(row.facts.outside & outside::returns)) {
      const Term traps = ask("trap", c_.bool_sort());
      trap(s, both(s.guard, traps));
      s.guard = both(s.guard, negated(traps));
    }
    const Term told = ask("told", c_.bv_sort(64)), left = ask("left", s.memory.outside.get_sort());
    s.memory.told = told;
    if (!(row.facts.outside & outside::writes_nothing)) s.memory.outside = left;
    return out;
  }

  Executor& e_;
  Algebra& a_;
  z3::context& c_;
  const Module& module_;
  Symbol symbol_;
  const Function& f_;
  unsigned depth_;
  Dominators dominators_;
  Promises promises_;
  SymbolicOutcome out_;
  bool has_left_ = false;
  const SideTable<Block, uint32_t>* place_ = nullptr;
  std::vector<std::vector<State>> coming_;  // by round and place in the order
};

SymbolicOutcome Executor::run(Symbol symbol, const std::vector<SymbolicValue>& arguments,
                              const SymbolicMemory& memory, const Term& guard, unsigned depth) {
  return Body(*this, symbol, depth).run(arguments, memory, guard);
}

}  // namespace

Term address_of(z3::context& c, const Module& module, Symbol s) {
  return c.bv_const(fmt::format("address of {}", module.symbol_name(s)).c_str(), 64);
}

SymbolicOutcome execute(Algebra& algebra, z3::context& context, const Module& module, Symbol function,
                        const std::vector<SymbolicValue>& arguments, const SymbolicMemory& memory,
                        const ExecutorLimits& limits) {
  return Executor(algebra, context, module, limits)
      .run(function, arguments, memory, context.bool_val(true), 0);
}

}  // namespace porphyry::prove
