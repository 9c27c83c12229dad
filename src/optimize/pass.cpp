#include "porphyry/optimize/pass.h"

#include "porphyry/text/writer.h"

namespace porphyry {

void Workplace::add(Note note, Position p) {
  note.pass = pass;
  note.function = module.symbol_name(symbol);
  note.position = place_text(module, p);
  notes_->push_back(std::move(note));
}

void Workplace::done(Position p, std::string value, std::string what, std::string why,
                     std::vector<std::pair<std::string, std::string>> figures) {
  if (!notes_) return;
  add({.kind = Note::Kind::Done,
       .value = std::move(value),
       .what = std::move(what),
       .why = std::move(why),
       .figures = std::move(figures)},
      p);
}

void Workplace::declined(Position p, std::string value, std::string what, std::string why, std::string unlock,
                         std::vector<std::pair<std::string, std::string>> figures) {
  if (!notes_) return;
  add({.kind = Note::Kind::Declined,
       .value = std::move(value),
       .what = std::move(what),
       .why = std::move(why),
       .figures = std::move(figures),
       .unlock = std::move(unlock)},
      p);
}

std::string Workplace::name(Value v) const { return value_text(module, function, v); }

namespace {
constexpr Pass passes[] = {
    {"promote", "stack slots that are only loaded and stored become values", promote, Facts::all},
    {"fold", "operations on constants become constants, branches on constants become plain", fold,
     Facts::none},
    {"sweep", "what nobody uses goes: values, block parameters, blocks that cannot be reached", sweep,
     Facts::none},
};
}  // namespace

std::span<const Pass> all_passes() { return passes; }

const Pass* pass_named(std::string_view name) {
  for (const Pass& p : passes)
    if (name == p.name) return &p;
  return nullptr;
}

}  // namespace porphyry
