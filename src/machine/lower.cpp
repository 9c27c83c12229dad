#include "porphyry/machine/lower.h"

#include <array>

#include "emit/extensions.h"
#include "emit/repeated_copies.h"
#include "emit/repeated_tails.h"
#include "emit/shared_starts.h"
#include "emit/shorter.h"
#include "listing/variables.h"
#include "porphyry/ir/clone.h"
#include "porphyry/machine/legalize.h"
#include "porphyry/machine/schedule.h"

namespace porphyry::machine {

namespace {

// One function between the stages.
class FunctionLowering {
 public:
  FunctionLowering(Symbol function, LowerMemory& memory, std::span<const Watched> watched)
      : symbol_(function),
        memory_(memory),
        watched_(watched.begin(), watched.end()),
        positions_(&memory.code) {}

  void match(const Module& legal, const RuleIndex& rules) {
    selection_.emplace(legal, symbol_, rules, &memory_.code, &memory_.work);
    selection_->match();
  }

  void write_code(const Module& legal, const Target& target, const LowerOptions& options) {
    auto selected = selection_->write();
    selection_.reset();
    memory_.work.reset();
    if (!selected) return void(problems_ = selected.why());
    selected_ = std::move(*selected);
    const Function& f = legal.function(symbol_);
    if (options.schedule)
      if (auto unmoved = schedule(selected_->code, f, target, &memory_.work)) {
        unscheduled_.emplace(&memory_.code) = selected_->code;
        unscheduled_->code = std::move(*unmoved);
      }
    if (legal.position_count() == 0) return;
    positions_.resize(f.instruction_limit());
    for (size_t k = 0; k < positions_.size(); ++k)
      if (f.alive(Instruction(k))) positions_[k] = f.position(Instruction(k));
  }

  void allocate_registers(const Target& target, const LowerOptions& options) {
    if (!problems_.empty()) return;
    Code before;
    if (options.check_allocation) before = selected_->code;
    const RoundMemory rounds{memory_.work, memory_.more_work};
    rounds.reset();
    bool remembered = options.check_allocation || options.explain || !watched_.empty();
    if (!unscheduled_) {
      allocation_ = allocate(std::move(selected_->code), target, rounds, remembered);
    } else {
      Code plain = options.check_allocation ? *unscheduled_ : Code();
      allocation_ =
          allocate_either(std::move(*unscheduled_), std::move(selected_->code), target, rounds, remembered);
      // Which of the two it is, its own lines tell.
      if (options.check_allocation && !check_allocation(before, *allocation_, target).empty()) before = plain;
    }
    if (options.check_allocation) problems_ = check_allocation(before, *allocation_, target);
    rounds.reset();  // of a large function they are as large as all of its code
  }

  Result<CompiledFunction> encode(const Module& legal, const Target& target, const LowerOptions& options) {
    if (!problems_.empty()) return problems_;
    if (Diagnostics too_large = lay_out_frame(allocation_->code, target); !too_large.empty())
      return too_large;
    if (options.repeat_tails) repeat_tails(*allocation_, target);
    share_starts(allocation_->code, target);
    drop_repeated_copies(allocation_->code, target);
    drop_superfluous_extensions(allocation_->code, target);
    take_shorter_forms(allocation_->code, target);
    CompiledFunction out = emit(allocation_->code, target, {options.align_loops, options.late_frame});
    out.symbol = symbol_;
    if (!positions_.empty())
      for (EmittedLine& l : out.lines)
        if (l.origin.exists()) l.position = positions_[l.origin.index];
    if (options.keep_bodies) out.covered.assign(selected_->covered.begin(), selected_->covered.end());
    out.variables = variable_facts(legal.function(symbol_), watched_, *allocation_, out, target);
    if (options.explain) out.explained = std::make_shared<const Allocation>(*allocation_);
    return out;
  }

 private:
  Symbol symbol_;
  LowerMemory& memory_;
  std::vector<Watched> watched_;
  std::pmr::vector<Position> positions_;  // by instruction; none in a module without
  std::optional<Selection> selection_;
  std::optional<Selected> selected_;
  std::optional<Code> unscheduled_;  // as it was selected, where scheduling moved something
  std::optional<Allocation> allocation_;
  Diagnostics problems_;
};

void note_parameters(LoweredModule& out, const Module& module) {
  out.first_parameter.reserve(module.symbol_count());
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    out.first_parameter.push_back(static_cast<uint32_t>(out.parameter_names.size()));
    if (!module.is_function(Symbol(k))) continue;
    const Function& f = module.function(Symbol(k));
    for (Value v : f.parameters()) out.parameter_names.push_back(f.name(v));
  }
}

// The code of all stages together is several times as large as the processor's nearest cache. So a stage does
// a few small functions one after the other, before the next stage does them; a large one goes alone.
constexpr size_t batch_functions = 8, batch_instructions = 500;

// Functions of `out.legal`, whose bodies are those of `from`; a body is copied before its batch is lowered,
// or makes room for its copy where `from` is the module itself.
class BodyLowering {
 public:
  BodyLowering(LoweredModule out, const Module& from, const Target& target, const LowerOptions& options)
      : out_(std::move(out)),
        from_(from),
        target_(target),
        options_(options),
        coverage_(target, features()),
        rules_(target, features()),
        legalizer_(*out_.legal, target, coverage_,
                   {.exported = options.exported, .variables = options.variables}) {}

