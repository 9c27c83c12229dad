// A bound is proved by what every way to the place passes, by what its root is, or else by a walk backwards
// along all ways. Invariant: what is asked for holds whenever the place is reached, or is not proved. Cost:
// each question about a parameter, a call or a loop's value is answered once; walks take what their proofs
// leave open.
#include "porphyry/analyze/bound_proofs.h"

#include <algorithm>

#include "asked_bounds.h"
#include "bound_answers.h"
#include "bound_walk.h"
#include "porphyry/ir/words.h"

namespace porphyry {
namespace {

using Of = BoundQuestion::Of;
using Proofs = BoundWalk::Proofs;

}  // namespace

class BoundProofs::Prover {
 public:
  explicit Prover(const Module& module)
      : module_(module),
        sites_(module),
        calls_(module.symbol_count()),
        bodies_(module.symbol_count()),
        last_(module.symbol_count()) {
    for (Symbol s : module.functions()) {
      const Function& f = module.function(s);
      for (Block b : f.blocks())
        for (Instruction i : f.instructions(b))
          if (f.op(i) == Op::Call || f.op(i) == Op::ReturnCall) calls_[f.symbol(i).index].push_back({s, i});
    }
  }

  std::optional<BoundProof> of(Symbol s, Instruction at, const Bound& bound) {
    steps_ = 0;
    auto out = proof_before(s, at, {bound, limit_of(body_of(s), bound.limit)});
    answers_.settle();
    return out;
  }

 private:
  const GivenBounds& body_of(Symbol s) {
    auto& body = bodies_[s.index];
    if (!body) body = std::make_unique<GivenBounds>(module_, module_.function(s));
    return *body;
  }

  bool holds_before(Symbol s, Instruction at, const AskedBound& asked) {
    return proof_before(s, at, asked).has_value();
  }
  std::optional<BoundProof> proof_before(Symbol s, Instruction at, const AskedBound& asked) {
    const GivenBounds& body = body_of(s);
    const Function& f = body.f;
    if (is_small(f, asked)) return BoundProof::Small;
    if (f.is_constant(asked.bound.root) || !body.dominators.reachable(f.block(at))) return std::nullopt;
    if (depth_ >= deepest || ++steps_ > budget) return std::nullopt;
    ++depth_;
    Proofs on_some_ways;
    auto out = met_above(body, at, asked, on_some_ways);
    if (!out) out = by_its_root(s, body, at, asked);
    if (!out && on_some_ways.size() > 1 &&
        BoundWalk(body, on_some_ways, ++walks_, visits_, steps_).all_ways(at, asked))
      out = BoundProof::Ways;
    --depth_;
    return out;
  }

  // Something that every way to an instruction passes. What may prove it on some of them goes into a list;
  // not what lies behind the instruction on every way: who comes there first has not met it.
  std::optional<BoundProof> met_above(const GivenBounds& body, Instruction at, const AskedBound& asked,
                                      Proofs& on_some_ways) {
    const Function& f = body.f;
    const Dominators& dominators = body.dominators;
    const Block b = f.block(at);
    std::optional<BoundProof> out;
    body.any_of(asked.bound.root, [&](const Given& g) {
      const bool by_call = g.kind == Given::Kind::Call;
      if (!by_call && !says_enough(body, g, asked)) return false;
      const Block where = by_call ? f.block(g.call) : f.to(g.on);
      const bool above = by_call && where == b ? f.comes_before(g.call, at)
                                               : dominators.dominates(where, b) &&
                                                     (by_call || dominators.only_way_in(f, where) == g.on);
      if (!above && dominators.dominates(b, by_call ? where : f.from(g.on))) return false;
      bool met = above;
      if (by_call) {
        auto limit = above ? read_behind(body, asked.limit, g.call) : only_place(f, asked.limit);
        if (!limit || !met_by_call(f, g, {asked.bound, *limit})) return false;
      } else if (above) {
        met = limit_is_enough(body, g, asked.limit);
      }
      if (met) out = by_call ? BoundProof::Call : BoundProof::Above;
      if (!met && on_some_ways.size() < most_proofs) on_some_ways.push_back(&g);
      return met;
    });
    return out;
  }
  bool met_by_call(const Function& f, const Given& g, const AskedBound& asked) {
    const Bits mask = mask_of(f.type(g.bound.root).bits());
    Bound wider = g.bound;
    wider.bytes = ((asked.bound.offset - g.bound.offset) & mask) + asked.bound.bytes;
    return wider.bytes <= farthest && implies(f, wider, asked.bound) &&
           ensured(f, g.call, Of::Argument, g.argument, {{.bytes = wider.bytes}, asked.limit});
  }

  std::optional<BoundProof> by_its_root(Symbol s, const GivenBounds& body, Instruction at,
                                        const AskedBound& asked) {
    const Function& f = body.f;
    const Value root = asked.bound.root;
    auto proved = [](bool holds, BoundProof by) { return holds ? std::optional(by) : std::nullopt; };
    if (f.kind(root) == ValueKind::Parameter) {
      auto limit = only_place(f, asked.limit);  // it is read in the function
      return proved(limit && given_by_callers(s, f, {asked.bound, *limit}), BoundProof::Callers);
    }
    if (f.kind(root) == ValueKind::BlockParameter) {
      auto limit = limit_at(body, f.defining_block(root), asked.limit);
      return proved(limit && brought_by_all(s, body, {asked.bound, *limit}), BoundProof::Brought);
    }
    Instruction made = f.definition(root);
    auto one_holds = [&](size_t k) {
      return holds_before(s, at, {moved_to(f, asked.bound, f.operand(made, k)), asked.limit});
    };
    if (f.op(made) == Op::Pick) return proved(one_holds(1) && one_holds(2), BoundProof::Picked);
    if (f.op(made) != Op::Call) return std::nullopt;
    auto limit = read_behind(body, asked.limit, made);
    const auto index = static_cast<uint32_t>(f.result_index(root));
    return proved(limit && ensured(f, made, Of::Result, index, {asked.bound, *limit}), BoundProof::Call);
  }

