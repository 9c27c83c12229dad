// inline: a function's body in place of a call, where it costs no more than what that is worth. Functions are
// done callees first, so that what is weighed is a body that all passes have been through. A call's budget is
// the sum of parts with names: what the call itself takes, constants that arrive and what uses them, the
// depth of loops around it, a hint, accesses of the caller's slots, and that no other call is left. A small
// function that calls itself takes its own body in place, three times at most. O(instructions), and what is
// copied, which bounds on the caller's and the module's growth limit.
#include <fmt/format.h>

#include "porphyry/analyze/call_sites.h"
#include "porphyry/analyze/effects.h"
#include "porphyry/analyze/frequency.h"
#include "porphyry/ir/splice.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr unsigned most_of_caller = 5000;    // instructions, unless it had more
constexpr unsigned most_of_recursion = 160;  // instructions, with calls of itself in place
constexpr unsigned most_levels = 3;          // of recursion that are put in place
constexpr unsigned most_of_module = 2000;    // and half of what it had

// How much the module may still grow. One for all functions, which the pass goes through one by one.
struct Growth {
  explicit Growth(const Module& module) : left(most_of_module) {
    for (Symbol s : module.functions()) left += size_of(module.function(s)) / 2;
  }
  static size_t size_of(const Function& f) {
    size_t n = 0;
    for (Block b : f.blocks()) n += f.instructions(b).count();
    return n;
  }
  mutable size_t left;
};

constexpr unsigned worth_of_hint = 100;

struct Part {
  const char* name;
  unsigned worth;
};

class Inliner {
 public:
  explicit Inliner(FunctionContext& c)
      : c_(c),
        f_(c.function),
        effects_(c.in_module.get<CallEffects>()),
        sites_(c.in_module.get<CallSites>()),
        growth_(c.in_module.get<Growth>()) {}