  Result<LoweredModule> run() {
    Module& legal = *out_.legal;
    out_.exported = options_.exported;
    for (size_t k = 0, given = from_.symbol_count(); k < legal.symbol_count(); ++k) {  // helpers come behind
      Symbol s(k);
      if (!legal.is_function(s)) continue;
      if (k < given) legal.set_body(s, Function::roomy_copy(from_.function(s)));
      legalizer_.function(s);
      size_t size = legal.function(s).instruction_limit();
      if (!batch_.empty() && waiting_ + size > batch_instructions) lower_batch();
      batch_.push_back(s);
      watched_.push_back(legalizer_.take_watched());
      waiting_ += size;
      if (batch_.size() == batch_functions || waiting_ > batch_instructions) lower_batch();
    }
    lower_batch();
    out_.source_signatures = legalizer_.finish();
    const auto& words = legalizer_.address_words();
    for (size_t k = 0; k < words.size(); ++k)
      if (words[k].exists()) out_.address_words.push_back({words[k], Symbol(k)});
    if (!problems_.empty()) return std::move(problems_);
    return std::move(out_);
  }

 private:
  Features features() const { return options_.features.value_or(target_.usual_features); }

  template <class Stage>
  void each(Stage stage) {
    for (size_t k = 0; k < batch_.size(); ++k) stage(*lowerings_[k]);
  }

  void lower_batch() {
    Module& legal = *out_.legal;
    for (size_t k = 0; k < batch_.size(); ++k) {
      memory_[k].reset();
      lowerings_[k].emplace(batch_[k], memory_[k], watched_[k]);
    }
    each([&](FunctionLowering& f) { f.match(legal, rules_); });
    each([&](FunctionLowering& f) { f.write_code(legal, target_, options_); });
    const bool want_bodies = options_.variables != Variables::Ignored;  // to tell where variables are
    if (!want_bodies) drop_bodies();
    each([&](FunctionLowering& f) { f.allocate_registers(target_, options_); });
    each([&](FunctionLowering& f) {
      auto compiled = f.encode(legal, target_, options_);
      if (compiled)
        out_.functions.push_back(std::move(*compiled));
      else
        problems_.insert(problems_.end(), compiled.why().begin(), compiled.why().end());
    });
    if (want_bodies) drop_bodies();
    for (auto& f : lowerings_) f.reset();
    batch_.clear(), watched_.clear();
    waiting_ = 0;
  }

  void drop_bodies() {
    if (options_.keep_bodies) return;
    for (Symbol s : batch_) out_.legal->set_body(s, Function::without_body(out_.legal->function(s)));
  }

  LoweredModule out_;
  const Module& from_;
  const Target& target_;
  const LowerOptions& options_;
  Coverage coverage_;
  RuleIndex rules_;
  Legalizer legalizer_;
  std::vector<Symbol> batch_;                  // legal, not lowered yet
  std::vector<std::vector<Watched>> watched_;  // by those
  size_t waiting_ = 0;                         // instructions of the batch
  std::array<LowerMemory, batch_functions> memory_;
  std::array<std::optional<FunctionLowering>, batch_functions> lowerings_;
  Diagnostics problems_;
};

Result<LoweredModule> lower_bodies(LoweredModule out, const Module& from, const Target& target,
                                   const LowerOptions& options) {
  Diagnostics problems = target_problems(from, target);
  if (problems.empty()) problems = return_call_problems(from, target);
  if (!problems.empty()) return problems;
  return BodyLowering(std::move(out), from, target, options).run();
}

}  // namespace

Result<CompiledFunction> lower_function(const Module& legal, Symbol function, const RuleIndex& rules,
                                        const LowerOptions& options, LowerMemory& memory,
                                        std::span<const Watched> watched) {
  memory.reset();
  FunctionLowering f(function, memory, watched);
  f.match(legal, rules);
  f.write_code(legal, rules.target(), options);
  f.allocate_registers(rules.target(), options);
  return f.encode(legal, rules.target(), options);
}

LoweredModule begin_lowering(const Module& module) {
  LoweredModule out;
  out.legal = clone(module);
  for (size_t k = 0; k < module.symbol_count(); ++k) {
    const Signature* is = module.signature(Symbol(k));
    out.source_signatures.push_back(is ? *is : Signature{});
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
