// Idea: each kind of leftover is a question about one place, asked of every instruction or loop; what a pass
// has said of the place becomes the reason, so that figures and unlock are those of the decision itself.
#include <fmt/format.h>

#include <algorithm>

#include "porphyry/analyze/facts.h"
#include "porphyry/analyze/frequency.h"
#include "porphyry/analyze/unread.h"
#include "porphyry/ask/why.h"
#include "porphyry/print/function_texts.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

bool divides(Op op) {
  return op == Op::DivS || op == Op::DivU || op == Op::RemS || op == Op::RemU || op == Op::Div ||
         op == Op::Rem;
}

class Finder {
 public:
  Finder(const Module& module, Symbol symbol, const Notes& notes, const std::vector<std::string>& ran,
         Notes& out)
      : module_(module),
        f_(module.function(symbol)),
        name_(module.symbol_name(symbol)),
        notes_(notes),
        ran_(ran),
        out_(out),
        dominators_(f_),
        loops_(f_, dominators_),
        frequencies_(f_, dominators_, loops_),
        texts_(module, f_) {}

  void run() {
    for (Block b : dominators_.order()) {
      for (Instruction i : f_.instructions(b)) {
        branch(i);
        call(i);
        division(i);
        invariant(i);
        unread(i);
      }
      if (loops_.is_header(b)) counters(b);
    }
  }

 private:
  // Leaves a note; what a pass said of the same value, when it is there, says why.
  void leave(Instruction at, std::string value, std::string what, std::string why, std::string unlock,
             std::string_view pass) {
    Note n{.kind = Note::Kind::Left,
           .pass = std::string(pass),
           .function = name_,
           .position = place_text(module_, f_.position(at)),
           .value = std::move(value),
           .what = std::move(what),
           .why = std::move(why),
           .unlock = std::move(unlock)};
    const Block b = f_.block(at);
    n.figures.emplace_back("operation", texts_.instruction(at));
    if (unsigned depth = loops_.depth(b)) n.figures.emplace_back("loops around it", std::to_string(depth));
    n.figures.emplace_back("runs", fmt::format("{:.3g}", frequencies_.of(b)));
    if (const Note* said = said_of(n)) {
      n.why = said->why;
      n.unlock = said->unlock;
      n.figures.insert(n.figures.end(), said->figures.begin(), said->figures.end());
    }
    out_.push_back(std::move(n));
  }
  // The last refusal of a pass about a value; of a call, about another one of the same function, as calls
  // that come in with bodies are like the ones that stay there.
  const Note* said_of(const Note& n) const {
    for (size_t k = notes_.size(); k-- > 0;) {
      const Note& o = notes_[k];
      if (o.pass != n.pass || o.function != n.function) continue;
      if (!o.value.empty() && o.value == n.value) return &o;
      // "a call of 'F', …" and "the call of 'F' stays"
      if (n.pass == "inline" && o.what.find(n.what.substr(2, n.what.find(',') - 2)) != o.what.npos) return &o;
    }
    return nullptr;
  }
  // What a pass of this name that left no word of it has to do with it.
  struct Missed {
    std::string why, unlock;
  };
  Missed missed(const std::string& pass) const {
    const bool ran = std::find(ran_.begin(), ran_.end(), pass) != ran_.end();
    return ran ? Missed{fmt::format("the pass '{}' ran before it stood here like this", pass),
                        fmt::format("'{}' once more, at the end", pass)}
               : Missed{fmt::format("the pass '{}' did not run", pass),
                        fmt::format("'{}' in the pipeline, at its end", pass)};
  }
  std::string name(Value v) const { return texts_.value(v); }
  std::string name(Instruction i) const {
    return f_.result_count(i) ? name(f_.result(i)) : std::string(info(f_.op(i)).name);
  }

  void branch(Instruction i) {
    if (f_.op(i) != Op::When && f_.op(i) != Op::Choose) return;
    Value condition = f_.operand(i, 0);
    if (f_.is_constant(condition)) {
      const auto [why, unlock] = missed("fold");
      leave(i, name(condition), "a branch on a known constant", why, unlock, "fold");
      return;
    }
    if (f_.op(i) != Op::When) return;
    for (size_t way = 0; way < 2; ++way) {
      Block to = f_.to(f_.edge(i, way));
      Instruction first = f_.first(to);
      while (first.exists() && info(f_.op(first)).marks()) first = f_.next(first);
      if (f_.op(first) != Op::Trap) continue;
      Instruction made = f_.definition(condition);
      leave(i, name(condition), "a check in front of a trap",
            "nothing that is known of its operands decides it",
            fmt::format("a fact by which '{}' is always {}",
                        made.exists() ? texts_.instruction(made) : name(condition), way ? "true" : "false"),
            "checks");
      return;
    }
  }