  // What every edge into the root's block brings.
  bool brought_by_all(Symbol s, const GivenBounds& body, const AskedBound& asked) {
    const Function& f = body.f;
    const Bound& bound = asked.bound;
    // A sum that grows in each round is asked for once, or this would go on for as many rounds.
    auto same = [&](const Loop& l) {
      return l.function == s && l.root == bound.root && l.offset != bound.offset;
    };
    if (std::any_of(loops_.begin(), loops_.end(), same)) return false;
    loops_.push_back({s, bound.root, bound.offset});
    const BoundQuestion question{s, Of::Brought, bound.root.index, bound.offset, asked.limit};
    const bool holds = answers_.assuming(question, bound.bytes, [&] {
      for (Edge e : f.edges_into(f.defining_block(bound.root))) {
        const AskedBound along{moved_to(f, bound, f.argument(e, f.result_index(bound.root))),
                               limit_along(body, e, asked.limit)};
        const bool met = !body.dominators.reachable(f.from(e)) || met_on_edge(body, e, along) ||
                         holds_before(s, f.terminator(f.from(e)), along);
        if (!met) return false;
      }
      return true;
    });
    loops_.pop_back();
    return holds;
  }

  // A parameter, by what all callers have checked of the argument.
  bool given_by_callers(Symbol s, const Function& f, const AskedBound& asked) {
    const Bound& bound = asked.bound;
    const Value base = asked.limit.base;
    if (base.exists() && f.kind(base) != ValueKind::Parameter) return false;
    if (!sites_.all_seen(module_, s)) return false;
    const BoundQuestion question{s, Of::Parameter, bound.root.index, bound.offset, asked.limit};
    return answers_.once(question, bound.bytes, [&] {
      for (const Site& site : calls_[s.index]) {
        const Function& caller = module_.function(site.caller);
        AskedBound there = asked;
        there.bound = moved_to(caller, bound, caller.operand(site.call, f.result_index(bound.root)));
        if (base.exists()) there.limit.base = caller.operand(site.call, f.result_index(base));
        if (!holds_before(site.caller, site.call, there)) return false;
      }
      return true;
    });
  }

  // Whether a function that is called has checked as much of an argument or result wherever it returns.
  bool ensured(const Function& f, Instruction call, Of of, uint32_t index, AskedBound asked) {
    Symbol s = f.symbol(call);
    if (!module_.is_function(s) || !module_.function(s).entry().exists()) return false;
    const GivenBounds& body = body_of(s);
    if (body.hands_over || body.returns.empty()) return false;
    if (asked.limit.base.exists()) {  // the callee's, of the same object
      size_t base = 0;
      while (base < f.operand_count(call) && f.operand(call, base) != asked.limit.base) ++base;
      if (base >= body.f.parameters().size()) return false;
      asked.limit.base = body.f.parameters()[base];
    }
    const BoundQuestion question{s, of, index, asked.bound.offset, asked.limit};
    return answers_.once(known(question), question, asked.bound.bytes, [&] {
      return std::all_of(body.returns.begin(), body.returns.end(), [&](Instruction back) {
        Value v = of == Of::Result ? body.f.operand(back, index) : body.f.parameters()[index];
        return holds_before(s, back, {moved_to(body.f, asked.bound, v), asked.limit});
      });
    });
  }

  // Of arguments the same is asked again and again, most often of one memory: found without a search.
  BoundAnswers::Answer& known(const BoundQuestion& q) {
    if (q.of != Of::Argument || q.offset != 0) return answers_.of(q);
    auto& of_function = last_[q.function.index];
    of_function.resize(std::max<size_t>(of_function.size(), q.index + 1));
    Last& last = of_function[q.index];
    if (!last.answer || last.limit != q.limit) last = {q.limit, &answers_.of(q)};
    return *last.answer;
  }

  struct Site {
    Symbol caller;
    Instruction call;
  };
  struct Last {
    AskedLimit limit;
    BoundAnswers::Answer* answer = nullptr;
  };
  struct Loop {
    Symbol function;
    Value root;
    Bits offset;
  };
  static constexpr size_t deepest = 40;      // questions within questions
  static constexpr size_t most_proofs = 32;  // of one walk
  static constexpr Bits farthest = 1 << 20;  // behind an argument, in bytes: no function checks more
  const Module& module_;
  const CallSites sites_;
  std::vector<std::vector<Site>> calls_;  // by function
  std::vector<std::unique_ptr<GivenBounds>> bodies_;
  BoundAnswers answers_;
  std::vector<std::vector<Last>> last_;   // by function and argument
  std::vector<Loop> loops_;               // whose values are asked for
  std::vector<BoundWalk::Visit> visits_;  // by block
  size_t depth_ = 0, steps_ = 0;
  uint32_t walks_ = 0;
};

BoundProofs::BoundProofs(const Module& module) : prover_(std::make_unique<Prover>(module)) {}
BoundProofs::~BoundProofs() = default;
std::optional<BoundProof> BoundProofs::of(Symbol function, Instruction at, const Bound& bound) {
  return prover_->of(function, at, bound);
}

}  // namespace porphyry
