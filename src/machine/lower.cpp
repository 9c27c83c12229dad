#include "porphyry/machine/lower.h"

#include "porphyry/ir/clone.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/machine/schedule.h"
#include "porphyry/text/writer.h"

namespace porphyry::machine {

Result<CompiledFunction> lower_function(const Module& legal, Symbol function, const RuleIndex& rules,
                                        const LowerOptions& options, LowerMemory& memory) {
  const Target& target = rules.target();
  memory.code.reset(), memory.work.reset();
  auto selected = select(legal, function, rules, &memory.code, &memory.work);
  memory.work.reset();
  if (!selected) return selected.why();
  if (options.schedule) schedule(selected->code, legal.function(function), target, &memory.work);
  Code before;
  if (options.check_allocation) before = selected->code;
  Allocation allocation = allocate(std::move(selected->code), target, memory.work);
  if (options.check_allocation) {
    Diagnostics wrong = check_allocation(before, allocation, target);
    if (!wrong.empty()) return wrong;
  }
  lay_out_frame(allocation.code, target);
  CompiledFunction out = emit(allocation.code, target);
  out.symbol = function;
  const Function& f = legal.function(function);
  for (EmittedLine& l : out.lines)
    if (l.origin.exists() && f.alive(l.origin)) l.position = f.position(l.origin);
  out.covered = std::move(selected->covered);
  if (options.explain) out.explained = std::make_shared<const Allocation>(allocation);
  return out;
}

LoweredModule begin_lowering(const Module& module, bool with_bodies) {
  LoweredModule out;
  out.legal = with_bodies ? clone(module) : clone_declarations(module);
  out.first_parameter.reserve(module.symbol_count());
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const Signature* is = module.signature(Symbol(k));
    if (with_bodies) out.meant.push_back(is ? *is : Signature{});
    out.first_parameter.push_back(static_cast<uint32_t>(out.parameter_names.size()));
    if (!module.is_function(Symbol(k))) continue;
    const Function& f = module.function(Symbol(k));
    for (Value v : f.parameters()) out.parameter_names.push_back(f.name(v));
  }
  return out;
}

Result<LoweredModule> lower(const Module& module, const Target& target, const LowerOptions& options) {
  Diagnostics problems = layout_problems(module, target);
  if (!problems.empty()) return problems;
  uint8_t features = options.features.value_or(target.usual_features);
  Coverage coverage(target, features);
  RuleIndex rules(target, features);
  LoweredModule out = begin_lowering(module, false);
  Legalizer legalizer(*out.legal, target, coverage);
  LowerMemory memory;
  for (size_t k = 0; k < out.legal->symbol_count(); ++k) {
    if (!out.legal->is_function(Symbol(k))) continue;
    // One body at a time is copied, while it is looked at.
    if (k < module.symbol_count())
      out.legal->set_body(Symbol(k), Function::roomy_copy(module.function(Symbol(k))));
    legalizer.function(Symbol(k));
    auto compiled = lower_function(*out.legal, Symbol(k), rules, options, memory);
    if (compiled)
      out.functions.push_back(std::move(*compiled));
    else
      problems.insert(problems.end(), compiled.why().begin(), compiled.why().end());
    if (!options.keep_bodies)
      out.legal->set_body(Symbol(k), Function(out.legal->function(Symbol(k)).signature()));
  }
  out.meant = legalizer.finish();
  if (!problems.empty()) return problems;
  return out;
}

}  // namespace porphyry::machine