  void call(Instruction i) {
    if (f_.op(i) != Op::Call || !module_.is_function(f_.symbol(i))) return;  // those in last place are jumps
    const std::string callee(module_.symbol_name(f_.symbol(i)));
    const auto [why, unlock] = missed("inline");
    leave(i, name(i), fmt::format("a call of '{}', whose body is known", callee), why, unlock, "inline");
  }

  void division(Instruction i) {
    if (!divides(f_.op(i)) || loops_.depth(f_.block(i)) == 0) return;
    Value by = f_.operand(i, 1);
    const bool known = f_.is_constant(by), is_float = f_.type(by).is_float();
    auto [why, unlock] = known && !is_float ? missed("divide")
                         : is_float ? Missed{"a product with one over the divisor would be rounded otherwise",
                                             "a product instead, where that is exact enough"}
                                    : Missed{"its divisor is not a constant", "a divisor that is a constant"};
    leave(i, name(i), "a division in a loop", why, unlock, "divide");
  }

  // Computed anew in each round from what stays the same.
  void invariant(Instruction i) {
    const Block b = f_.block(i), header = loops_.header(b);
    if (!header.exists() || f_.result_count(i) == 0 || info(f_.op(i)).ends_block()) return;
    const Op op = f_.op(i);
    const bool plain = info(op).is_plain() || op == Op::Load;
    if (!plain || op == Op::AddressOf || f_.operand_count(i) == 0) return;
    for (Value v : f_.operands(i))
      if (!f_.is_constant(v) && loops_.contains(header, f_.defining_block(v))) return;
    if (info(op).result == ResultRule::Truth) return;  // they stay beside their branches, at no cost
    const bool traps = f_.has_effect(i);
    auto [why, unlock] =
        op == Op::Load ? Missed{"its bytes may be written in the loop, or not every round comes to it first",
                                "a loop that writes nothing there, and comes to it before any branch"}
        : traps
            ? Missed{"it may trap, and a round may end before it", "a divisor that is shown not to be zero"}
            : missed("hoist");
    leave(i, name(i), "the same in every round of a loop", std::move(why), std::move(unlock), "hoist");
  }

  // Memory of the frame, or of the module alone, that is written and never read.
  void unread(Instruction i) {
    if (f_.op(i) != Op::Reserve) return;
    const auto stores = stores_never_read(f_, i);
    if (!stores) return;
    const auto [why, unlock] = missed("forward");
    for (Instruction store : *stores)
      leave(store, name(f_.result(i)), "a store that nothing reads", why, unlock, "forward");
  }

  // Parameters of a loop that move on by the same number in each round.
  void counters(Block head) {
    struct Counter {
      Value value;
      Type type;
      Bits step;
    };
    std::vector<Counter> known;
    const auto parameters = f_.parameters(head);
    for (size_t k = 0; k < parameters.size(); ++k) {
      std::optional<Bits> step = step_of(head, k);
      if (!step) continue;
      const Type t = f_.type(parameters[k]);
      const auto [why, unlock] = missed("step");
      for (const Counter& c : known)
        if (c.type == t && c.step == *step) {
          leave(f_.first(head), name(parameters[k]),
                fmt::format("a counter that moves on as {} does", name(c.value)), why, unlock, "step");
          break;
        }
      known.push_back({parameters[k], t, *step});
    }
  }
  std::optional<Bits> step_of(Block head, size_t k) const {
    const Value p = f_.parameters(head)[k];
    std::optional<Bits> out;
    for (Edge e : f_.edges_into(head)) {
      if (!loops_.contains(head, f_.from(e))) continue;
      Instruction next = f_.definition(f_.argument(e, k));
      if (out || !next.exists() || f_.op(next) != Op::Add || !f_.type(p).is_integer() ||
          f_.type(p).has_lanes())
        return std::nullopt;
      Value a = f_.operand(next, 0), b = f_.operand(next, 1);
      if (a != p) std::swap(a, b);
      if (a != p || !f_.is_constant(b)) return std::nullopt;
      out = f_.constant_word(b);
    }
    return out;
  }

  const Module& module_;
  const Function& f_;
  std::string name_;
  const Notes& notes_;
  const std::vector<std::string>& ran_;
  Notes& out_;
  Dominators dominators_;
  Loops loops_;
  Frequencies frequencies_;
  FunctionTexts texts_;
};

}  // namespace

Notes leftovers(const Module& module, const Notes& notes, const std::vector<std::string>& ran) {
  // Only refusals are asked for, and only those of the function at hand.
  std::vector<Notes> refusals(module.symbol_count());
  for (const Note& n : notes)
    if (Symbol s = module.find(n.function); n.kind == Note::Kind::Declined && s.exists())
      refusals[s.index].push_back(n);
  Notes out;
  for (Symbol s : module.functions()) Finder(module, s, refusals[s.index], ran, out).run();
  return out;
}

}  // namespace porphyry
