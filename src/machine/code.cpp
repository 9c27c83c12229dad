#include "porphyry/machine/code.h"

#include <algorithm>
#include <tuple>

namespace porphyry::machine {

unsigned Target::class_of(unsigned physical) const {
  for (size_t k = 0; k < classes.size(); ++k)
    if (physical >= classes[k].first && physical < classes[k].first + classes[k].count)
      return static_cast<unsigned>(k);
  return 0;
}

std::string_view Target::register_name(unsigned physical, unsigned bits) const {
  const RegisterClass& c = classes[class_of(physical)];
  for (size_t k = c.views.size(); k-- > 0;)  // the narrowest view that is wide enough
    if (c.views[k].bits >= bits) return c.views[k].names[physical - c.first];
  return c.views[0].names[physical - c.first];
}

FormIndex Target::find(std::string_view wanted) const {
  for (size_t k = first_real_form; k < forms.size(); ++k)
    if (forms[k].name == wanted) return static_cast<FormIndex>(k);
  return 0;
}

FormIndex Target::find(std::string_view wanted, std::initializer_list<OperandKind> operands) const {
  FormIndex best = 0;
  for (size_t k = first_real_form; k < forms.size(); ++k) {
    if (forms[k].name != wanted) continue;
    auto same = [](const FormOperand& o, OperandKind kind) { return o.kind == kind && o.only < 0; };
    if (std::equal(forms[k].operands.begin(), forms[k].operands.end(), operands.begin(), operands.end(),
                   same))
      best = static_cast<FormIndex>(k);
  }
  return best;
}

std::vector<std::string> Target::missing_upkeep() const {
  std::vector<std::string> out;
  for (unsigned c = 0; c < classes.size(); ++c) {
    const std::string named = std::string(classes[c].name) + " " + std::to_string(classes[c].bits);
    auto of_class = [c](const auto& row) { return row.register_class == c; };
    if (std::ranges::none_of(upkeep.moves, of_class)) out.push_back("move " + named);
    if (std::ranges::none_of(upkeep.spills, of_class)) out.push_back("spill " + named);
  }
  const std::tuple<const char*, FormIndex, bool> single[] = {
      {"jump", upkeep.jump, true},
      {"jump through", upkeep.jump_through, true},
      {"call", upkeep.call, true},
      {"call through", upkeep.call_through, true},
      {"return", upkeep.return_values, true},
      {"literal", upkeep.move_literal, convention.float_count >= 0},
      {"add", upkeep.add, convention.far >= 0}};
  for (auto [name, form, needed] : single)
    if (needed && form == 0) out.push_back(name);
  return out;
}

FormIndex Target::move_form(unsigned register_class, unsigned bits) const {
  FormIndex form = 0;
  for (const MoveForm& m : upkeep.moves)
    if (m.register_class == register_class) {
      form = m.form;
      if (m.bits >= bits) break;
    }
  return form;
}

const SpillForm& Target::spill_form(unsigned register_class, unsigned bits) const {
  const SpillForm* form = &upkeep.spills.front();
  for (const SpillForm& s : upkeep.spills)
    if (s.register_class == register_class) {
      form = &s;
      if (s.bits >= bits) break;
    }
  return *form;
}

void put_entry(const PoolEntry& e, ByteOrder order, uint8_t* to) {
  const Type element = e.type.has_lanes() ? e.type.element() : Type::integer(8u * e.bytes);
  const Bits all = Bits(e.high) << 64 | e.bits;
  for (unsigned at = 0; at < e.bytes; at += element.bytes()) {
    Bits lane = all >> (8 * at);
    const uint64_t words[] = {static_cast<uint64_t>(lane), static_cast<uint64_t>(lane >> 64)};
    put_value(element, words, order, to + at);
  }
}

void write_again(Code& f, std::span<const LineCopy> copies, std::span<const uint8_t> gone) {
  CodeRows<CodeLine> code(f.code.get_allocator());
  code.reserve(f.code.size() + copies.size());
  auto next = copies.begin();
  for (CodeBlock& b : f.blocks) {
    const auto first = static_cast<uint32_t>(code.size());
    for (uint32_t k = b.first; k < b.first + b.count; ++k) {
      for (; next != copies.end() && next->before == k; ++next) code.push_back(f.code[next->line]);
      if (gone.empty() || !gone[k]) code.push_back(f.code[k]);
    }
    b.first = first, b.count = static_cast<uint32_t>(code.size()) - first;
  }
  f.code = std::move(code);
}

}  // namespace porphyry::machine
