// Idea: the simulator shows the state behind each instruction. What it wrote are the registers among its
// operands and whatever else has changed; what a register carries, the allocation has remembered.
// Invariant: a line claims a value of the program only where it is whole: behind the last instruction of the
// operation that writes it. Cost: O(steps * registers).
#include "porphyry/ask/trace_code.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <unordered_set>

#include "porphyry/call/call.h"
#include "porphyry/jit/jit.h"
#include "porphyry/machine/code_text.h"
#include "porphyry/machine/listing.h"
#include "porphyry/print/literals.h"
#include "porphyry/print/print.h"
#include "porphyry/simulate/code_run.h"

namespace porphyry {
namespace {

using namespace machine;

// Which virtual register each operand of allocated code was; of selected code, the operand says so itself.
Register virtual_of(const Code& code, const Allocation* allocation, const CodeLine& line, size_t k) {
  const CodeOperand& o = code.of(line)[k];
  if (o.kind != OperandKind::Register || !o.written) return no_register;
  const Register r = allocation ? allocation->virtual_of[line.first_operand + k] : o.reg;
  return r != no_register && is_virtual(r) ? r : no_register;
}

// By operand: whether the value that it writes is whole then. In the block that makes a value, copies of what
// is not finished may stand before the last instruction of the operation.
std::vector<bool> whole_values(const Function& f, const Code& code, const Allocation* allocation) {
  std::vector<bool> out(code.operands.size());
  std::unordered_set<uint32_t> finished;  // values, seen from the end of the block
  for (const CodeBlock& b : code.blocks) {
    finished.clear();
    for (uint32_t k = b.first + b.count; k-- > b.first;) {
      const CodeLine& line = code.code[k];
      for (size_t n = 0; n < line.operand_count; ++n) {
        const Register r = virtual_of(code, allocation, line, n);
        const Value v = r == no_register ? Value() : code.shape(r).origin;
        if (!v.exists()) continue;
        out[line.first_operand + n] = !finished.contains(v.index);
        if (f.kind(v) == ValueKind::Result && line.origin == f.definition(v)) finished.insert(v.index);
      }
    }
  }
  return out;
}

// What tells of one function's code.
struct CodeFacts {
  const Function* function = nullptr;
  const CompiledFunction* compiled = nullptr;  // of bytes
  const Code* code = nullptr;
  const Allocation* allocation = nullptr;
  std::vector<bool> whole;
  std::vector<std::string> texts;  // by line of `compiled`, as its listing has them
};

class CodeTracer {
 public:
  CodeTracer(const Module& legal, const Target& target, const TraceOptions& options, Trace& out)
      : legal_(legal), target_(target), options_(options), out_(out), before_(target) {}

  void add(const LoweredModule& lowered, const CompiledFunction& f, uint64_t start) {
    CodeFacts facts{&legal_.function(f.symbol), &f, &f.explained->code, f.explained.get(), {}, {}};
    facts.whole = whole_values(*facts.function, *facts.code, facts.allocation);
    for (const ListingBlock& b : make_listing(lowered, f, target_).blocks)
      for (const ListingLine& l : b.lines) facts.texts.push_back(l.text);
    bytes_.emplace(start, std::move(facts));
  }

  uint64_t steps() const { return steps_; }  // in functions of the program

  void operator()(const simulate::CodeObservation& seen) {
    CodeFacts& facts = codes_[seen.code];
    if (!facts.code) {
      facts = {.function = &legal_.function(legal_.find(seen.code->name)),
               .code = seen.code,
               .allocation = seen.allocation};
      facts.whole = whole_values(*facts.function, *seen.code, seen.allocation);
    }
    const CodeLine& line = seen.code->code[seen.line];
    keep(facts, &line, *seen.state, seen.virtuals, [&] {
      const auto& blocks = seen.code->blocks;
      auto after = std::upper_bound(blocks.begin(), blocks.end(), seen.line,
                                    [](uint32_t k, const CodeBlock& b) { return k < b.first; });
      return TraceLine{.function = seen.code->name,
                       .block = block_text(legal_, *facts.function, (after - 1)->origin),
                       .text = code_text(target_, legal_, *facts.function, *seen.code, line)};
    });
    remember(*seen.state);
  }