  void run() {
    std::vector<Instruction> calls;
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b))
        if (info(f_.op(i)).layout == Layout::Call && is_known(i)) calls.push_back(i);
    if (calls.empty()) return;
    const Dominators& dominators = c_.facts.get<Dominators>();
    const Loops& loops = c_.facts.get<Loops>();
    Frequencies frequencies(f_, dominators, loops);
    size_ = Growth::size_of(f_);
    most_ = std::max<size_t>(most_of_caller, size_);
    // All is decided before anything moves: what is known of blocks holds until then.
    std::vector<Instruction> chosen;
    for (Instruction i : calls)
      if (f_.symbol(i) != c_.symbol && dominators.reachable(f_.block(i)) && decide(i, loops, frequencies))
        chosen.push_back(i);
    for (Instruction i : chosen) splice_call(c_.module, c_.symbol, i);
    for (unsigned level = 0; level < most_levels && unfold(); ++level) {
    }
    calls_of_itself_stay();
  }

 private:
  // A function that calls itself takes its own body in place of these calls, once: then it does the work of
  // several calls in one. False where it does not call itself, or is too large for that.
  bool unfold() {
    const FunctionFacts& facts = c_.module[c_.symbol].facts;
    if (facts.inlining == Inlining::Never || facts.keep_small || c_.module[c_.symbol].is_weak) return false;
    std::vector<Instruction> own;
    size_t size = 0;
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b)) {
        ++size;
        if (f_.op(i) == Op::Call && f_.symbol(i) == c_.symbol) own.push_back(i);
        if (f_.op(i) == Op::Reserve ||
            (info(f_.op(i)).calls() && (f_.op(i) != Op::Call || f_.symbol(i) != c_.symbol)))
          return false;
      }
    if (own.empty() || size * (own.size() + 1) > most_of_recursion) return false;
    spread_permits(c_.module, c_.symbol);
    const Function body = f_;
    for (Instruction i : own) {
      if (c_.wants_notes())
        c_.done(f_.position(i), name(i), "the function's own body was put in place of a call of itself",
                "it is small, and does the work of several calls then",
                {{"instructions", std::to_string(size)}, {"most", std::to_string(most_of_recursion)}});
      splice_call(c_.module, c_.symbol, i, body);
    }
    return true;
  }

  void calls_of_itself_stay() {
    if (!c_.wants_notes()) return;
    for (Block b : f_.blocks())
      for (Instruction i : f_.instructions(b))
        if (f_.op(i) == Op::Call && f_.symbol(i) == c_.symbol)
          declined(i, "it is the function itself", "a call in last place, which becomes a jump", {}, 0, 0);
  }

  bool is_known(Instruction i) const {
    Symbol s = f_.symbol(i);
    return s.index < effects_.symbol_count() && c_.module.is_function(s);
  }

  bool decide(Instruction i, const Loops& loops, const Frequencies& frequencies) {
    const Symbol s = f_.symbol(i);
    const Function& callee = c_.module.function(s);
    if (auto no = refusal(i)) return declined(i, no->why, no->unlock, {}, 0, 0);
    unsigned cost = cost_of(callee);
    std::vector<Part> parts = budget(i, loops, frequencies);
    const unsigned sum = sum_of(parts);
    if (cost > sum)
      return declined(i, "its body costs more than it is worth", unlock_for(i, cost, sum, loops, frequencies),
                      parts, cost, sum);
    if (size_ + cost > most_)
      return declined(i, "the caller would grow too much", "a smaller caller", parts, cost, sum);
    const bool last = is_last(s);
    if (!last && cost > growth_.left)
      return declined(i, "the module would grow too much", "a smaller module", parts, cost, sum);
    size_ += cost;
    if (!last) growth_.left -= cost;
    if (c_.wants_notes())
      c_.done(f_.position(i), name(i), fmt::format("the call of '{}' was inlined", c_.module.symbol_name(s)),
              "its body costs no more than it is worth", figures(parts, cost, sum));
    return true;
  }
  // What would have made the budget do.
  std::string unlock_for(Instruction i, unsigned cost, unsigned sum, const Loops& loops,
                         const Frequencies& frequencies) const {
    const bool small = c_.keeps_small(), unlikely = frequencies.unlikely(f_.block(i));
    const unsigned whole = small || unlikely ? sum_of(whole_budget(i, loops)) : sum;
    const bool hint_does =
        c_.module[f_.symbol(i)].facts.inlining == Inlining::Free && cost <= whole + worth_of_hint;
    std::string out;
    if (small != unlikely && cost <= whole)
      out = small ? "a caller that is not to be kept small, or "
                  : "a call that is more than next to never made, or ";
    else if (!small && !unlikely && hint_does)
      out = "'prefer inline', or ";
    return out + fmt::format("a body that costs at most {}", sum);
  }

  struct Refusal {
    const char *why, *unlock;
  };
  std::optional<Refusal> refusal(Instruction i) const {
    const Symbol s = f_.symbol(i);
    const SymbolRow& row = c_.module[s];
    if (row.facts.inlining == Inlining::Never)
      return Refusal{"it is said never to be inlined", "no 'never inline'"};
    if (row.is_weak) return Refusal{"another definition may take its place", "a definition that is not weak"};
    if (!c_.module.function(s).entry().exists()) return Refusal{"it has no body", "a body"};
    if (calls_ring(s))
      return Refusal{effects_.in_one_ring(s, c_.symbol) ? "the functions call each other" : "it calls itself",
                     "recursion in last place, which becomes a loop"};
    for (size_t k = 0; k < f_.operand_count(i); ++k)
      if ((row.facts.marks_of(k) & mark::secret) && !known_as_secret(f_.operand(i, k)))
        return Refusal{"a parameter's mark 'secret' would be lost", "a caller whose own parameters say so"};
    return std::nullopt;
  }
  // Whether the caller's own marks say of a value that it is secret: it is computed from one of its secrets.
  // A constant stands in the code for all to see.
  bool known_as_secret(Value v) const {
    constexpr size_t most_looked_at = 64;
    std::vector<Value> of = {v};
    if (f_.is_constant(v)) return true;
    for (size_t k = 0; k < of.size() && of.size() < most_looked_at; ++k) {
      if (f_.kind(of[k]) == ValueKind::Parameter &&
          (c_.module[c_.symbol].facts.marks_of(f_.result_index(of[k])) & mark::secret) &&
          f_.type(of[k]).is_pointer() == f_.type(v).is_pointer())
        return true;
      const Instruction i = f_.definition(of[k]);
      if (!i.exists()) continue;
      if (f_.op(i) == Op::At)
        of.push_back(f_.operand(i, 0));
      else if (info(f_.op(i)).is_plain() && !f_.type(v).is_pointer())
        for (Value x : f_.operands(i)) of.push_back(x);
    }
    return false;
  }
  // Whether a function calls itself, maybe by way of others. Calls in last place may have become jumps.
  bool calls_ring(Symbol s) const {
    if (!effects_.in_one_ring(s, s)) return false;
    const Function& f = c_.module.function(s);
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b))
        if (info(f.op(i)).layout == Layout::Call && f.symbol(i).index < effects_.symbol_count() &&
            effects_.in_one_ring(s, f.symbol(i)))
          return true;
    return false;
  }
  // Whether the function goes when this call does.
  bool is_last(Symbol s) const { return sites_.all_seen(c_.module, s) && sites_.calls_of(s) == 1; }

  // In plain instructions, about.
  static unsigned cost_of(const Function& f) {
    unsigned out = 0;
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        const OperationInfo& row = info(f.op(i));
        if (row.calls())
          out += 3 + static_cast<unsigned>(f.operand_count(i));
        else if (!row.marks() && f.op(i) != Op::Go && f.op(i) != Op::Return)
          out += 1;
      }
    return out;
  }

  static unsigned sum_of(std::span<const Part> parts) {
    unsigned out = 0;
    for (const Part& p : parts) out += p.worth;
    return out;
  }
  std::vector<Part> budget(Instruction i, const Loops& loops, const Frequencies& frequencies) const {
    std::vector<Part> out = whole_budget(i, loops);
    // Where it is next to never called, or code is to stay small, only what makes it smaller.
    if (frequencies.unlikely(f_.block(i)) || c_.keeps_small()) out.resize(1);
    return out;
  }
  std::vector<Part> whole_budget(Instruction i, const Loops& loops) const {
    const Symbol s = f_.symbol(i);
    const FunctionFacts& facts = c_.module[s].facts;
    std::vector<Part> out;
    out.push_back({"the call", 2 + static_cast<unsigned>(f_.operand_count(i) + f_.result_count(i))});
    out.push_back({"any", 16});
    out.push_back({"constants", constants(i)});
    out.push_back({"slots", slots(i)});
    out.push_back({"loops", 12 * std::min(loops.depth(f_.block(i)), 3u)});
    out.push_back({"hint", facts.inlining == Inlining::Prefer ? worth_of_hint : 0u});
    out.push_back({"last call", is_last(s) ? 300u : 0u});
    return out;
  }
  // What constant arguments decide.
  unsigned constants(Instruction i) const {
    const Function& callee = c_.module.function(f_.symbol(i));
    unsigned out = 0;
    for (size_t k = 0; k < callee.parameters().size(); ++k) {
      if (!f_.is_constant(f_.operand(i, k))) continue;
      unsigned looked = 0;
      for (Slot u : callee.uses(callee.parameters()[k])) {
        if (looked++ == 8) break;
        auto use = callee.use(u);
        const OperationInfo& row = info(callee.op(use.user));
        out += row.result == ResultRule::Truth || (row.ends_block() && !use.edge.exists()) ? 8 : 2;
      }
    }
    return std::min(out, 60u);
  }

  // Accesses of the caller's own slots, which may become values once they are seen.
  unsigned slots(Instruction i) const {
    const Function& callee = c_.module.function(f_.symbol(i));
    unsigned out = 0;
    for (size_t k = 0; k < callee.parameters().size(); ++k) {
      Instruction d = f_.definition(f_.operand(i, k));
      if (!d.exists() || f_.op(d) != Op::Reserve) continue;
      unsigned looked = 0;
      for (Slot u : callee.uses(callee.parameters()[k])) {
        if (looked++ == 16) break;
        Op op = callee.op(callee.use(u).user);
        if (op == Op::Load || op == Op::Store) out += 3;
      }
    }
    return std::min(out, 60u);
  }

  std::string name(Instruction i) const { return f_.result_count(i) ? c_.name(f_.result(i)) : ""; }
  using Figures = std::vector<std::pair<std::string, std::string>>;
  static Figures figures(std::span<const Part> parts, unsigned cost, unsigned sum) {
    Figures out{{"cost", std::to_string(cost)}, {"budget", std::to_string(sum)}};
    for (const Part& p : parts)
      if (p.worth) out.push_back({std::string("for ") + p.name, std::to_string(p.worth)});
    return out;
  }
  bool declined(Instruction i, const char* why, const std::string& unlock, std::span<const Part> parts,
                unsigned cost, unsigned sum) {
    if (c_.wants_notes())
      c_.declined(f_.position(i), name(i),
                  fmt::format("the call of '{}' stays", c_.module.symbol_name(f_.symbol(i))), why, unlock,
                  parts.empty() ? Figures() : figures(parts, cost, sum));
    return false;
  }

  FunctionContext& c_;
  Function& f_;
  const CallEffects& effects_;
  const CallSites& sites_;
  const Growth& growth_;
  size_t size_ = 0, most_ = 0;  // of the caller
};

}  // namespace

void inline_(FunctionContext& c) { Inliner(c).run(); }

}  // namespace porphyry
