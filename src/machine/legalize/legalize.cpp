// The steps as passes, and the order in which a function goes through them.
#include "porphyry/machine/legalize.h"

#include "porphyry/machine/passing.h"
#include "state.h"

namespace porphyry::machine {

namespace legal {
#define PORPHYRY_PASS(name, Context, keeps, finish, doc) void name(Context&);
#include "steps.inc"
#undef PORPHYRY_PASS
}  // namespace legal

namespace {

// External functions are declared by the convention, too.
void declare_by_convention(ModuleContext& c) {
  auto& s = *c.surroundings->find<Legalization>();
  note_signatures(s);
  for (size_t k = 0; k < s.source_signatures.size(); ++k)
    if (SymbolRow& row = c.module[Symbol(k)]; row.kind == SymbolKind::ExternFunction)
      row.signature = passing(s.target.convention, s.source_signatures[k]).legal;
}

}  // namespace

void note_signatures(Legalization& s) {
  for (size_t k = s.source_signatures.size(); k < s.module.symbol_count(); ++k) {
    const Signature* is = s.module.signature(Symbol(k));
    s.source_signatures.push_back(is ? *is : Signature{});
  }
}

const PassTable& legalization_passes() {
  static const PassTable table = [] {
    PassTable out;
    auto add = [&](std::string_view name, std::string doc, OverFunction run, Kept keeps,
                   void (*finish)(ModuleContext&)) {
      out.add({.name = pass_name(name),
               .doc = std::move(doc),
               .run = std::move(run),
               .keeps = std::move(keeps),
               .finish = finish,
               .needs = type_id<Legalization>,
               .needs_doc = "a target, for which the module is legalized"});
    };
#define PORPHYRY_PASS(name, Context, keeps, finish, doc) add(#name, doc, legal::name, keeps, finish);
#include "steps.inc"
#undef PORPHYRY_PASS
    return out;
  }();
  return table;
}

Pipeline legalization() {
  Pipeline out;
  for (const auto& pass : legalization_passes().all()) out.steps.push_back({pass, {}});
  return out;
}

Diagnostics target_problems(const Module& module, const Target& target) {
  if (auto missing = target.missing_upkeep(); !missing.empty())
    return {complaint("the book of " + std::string(target.name) +
                          " does not name what the machine layer uses: " + listed(missing, "and"),
                      "lines of 'upkeep' for these")};
  if (module.layout == target.layout) return {};
  auto order = [](const MemoryLayout& l) {
    return std::string("layout ") + (l.order == ByteOrder::Big ? "big" : "little");
  };
  std::string is = order(module.layout);
  if (module.layout.pointer_bits != 64) is += " pointers " + std::to_string(module.layout.pointer_bits);
  return {complaint(
      "'" + is + "' is not how " + std::string(target.name) + " lays out memory",
      order(target.layout) + ", with pointers of " + std::to_string(target.layout.pointer_bits) + " bits")};
}

Legalizer::Legalizer(Module& module, const Target& target, const Coverage& coverage, LegalizeOptions options)
    : module_(module), pipeline_(options.pipeline ? std::move(*options.pipeline) : legalization()) {
  options_.steps = options.steps;
  options_.surroundings = &surroundings_;
  surroundings_.put(std::unique_ptr<Legalization>(new Legalization{
      module, target, coverage, options.exported, Helpers(module), {}, {}, {}, {.how = options.variables}}));
}

Legalizer::~Legalizer() = default;

void Legalizer::function(Symbol symbol) { FunctionPipeline(pipeline_, options_).run(module_, symbol); }

std::vector<Watched> Legalizer::take_watched() {
  return std::exchange(surroundings_.find<Legalization>()->watches.found, {});
}

const std::vector<Symbol>& Legalizer::address_words() const {
  return surroundings_.find<Legalization>()->address_words;
}

std::vector<Signature> Legalizer::finish() {
  FunctionPipeline(pipeline_, options_).finish(module_);
  auto& s = *surroundings_.find<Legalization>();
  note_signatures(s);
  return std::move(s.source_signatures);
}

std::vector<Signature> legalize(Module& module, const Target& target, const Coverage& coverage,
                                LegalizeOptions options) {
  Legalizer legalizer(module, target, coverage, std::move(options));
  for (Symbol s : module.functions()) legalizer.function(s);
  return legalizer.finish();
}

}  // namespace porphyry::machine