  void operator()(const simulate::Observation& seen) {
    auto behind = bytes_.upper_bound(seen.address);
    if (behind != bytes_.begin()) {
      const CodeFacts& facts = std::prev(behind)->second;
      const CompiledFunction& c = *facts.compiled;
      const uint64_t offset = seen.address - std::prev(behind)->first;
      if (offset < c.bytes.size()) line_of_bytes(facts, offset, seen);
    }
    remember(*seen.state);
  }

 private:
  void line_of_bytes(const CodeFacts& facts, uint64_t offset, const simulate::Observation& seen) {
    const auto& lines = facts.compiled->lines;
    auto emitted = std::lower_bound(lines.begin(), lines.end(), offset,
                                    [](const EmittedLine& l, uint64_t at) { return l.offset < at; });
    const bool known = emitted != lines.end() && emitted->row != EmittedLine::no_row;
    keep(facts, known ? &facts.code->code[emitted->row] : nullptr, *seen.state, {}, [&] {
      const auto n = static_cast<size_t>(emitted - lines.begin());
      return TraceLine{
          .function = facts.compiled->name,
          .block = fmt::format("+ {:04x}", offset),
          .text = n < facts.texts.size() ? facts.texts[n] : spell(target_, *seen.instruction, "…")};
    });
  }
  void remember(const simulate::State& state) {
    before_ = state;
    started_ = true;
  }

  // What is not asked for is passed over before anything is written about it.
  template <class Tell>
  void keep(const CodeFacts& facts, const CodeLine* line, const simulate::State& state,
            std::span<const Bits> virtuals, const Tell& tell) {
    const Function& f = *facts.function;
    ++steps_;
    const bool is_asked = options_.function.empty() || facts.code->name == options_.function;
    if (is_asked && options_.value.empty() && (out_.before < options_.skip || is_full())) {
      ++(out_.before < options_.skip ? out_.before : out_.behind);
    } else if (is_asked) {
      TraceLine told = tell();
      if (started_) add_flags(state, told);
      if (line) add_operands(facts, f, *line, state, virtuals, told);
      if (started_) add_others(state, told);
      if (line && line->origin.exists() && f.alive(line->origin))
        told.position = place_text(legal_, f.position(line->origin));
      told.key = told.function + "." + (told.value.empty() ? told.text : told.value);
      if (options_.value.empty() || told.value == options_.value) count(std::move(told));
    }
  }
  void count(TraceLine told) {
    if (out_.before < options_.skip)
      ++out_.before;
    else if (is_full())
      ++out_.behind;
    else
      out_.lines.push_back(std::move(told));
  }

  bool is_full() const { return out_.lines.size() >= options_.most; }

  void add_flags(const simulate::State& state, TraceLine& told) const {
    for (size_t k = 0; k < target_.flags.size(); ++k)
      if (before_.flags[k] != state.flags[k]) told.flags.emplace_back(target_.flags[k], state.flags[k]);
  }

  // The registers among the operands, and what they carry.
  void add_operands(const CodeFacts& facts, const Function& f, const CodeLine& line,
                    const simulate::State& state, std::span<const Bits> virtuals, TraceLine& told) const {
    const Code& code = *facts.code;
    for (size_t k = 0; k < line.operand_count; ++k) {
      const CodeOperand& o = code.of(line)[k];
      if (o.kind != OperandKind::Register || !o.written || o.reg == no_register) continue;
      const bool is_virtual = machine::is_virtual(o.reg);
      const Bits bits = is_virtual ? virtuals[o.reg - first_virtual] : state.registers[o.reg];
      RegisterWrite w{.place = register_text(target_, legal_, f, code, o.reg, 64)};
      const Register carried = virtual_of(code, facts.allocation, line, k);
      Value value = carried == no_register ? Value() : code.shape(carried).origin;
      if (value.exists() && f.is_constant(value)) value = {};
      w.type =
          value.exists() ? f.type(value) : plain_type(is_virtual ? code.shape(o.reg).bits : width(o.reg));
      w.words =
          text::lane_words(w.type, w.type.total_bits() < 128 ? bits & mask_of(w.type.total_bits()) : bits);
      if (value.exists() && facts.whole[line.first_operand + k]) {
        w.value = value_text(legal_, f, value);
        told.value = w.value, told.type = w.type, told.words = w.words;
      }
      told.writes.push_back(std::move(w));
    }
  }

