// Idea: delta debugging (A. Zeller, R. Hildebrandt, "Simplifying and Isolating Failure-Inducing Input",
// 2002): parts are taken away in ever smaller runs, each try on a copy; what still shows the fault is the new
// program. Whole bodies go first, then ways out of branches, then instructions from the last to the first, so
// that what only made operands goes after its user. Invariant: the current program is valid and shows the
// fault. Cost: see the header.
#include "porphyry/sample/reduce.h"

#include <algorithm>

#include "porphyry/analyze/verify.h"
#include "porphyry/ir/clone.h"
#include "porphyry/ir/order.h"

namespace porphyry {
namespace {

struct Spot {  // an instruction of a function
  Symbol function;
  Instruction instruction;
};

Value zero(Function& f, Type t) { return f.constant(t, 0); }

// The instruction goes; whoever used its results takes zeros.
void take_out(Function& f, Instruction i) {
  for (Value v : f.results(i)) f.replace_uses(v, zero(f, f.type(v)));
  f.erase(i);
}

// The block ends in a plain jump along one of its edges.
void straighten(Function& f, Instruction branch, size_t way) {
  Edge e = f.edge(branch, way);
  std::vector<Value> arguments;
  for (Value v : f.arguments(e)) arguments.push_back(v);
  const Function::Draft::Destination to{f.to(e), arguments};
  f.insert_before(branch, {.op = Op::Go, .targets = {&to, 1}});
  f.erase(branch);
  remove_unreachable_blocks(f);
}

// The body is nothing but a return of zeros.
void empty_body(Function& f) {
  Instruction first = f.first(f.entry());
  std::vector<Value> results;
  for (Type t : f.signature().results) results.push_back(zero(f, t));
  f.insert_before(first, {.op = Op::Return, .operands = results});
  for (Instruction i = f.last(f.entry()), before; i != f.first(f.entry()); i = before) {
    before = f.previous(i);
    take_out(f, i);
  }
  remove_unreachable_blocks(f);
}

class Reducer {
 public:
  Reducer(const Module& module, Symbol keep, const std::function<bool(const Module&)>& shows,
          const ReduceOptions& options)
      : now_(clone(module)), keep_(keep), shows_(shows), left_(options.most_attempts) {}

  std::unique_ptr<Module> run() {
    for (bool smaller = true; smaller && left_ > 0;) {
      smaller = bodies();
      smaller |= branches();
      smaller |= instructions();
    }
    return std::move(now_);
  }

 private:
  // Whether the program without something still shows the fault; then it is the program from now on.
  template <class Change>
  bool without(Change change) {
    if (left_ == 0) return false;
    --left_;
    std::unique_ptr<Module> tried = clone(*now_);
    change(*tried);
    if (!verify(*tried).empty() || !shows_(*tried)) return false;
    now_ = std::move(tried);
    return true;
  }

  std::vector<Symbol> functions() const {
    std::vector<Symbol> out;
    for (Symbol s : now_->functions()) out.push_back(s);
    return out;
  }

  bool bodies() {
    bool smaller = false;
    for (Symbol s : functions()) {
      const Function& f = now_->function(s);
      if (s == keep_ || f.op(f.first(f.entry())) == Op::Return) continue;
      smaller |= without([&](Module& m) { empty_body(m.function(s)); });
    }
    return smaller;
  }

  bool branches() {
    bool smaller = false;
    for (Symbol s : functions())
      for (size_t b = 0; b < now_->function(s).block_limit(); ++b) smaller |= branch(s, Block(b));
    return smaller;
  }
  bool branch(Symbol s, Block b) {
    const Function& f = now_->function(s);
    if (!f.alive(b)) return false;
    Instruction end = f.last(b);
    size_t ways = f.edges(end).size();
    for (size_t way = 0; ways > 1 && way < ways; ++way)
      if (without([&](Module& m) { straighten(m.function(s), end, way); })) return true;
    return false;
  }

  std::vector<Spot> spots() const {
    std::vector<Spot> out;
    for (Symbol s : now_->functions()) {
      const Function& f = now_->function(s);
      for (Block b : f.blocks())
        for (Instruction i : f.instructions(b))
          if (!info(f.op(i)).ends_block()) out.push_back({s, i});
    }
    std::reverse(out.begin(), out.end());
    return out;
  }
  bool instructions() {
    bool smaller = false;
    std::vector<Spot> all = spots();
    for (size_t run = std::max<size_t>(all.size() / 2, 1); run > 0; run /= 2)
      for (size_t from = 0; from < all.size();) {
        auto first = all.begin() + static_cast<ptrdiff_t>(from),
             last = all.begin() + static_cast<ptrdiff_t>(std::min(from + run, all.size()));
        bool gone = without([&](Module& m) {
          for (auto spot = first; spot != last; ++spot)
            take_out(m.function(spot->function), spot->instruction);
        });
        if (gone)
          all.erase(first, last), smaller = true;
        else
          from += run;
      }
    return smaller;
  }

  std::unique_ptr<Module> now_;
  Symbol keep_;
  const std::function<bool(const Module&)>& shows_;
  size_t left_;
};

}  // namespace

std::unique_ptr<Module> reduce(const Module& module, Symbol keep,
                               const std::function<bool(const Module&)>& shows,
                               const ReduceOptions& options) {
  return Reducer(module, keep, shows, options).run();
}

}  // namespace porphyry
