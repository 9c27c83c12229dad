#include "porphyry/machine/legalize.h"

#include <algorithm>

#include "porphyry/machine/passing.h"
#include "steps.h"

namespace porphyry::machine {
namespace {

struct Step {
  LegalStep said;
  void (*run)(LegalContext&, Symbol);
};

Function& function(LegalContext& c, Symbol s) { return c.module.function(s); }

const Step steps[] = {
    {{"reach", "blocks that no run comes to go"},
     [](LegalContext& c, Symbol s) { drop_unreachable(function(c, s), &c.scratch); }},
    {{"marks", "sole, end, watch, renew, release and kinds go"},
     [](LegalContext& c, Symbol s) { drop_marks(function(c, s)); }},
    {{"passing", "parameters, arguments and results as the convention passes them"},
     [](LegalContext& c, Symbol s) { pass_by_convention(c, s); }},
    {{"branches", "choose becomes a tree of comparisons"},
     [](LegalContext& c, Symbol s) { choices_to_branches(c.module, function(c, s)); }},
    {{"spans", "copy and fill become accesses or calls of helpers"},
     [](LegalContext& c, Symbol s) { spans_to_accesses(c.module, function(c, s), c.helpers); }},
    {{"lanes", "lanes become as many as a register holds, or scalars"},
     [](LegalContext& c, Symbol s) { cut_lanes(c.module, function(c, s), c.coverage); }},
    {{"widths", "integers of odd and great widths become words"},
     [](LegalContext& c, Symbol s) { widths_to_words(c.module, function(c, s), c.helpers); }},
    {{"operations", "what the book has no rule for is said in what it has"},
     [](LegalContext& c, Symbol s) { rewrite_operations(c, function(c, s)); }},
    {{"edges", "critical edges on which something moves get a block"},
     [](LegalContext& c, Symbol s) { split_critical_edges(function(c, s), &c.scratch); }},
    {{"beside", "comparisons and addresses stand beside their users"},
     [](LegalContext& c, Symbol s) { gather_beside_users(c.module, function(c, s)); }}};

Signature signature_of(const Module& module, Symbol s) {
  const Signature* is = module.signature(s);
  return is ? *is : Signature{};
}

// External functions take parts, too.
void declare_by_convention(LegalContext& c) {
  for (size_t k = 0; k < c.meant.size(); ++k)
    if (SymbolRow& row = c.module[Symbol(k)]; row.kind == SymbolKind::ExternFunction)
      row.signature = passing(c.target.convention, c.meant[k]).legal;
}

}  // namespace

std::span<const LegalStep> legal_steps() {
  static const auto said = [] {
    std::array<LegalStep, std::size(steps)> out;
    std::transform(std::begin(steps), std::end(steps), out.begin(), [](const Step& s) { return s.said; });
    return out;
  }();
  return said;
}

Diagnostics layout_problems(const Module& module, const Target& target) {
  if (module.layout == MemoryLayout{}) return {};
  std::string is = std::string("layout ") + (module.layout.order == ByteOrder::Big ? "big" : "little");
  if (module.layout.pointer_bits != 64) is += " pointers " + std::to_string(module.layout.pointer_bits);
  return {complaint("'" + is + "' is not how " + std::string(target.name) + " lays out memory",
                    "layout little, with pointers of 64 bits")};
}

Legalizer::Legalizer(Module& module, const Target& target, const Coverage& coverage, std::string_view last,
                     bool exported)
    : context_(new LegalContext{module, target, coverage, Helpers(module), {}, {}, exported, {}}) {
  auto found =
      std::find_if(std::begin(steps), std::end(steps), [&](const Step& s) { return s.said.name == last; });
  steps_ = std::min(static_cast<size_t>(found - std::begin(steps)) + 1, std::size(steps));
}

Legalizer::~Legalizer() = default;

void Legalizer::function(Symbol symbol) {
  LegalContext& c = *context_;
  while (c.meant.size() < c.module.symbol_count())
    c.meant.push_back(signature_of(c.module, Symbol(c.meant.size())));
  for (const Step& step : std::span(steps).first(steps_)) {
    c.scratch.reset();
    step.run(c, symbol);
  }
}

const std::vector<Symbol>& Legalizer::address_words() const { return context_->address_words; }

std::vector<Signature> Legalizer::finish() {
  LegalContext& c = *context_;
  for (size_t k = c.meant.size(); k < c.module.symbol_count(); ++k)
    c.meant.push_back(signature_of(c.module, Symbol(k)));
  for (const Step& step : std::span(steps).first(steps_))
    if (step.said.name == "passing") declare_by_convention(c);
  return std::move(c.meant);
}

std::vector<Signature> legalize(Module& module, const Target& target, const Coverage& coverage,
                                std::string_view last) {
  Legalizer legalizer(module, target, coverage, last);
  for (size_t k = 0; k < module.symbol_count(); ++k)
    if (module.is_function(Symbol(k))) legalizer.function(Symbol(k));
  return legalizer.finish();
}

}  // namespace porphyry::machine