  // Registers that changed without being named: the stack pointer, what a call or a division writes.
  void add_others(const simulate::State& state, TraceLine& told) const {
    for (unsigned r = 0; r < state.registers.size(); ++r) {
      if (before_.registers[r] == state.registers[r]) continue;
      const std::string place(target_.register_name(r, width(r)));
      if (std::ranges::count(told.writes, place, &RegisterWrite::place)) continue;
      const Type type = r == target_.convention.stack ? Type::pointer() : plain_type(width(r));
      told.writes.push_back({place, type, text::lane_words(type, state.registers[r]), ""});
    }
  }

  unsigned width(unsigned physical) const { return target_.classes[target_.class_of(physical)].bits; }
  // Of a register of which nothing is known: an integer, or two.
  static Type plain_type(unsigned bits) {
    return bits <= 64 ? Type::integer(bits) : Type::integer(64).with_lanes(bits / 64);
  }

  const Module& legal_;
  const Target& target_;
  const TraceOptions& options_;
  Trace& out_;
  simulate::State before_;
  bool started_ = false;
  uint64_t steps_ = 0;
  std::map<uint64_t, CodeFacts> bytes_;  // by where the code begins
  std::unordered_map<const Code*, CodeFacts> codes_;
};

Seen seen_of(const CallOutcome& out, const PreparedCall& call, uint64_t steps) {
  static constexpr Outcome::End ends[] = {Outcome::End::Result, Outcome::End::Trap, Outcome::End::Fault,
                                          Outcome::End::Exhausted};
  Seen seen{.end = ends[static_cast<size_t>(out.end)], .message = out.message};
  for (const std::string& r : out.results) seen.results.push_back(seen_result(r));
  for (const MemoryPiece& p : call.pieces) {
    auto bytes = p.memory->bytes().first(p.initial.size());
    seen.pieces.emplace_back(bytes.begin(), bytes.end());
  }
  seen.steps = steps;
  return seen;
}

}  // namespace

std::optional<CodeStage> code_stage_named(std::string_view name) {
  if (name == "selected") return CodeStage::Selected;
  if (name == "allocated") return CodeStage::Allocated;
  if (name == "encoded") return CodeStage::Encoded;
  return std::nullopt;
}

Result<Trace> trace_code(const Module& module, const Target& target, const WrittenCall& call,
                         const CodeTraceOptions& options) {
  auto prepared = prepare_call(module, call.function, call.words);
  if (!prepared) return prepared.why();
  LowerOptions lower = options.lower;
  lower.explain = true;
  auto jit = Jit::compile(module, target, lower, usual_externals, {.simulated = !target.runs_here()});
  if (!jit) return jit.why();
  const LoweredModule& lowered = (*jit)->lowered();
  Trace out{.of_code = true};
  CodeTracer tracer(*lowered.legal, target, options.lines, out);
  simulate::RunOptions run{.seed = options.lines.limits.seed, .step_limit = options.lines.limits.steps};
  CallOutcome outcome;
  if (options.stage == CodeStage::Encoded) {
    for (const CompiledFunction& f : lowered.functions)
      tracer.add(lowered, f, reinterpret_cast<uint64_t>((*jit)->address(f.name)));
    run.see = std::ref(tracer);
    outcome = run_on_simulator(module, **jit, target, *prepared, run);
  } else {
    const bool selected = options.stage == CodeStage::Selected;
    auto runner = simulate::CodeRunner::make(
        **jit, target, selected ? simulate::Stage::Selected : simulate::Stage::Allocated, lower.features);
    if (!runner) return runner.why();
    outcome = run_code(module, **runner, *prepared, run,
                       [&](const simulate::CodeObservation& seen) { tracer(seen); });
  }
  out.seen = seen_of(outcome, *prepared, tracer.steps());
  return out;
}

}  // namespace porphyry
