#include "porphyry/machine/select.h"

#include "calls.h"
#include "layout.h"
#include "porphyry/base/scratch.h"
#include "reuse_flags.h"
#include "reuse_results.h"

namespace porphyry::machine {
namespace {

// Room for what the rules will write, and a little for copies between blocks.
void make_room(Code& code, const Function& f, const RuleIndex& index, std::span<const uint16_t> rules) {
  size_t lines = 16, operands = 32, temporaries = 16;
  for (uint16_t row : rules) {
    if (row == 0) continue;
    const RuleFacts& facts = index.facts(row - 1u);
    lines += facts.lines, operands += facts.operands, temporaries += facts.temporaries;
  }
  size_t between = f.block_limit() * 2 + f.parameters().size();
  code.code.reserve(lines + between);
  code.operands.reserve(operands + 2 * between);
  code.virtuals.reserve(temporaries + f.value_limit() + f.block_limit());
  code.blocks.reserve(f.block_limit());
}

}  // namespace

// The second stage: blocks in their order, each root by its rule.
class Selection::Writer {
 public:
  Writer(const Module& module, Symbol symbol, const FlowOf& flow, Cover& cover, const RuleIndex& rules,
         Selected& out, std::pmr::memory_resource* work)
      : module_(module),
        symbol_(symbol),
        flow_(flow),
        cover_(cover),
        layout_(lay_out_blocks(module.function(symbol), flow, module[symbol].facts.keep_small, work)),
        w_(module.function(symbol), rules, cover.matcher, out.code, work),
        edges_(work),
        out_(out),
        work_(work) {
    number_loops(flow, layout_, out.code.loops);
  }

  Diagnostics run() {
    for (Block b : layout_.order) block(b);
    return std::move(problems_);
  }

 private:
  void block(Block b) {
    const Function& f = w_.f;
    w_.begin_stretch();
    w_.origin = {};
    here_ = {};
    CodeBlock made{.origin = b,
                   .first = static_cast<uint32_t>(w_.code.code.size()),
                   .depth = static_cast<uint8_t>(std::min(flow_.loops.depth(b), 200u)),
                   .frequency = flow_.frequencies.of(b)};
    if (Block header = flow_.loops.header(b); header.exists()) made.loop = layout_.loops[header];
    const Ways ways = ways_from(b);
    made.successors = ways.successors, made.table = ways.table;
    if (b == f.entry())
      take_parameters(w_, cover_.needed, work_);
    else if (Edge e = f.first_in(b); e.exists() && !f.next_in(e).exists() && f.edges(f.from(e)).size() > 1)
      edges_.write(w_, cover_.needed, e);
    Instruction end = f.terminator(b);
    for (Instruction i : f.instructions(b)) {
      if (i == end && b == f.entry()) make_early_constants();
      instruction(i, ways);
    }
    made.count = static_cast<uint32_t>(w_.code.code.size()) - made.first;
    w_.code.blocks.push_back(std::move(made));
  }

  // Legal code chooses among 0, 1 and so on, and never goes where the last edge leads.
  Ways ways_from(Block b) {
    const Function& f = w_.f;
    Ways out;
    Instruction end = f.terminator(b);
    if (f.op(end) != Op::Choose) {
      for (Edge e : f.edges(b)) out.successors.push_back(layout_.numbers[f.to(e)]);
      return out;
    }
    for (size_t k = 0; k + 1 < f.edge_count(end); ++k)
      w_.code.tables.add(layout_.numbers[f.to(f.edge(end, k))]);
    out.table = w_.code.tables.close();
    return out;
  }

  // Constants that loops want in registers are made once, before all loops; where registers are short, the
  // allocator makes them again beside their users.
  void make_early_constants() {
    w_.origin = {};
    for (Value v : cover_.early_constants)
      if (!w_.has_register(v)) w_.make_constant(v, w_.register_of(v));
  }

