#include "porphyry/optimize/pass.h"

#include <utility>

#include "porphyry/print/print.h"

namespace porphyry {

std::optional<std::vector<Instruction>> FunctionContext::changed() {
  auto mine = std::find_if(asked_.begin(), asked_.end(), [&](const Asked& a) { return a.pass == pass; });
  if (mine == asked_.end()) mine = asked_.insert(mine, {pass, {}});
  // A function that was put in another's place has none.
  const std::vector<Instruction>* journal = function.journal();
  if (!journal) {
    for (Asked& a : asked_) a.seen.reset();
    function.start_journal();
    return {};
  }
  auto seen = std::exchange(mine->seen, std::nullopt);
  if (!seen) return {};
  return std::vector(journal->begin() + static_cast<ptrdiff_t>(*seen), journal->end());
}

void FunctionContext::ended() {
  for (Asked& a : asked_)
    if (a.pass == pass && function.journal()) a.seen = function.journal()->size();
}

void FunctionContext::add(Note note, Position p) {
  note.pass = std::string(pass);
  note.function = module.symbol_name(symbol);
  note.position = place_text(module, p);
  notes_->push_back(std::move(note));
}

void FunctionContext::done(Position p, std::string value, std::string what, std::string why,
                           std::vector<std::pair<std::string, std::string>> figures) {
  if (!notes_) return;
  add({.kind = Note::Kind::Done,
       .value = std::move(value),
       .what = std::move(what),
       .why = std::move(why),
       .figures = std::move(figures)},
      p);
}

void FunctionContext::declined(Position p, std::string value, std::string what, std::string why,
                               std::string unlock, std::vector<std::pair<std::string, std::string>> figures) {
  if (!notes_) return;
  add({.kind = Note::Kind::Declined,
       .value = std::move(value),
       .what = std::move(what),
       .why = std::move(why),
       .figures = std::move(figures),
       .unlock = std::move(unlock)},
      p);
}

std::string FunctionContext::name(Value v) const { return value_text(module, function, v); }

Diagnostics PassTable::add(Pass pass) {
  auto fits = [](char c) { return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-'; };
  if (pass.name.empty() || pass.name == "until" || !std::all_of(pass.name.begin(), pass.name.end(), fits))
    return {complaint("'" + pass.name + "' cannot name a pass", "small letters, digits and '-'")};
  if (find(pass.name)) return {complaint("a pass is called '" + pass.name + "' already", "another name")};
  passes_.push_back(std::make_shared<const Pass>(std::move(pass)));
  return {};
}

std::shared_ptr<const Pass> PassTable::find(std::string_view name) const {
  for (const auto& p : passes_)
    if (p->name == name) return p;
  return nullptr;
}

std::string pass_name(std::string_view function) {
  if (function.ends_with('_')) function.remove_suffix(1);
  std::string out(function);
  std::replace(out.begin(), out.end(), '_', '-');
  return out;
}

}  // namespace porphyry
