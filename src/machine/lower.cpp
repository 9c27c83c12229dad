#include "porphyry/machine/lower.h"

#include "porphyry/ir/clone.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/machine/schedule.h"
#include "porphyry/text/writer.h"

namespace porphyry::machine {

namespace {

// What the body still has to say when its code is selected.
struct Chosen {
  Selected selected;
  std::pmr::vector<Position> positions;  // by instruction; none in a module without
};

Result<Chosen> choose_code(const Module& legal, Symbol function, const RuleIndex& rules,
                           const LowerOptions& options, LowerMemory& memory) {
  memory.code.reset(), memory.work.reset();
  auto selected = select(legal, function, rules, &memory.code, &memory.work);
  memory.work.reset();
  if (!selected) return selected.why();
  const Function& f = legal.function(function);
  if (options.schedule) schedule(selected->code, f, rules.target(), &memory.work);
  Chosen out{std::move(*selected), std::pmr::vector<Position>(&memory.code)};
  if (legal.position_count() == 0) return out;
  out.positions.resize(f.instruction_limit());
  for (size_t k = 0; k < out.positions.size(); ++k)
    if (f.alive(Instruction(k))) out.positions[k] = f.position(Instruction(k));
  return out;
}

Result<CompiledFunction> finish(Chosen chosen, Symbol function, const Target& target,
                                const LowerOptions& options, LowerMemory& memory) {
  Code before;
  if (options.check_allocation) before = chosen.selected.code;
  Allocation allocation = allocate(std::move(chosen.selected.code), target, memory.work,
                                   options.check_allocation || options.explain);
  if (options.check_allocation) {
    Diagnostics wrong = check_allocation(before, allocation, target);
    if (!wrong.empty()) return wrong;
  }
  lay_out_frame(allocation.code, target);
  CompiledFunction out = emit(allocation.code, target);
  out.symbol = function;
  if (!chosen.positions.empty())
    for (EmittedLine& l : out.lines)
      if (l.origin.exists()) l.position = chosen.positions[l.origin.index];
  if (options.keep_bodies) out.covered.assign(chosen.selected.covered.begin(), chosen.selected.covered.end());
  if (options.explain) out.explained = std::make_shared<const Allocation>(allocation);
  return out;
}

void note_parameters(LoweredModule& out, const Module& module) {
  out.first_parameter.reserve(module.symbol_count());
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    out.first_parameter.push_back(static_cast<uint32_t>(out.parameter_names.size()));
    if (!module.is_function(Symbol(k))) continue;
    const Function& f = module.function(Symbol(k));
    for (Value v : f.parameters()) out.parameter_names.push_back(f.name(v));
  }
}

// Functions of `out.legal`, whose bodies are those of `from`; one body at a time is copied, while it is
// looked at, or makes room for its copy where `from` is the module itself.
Result<LoweredModule> lower_bodies(LoweredModule out, const Module& from, const Target& target,
                                   const LowerOptions& options) {
  Diagnostics problems = layout_problems(from, target);
  if (!problems.empty()) return problems;
  uint8_t features = options.features.value_or(target.usual_features);
  Coverage coverage(target, features);
  RuleIndex rules(target, features);
  Legalizer legalizer(*out.legal, target, coverage);
  LowerMemory memory;
  size_t given = from.symbol_count();  // helpers come behind
  for (size_t k = 0; k < out.legal->symbol_count(); ++k) {
    Symbol s(k);
    if (!out.legal->is_function(s)) continue;
    if (k < given) out.legal->set_body(s, Function::roomy_copy(from.function(s)));
    legalizer.function(s);
    auto chosen = choose_code(*out.legal, s, rules, options, memory);
    if (!options.keep_bodies) out.legal->set_body(s, Function::without_body(out.legal->function(s)));
    auto compiled = chosen ? finish(std::move(*chosen), s, target, options, memory)
                           : Result<CompiledFunction>(chosen.why());
    if (compiled)
      out.functions.push_back(std::move(*compiled));
    else
      problems.insert(problems.end(), compiled.why().begin(), compiled.why().end());
  }
  out.meant = legalizer.finish();
  if (!problems.empty()) return problems;
  return out;
}

}  // namespace

Result<CompiledFunction> lower_function(const Module& legal, Symbol function, const RuleIndex& rules,
                                        const LowerOptions& options, LowerMemory& memory) {
  auto chosen = choose_code(legal, function, rules, options, memory);
  if (!chosen) return chosen.why();
  return finish(std::move(*chosen), function, rules.target(), options, memory);
}

LoweredModule begin_lowering(const Module& module) {
  LoweredModule out;
  out.legal = clone(module);
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const Signature* is = module.signature(Symbol(k));
    out.meant.push_back(is ? *is : Signature{});
  }
  note_parameters(out, module);
  return out;
}

Result<LoweredModule> lower(const Module& module, const Target& target, const LowerOptions& options) {
  LoweredModule out;
  out.legal = clone_declarations(module);
  note_parameters(out, module);
  return lower_bodies(std::move(out), module, target, options);
}

Result<LoweredModule> lower(std::unique_ptr<Module> module, const Target& target,
                            const LowerOptions& options) {
  LoweredModule out;
  note_parameters(out, *module);
  out.legal = std::move(module);
  const Module& itself = *out.legal;
  return lower_bodies(std::move(out), itself, target, options);
}

}  // namespace porphyry::machine