  void instruction(Instruction i, const Ways& ways) {
    const Function& f = w_.f;
    if (f.op(i) == Op::Here) {
      stop_here();
      here_ = i;
      return;
    }
    if (here_.exists() && !(same_line(i, here_) && f.op(i) != Op::Go)) stop_here();
    const size_t before = w_.code.code.size();
    w_.origin = i;
    one(i, ways);
    for (size_t k = before; k < w_.code.code.size(); ++k)
      if (w_.code.code[k].form >= first_real_form) here_ = {};
  }
  // An instruction of its own for the last `here`, unless one of the same line has come.
  void stop_here() {
    if (!here_.exists()) return;
    w_.origin = std::exchange(here_, {});
    if (w_.target.upkeep.nothing) w_.put(w_.target.upkeep.nothing, std::span<const CodeOperand>());
  }
  bool same_line(Instruction a, Instruction b) const {
    const Position x = w_.f.position(a), y = w_.f.position(b);
    if (!x.exists() || !y.exists()) return false;
    return module_.position(x).same_line(module_.position(y));
  }

  void one(Instruction i, const Ways& ways) {
    switch (w_.f.op(i)) {
      case Op::Call:
      case Op::CallThrough: return complain(i, write_call(w_, module_, i, work_));
      case Op::ReturnCall:
      case Op::ReturnCallThrough: return complain(i, write_return_call(w_, i, work_));
      case Op::Return: return complain(i, write_return(w_, i, work_));
      case Op::Go:
        edges_.write(w_, cover_.needed, w_.f.edge(i, 0));
        w_.put(w_.target.upkeep.jump, {label(ways.successors[0])});
        return;
      default: break;
    }
    if (cover_.rules[i.index] == 0) return;
    const Match m = *cover_.matcher.best(i);
    for (Instruction inner : m.covered)
      if (inner.exists()) out_.covered.push_back({i, inner});
    write_rule(w_, m, i, ways);
  }

  void complain(Instruction i, const char* problem) {
    if (problem) problems_.push_back(complaint_about(module_, symbol_, i, problem));
  }

  const Module& module_;
  Symbol symbol_;
  const FlowOf& flow_;
  Cover& cover_;
  BlockLayout layout_;
  CodeWriter w_;
  EdgeWriter edges_;
  Selected& out_;
  std::pmr::memory_resource* work_;
  Instruction here_;  // a `here` that no instruction stands for yet
  Diagnostics problems_;
};

struct Selection::State {
  State(const Module& module, Symbol symbol, const RuleIndex& rules, std::pmr::memory_resource* memory,
        std::pmr::memory_resource* work)
      : flow(module.function(symbol), work), found(cover(module, symbol, flow, rules, memory, work)) {}
  FlowOf flow;
  Cover found;
};

Selection::Selection(const Module& module, Symbol symbol, const RuleIndex& rules,
                     std::pmr::memory_resource* memory, std::pmr::memory_resource* work)
    : module_(module), symbol_(symbol), rules_(rules), memory_(memory), work_(work) {}

Selection::~Selection() = default;

void Selection::match() { state_ = std::make_unique<State>(module_, symbol_, rules_, memory_, work_); }

Result<Selected> Selection::write() {
  if (!state_->found.problems.empty()) return std::move(state_->found.problems);
  Selected out(memory_);
  out.code.name = module_.symbol_name(symbol_);
  out.code.counts_bytes = module_[symbol_].facts.keep_small;
  make_room(out.code, module_.function(symbol_), rules_, state_->found.rules);
  Diagnostics problems = Writer(module_, symbol_, state_->flow, state_->found, rules_, out, work_).run();
  if (!problems.empty()) return problems;
  reuse_results(out.code, rules_.target());
  reuse_flags(out.code, rules_.target());
  out.rules = std::move(state_->found.rules);
  return out;
}

Result<Selected> select(const Module& module, Symbol function, const RuleIndex& rules,
                        std::pmr::memory_resource* memory, std::pmr::memory_resource* work) {
  Selection selection(module, function, rules, memory, work);
  selection.match();
  return selection.write();
}

Result<Selected> select(const Module& module, Symbol function, const RuleIndex& rules) {
  Scratch work;
  return select(module, function, rules, std::pmr::get_default_resource(), &work);
}

}  // namespace porphyry::machine
