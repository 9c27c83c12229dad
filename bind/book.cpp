#include "book.h"

#include <algorithm>
#include <tuple>

#include "binder.h"
#include "rules.h"

namespace porphyry::bind {

using machine::FormIndex;
using machine::OperandKind;

// As the text form names them, but lanes are written f64x2: brackets stand for addresses here.
std::optional<Type> type_named(const std::string& word) {
  if (size_t x = word.find('x'); x != word.npos && x > 0) {
    auto element = type_named(word.substr(0, x));
    auto lanes = number(word.substr(x + 1));
    if (!element || !lanes || *lanes < 2 || *lanes > Type::lane_limit) return std::nullopt;
    return element->with_lanes(static_cast<unsigned>(*lanes));
  }
  if (word == "f32") return Type::f32();
  if (word == "f64") return Type::f64();
  if (word == "bool") return Type::boolean();
  if (word.size() < 2 || word[0] != 'i') return std::nullopt;
  auto bits = number(word.substr(1));
  if (!bits || *bits < 1 || *bits > 128) return std::nullopt;
  return Type::integer(static_cast<unsigned>(*bits));
}

void Binder::complain(const Line& line, std::string message, std::string expected) {
  problems_.push_back(about_line(source_, line, std::move(message), std::move(expected)));
}

std::optional<NamedRegister> Binder::register_named(const std::string& name) const {
  auto it = register_names_.find(name);
  return it == register_names_.end() ? std::nullopt : std::optional(it->second);
}

std::vector<uint8_t> Binder::register_list(const Line& line, const WordList& list, size_t from) {
  std::vector<uint8_t> out;
  for (size_t k = from; k < list.size(); ++k) {
    if (auto r = register_named(list[k]))
      out.push_back(r->physical);
    else
      complain(line, "no register is called '" + list[k] + "'", "a register of this book");
  }
  return out;
}

int Binder::class_named(const std::string& name) const {
  for (size_t k = 0; k < book_.classes.size(); ++k)
    if (book_.classes[k].name == name) return static_cast<int>(k);
  return -1;
}

uint8_t Binder::register_count() const {
  uint8_t n = 0;
  for (const BoundClass& c : book_.classes) n = static_cast<uint8_t>(n + c.count);
  return n;
}

Result<BoundBook> Binder::run() {
  std::vector<Entry> entries = gather_entries(source_, problems_);
  book_.forms.resize(machine::first_real_form);
  auto kind = [](const Entry& e) { return words(e.header.text).front(); };
  for (const Entry& e : entries) {
    if (kind(e) == "notion")
      notions_.insert_or_assign(words(e.header.text)[1], e);
    else if (kind(e) == "registers")
      registers(e);
    else if (kind(e) == "encodings")
      encodings(e);
    else
      settings(e);
  }
  for (const Entry& e : entries) {
    if (kind(e) == "convention") convention(e);
    if (kind(e) == "instruction") instruction(e);
  }
  group_forms();
  find_flags_of_results(book_.forms, book_.flags.size());
  for (const Entry& e : entries) {
    if (kind(e) == "upkeep") upkeep(e);
    if (kind(e) == "rule") {
      if (auto rule = RuleReader(*this, e).run()) book_.rules.push_back(std::move(*rule));
    }
  }
  std::stable_sort(problems_.begin(), problems_.end(),
                   [](const Diagnostic& a, const Diagnostic& b) { return a.line < b.line; });
  if (!problems_.empty()) return std::move(problems_);
  sort_rules();  // of a book without mistakes: what a rule writes fits the forms that it names
  return std::move(book_);
}

// As the index wants them, so that it has nothing to sort at run time.
void Binder::sort_rules() {
  uint16_t place = 0;
  for (BoundRule& r : book_.rules) {
    static_cast<machine::RuleFacts&>(r) = facts_of(r, book_.forms);
    r.place = place++;
  }
  auto key = [](const BoundRule& r) {  // rules for constants stay in the order of the book
    return r.matches_constant ? std::tuple(true, uint16_t(0), uint16_t(0), uint16_t(0), r.place)
                              : std::tuple(false, r.root, r.inner, r.cost, r.place);
  };
  std::sort(book_.rules.begin(), book_.rules.end(),
            [&](const BoundRule& a, const BoundRule& b) { return key(a) < key(b); });
}

void Binder::at_most(const Line& line, const char* what, size_t count, size_t most) {
  if (count > most)
    complain(line, "the book has " + std::to_string(count) + " " + what, "at most " + std::to_string(most));
}

void Binder::settings(const Entry& entry) {
  WordList w = words(entry.header.text);
  if (w[0] == "book") {
    book_.name = w.size() > 1 ? w[1] : "";
  } else if (w[0] == "features") {
    book_.features.assign(w.begin() + 1, w.end());
    at_most(entry.header, "features", book_.features.size(), machine::most_features);
  } else if (w[0] == "usual") {
    for (size_t k = 1; k < w.size(); ++k)
      for (size_t f = 0; f < book_.features.size(); ++f)
        if (book_.features[f] == w[k]) book_.usual |= machine::Features(1) << f;
  } else if (w[0] == "flags") {
    book_.flags.assign(w.begin() + 1, w.end());
    at_most(entry.header, "flags", book_.flags.size(), machine::most_flags);
  } else if (w[0] == "address") {
    address(entry.header, w);
  } else if (w[0] == "issue") {
    issue(entry.header, w);
  } else if (w[0] == "units") {
    units(entry.header, w);
  } else if (w[0] == "pointer") {
    layout(entry.header, w);
  } else if (w[0] == "parts" && w.size() == 3 && w[1] == "lower" && number(w[2])) {
    book_.lower_bits = static_cast<uint8_t>(*number(w[2]));
  } else if (w[0] != "convention" && w[0] != "upkeep" && w[0] != "instruction" && w[0] != "rule") {
    complain(entry.header, "'" + w[0] + "' begins no entry",
             "book, pointer, parts, address, registers, issue, units, encodings, convention, upkeep, notion, "
             "instruction or rule");
  }
}

// pointer BITS, layout little|big
void Binder::layout(const Line& line, const WordList& w) {
  auto bits = w.size() > 1 ? number(w[1]) : std::nullopt;
  bool good = w.size() == 5 && (bits == 32 || bits == 64) && (w[4] == "little" || w[4] == "big");
  if (!good) return complain(line, "the layout is not understood", "pointer 32 or 64, layout little or big");
  book_.layout.pointer_bits = static_cast<unsigned>(*bits);
  book_.layout.order = w[4] == "big" ? ByteOrder::Big : ByteOrder::Little;
}

// issue N [within N]
void Binder::issue(const Line& line, const WordList& w) {
  const unsigned issue = count_at(w, 1, 16), window = w.size() == 2 ? 1 : count_at(w, 3, 1000);
  const bool good = issue && window && (w.size() == 2 || (w.size() == 4 && w[2] == "within"));
  if (!good)
    return complain(line, "how many instructions begin in a cycle is not understood",
                    "issue N, up to 16, or issue N within N, up to 1000");
  book_.issue = static_cast<uint8_t>(issue), book_.window = static_cast<uint16_t>(window);
}

// units NAME N, …
void Binder::units(const Line& line, const WordList& w) {
  for (size_t k = 1; k < w.size(); k += 3) {
    const unsigned count = count_at(w, k + 1, 16);
    if (!count || (k + 2 < w.size() && w[k + 2] != ","))
      return complain(line, "the units are not understood",
                      "a name and how many there are, up to 16, for each");
    book_.units.push_back({w[k], static_cast<uint8_t>(count)});
  }
  at_most(line, "units", book_.units.size(), machine::most_units);
}

// address [scale N …,] offset iN[, symbols]
void Binder::address(const Line& line, const WordList& w) {
  for (size_t k = 1; k < w.size(); ++k) {
    if (w[k] == ",") continue;
    if (w[k] == "scale") {
      for (; k + 1 < w.size() && number(w[k + 1]); ++k)
        book_.address.scales.push_back(static_cast<uint8_t>(*number(w[k + 1])));
    } else if (w[k] == "offset" && k + 1 < w.size() && type_named(w[k + 1])) {
      book_.address.offset_bits = static_cast<uint8_t>(type_named(w[++k])->bits());
    } else if (w[k] == "symbols") {
      book_.address.symbols = true;
    } else {
      complain(line, "'" + w[k] + "' is no part of an address", "scale N …, offset iN or symbols");
    }
  }
}

// The steps of encodings: a name, and `operand` or `number` for each word behind it.
void Binder::encodings(const Entry& entry) {
  for (const Line& line : entry.body) {
    WordList w = words(line.text);
    EncodingShape shape{static_cast<uint8_t>(encodings_.size()), {}};
    for (size_t k = 1; k < w.size(); ++k) {
      if (w[k] != "operand" && w[k] != "number")
        complain(line, "'" + w[k] + "' cannot stand in a step of an encoding", "operand or number");
      shape.is_operand.push_back(w[k] == "operand");
    }
    encodings_.emplace(w[0], std::move(shape));
  }
}

// registers general 64: rax …, then lines `as 32: eax … clears`.
void Binder::registers(const Entry& entry) {
  BoundClass c;
  c.first = register_count();
  auto view = [&](const Line& line, machine::Rest rest) {
    WordList w = words(line.text);
    size_t colon = static_cast<size_t>(std::find(w.begin(), w.end(), ":") - w.begin());
    auto bits = colon >= 2 && colon < w.size() ? number(w[colon - 1]) : std::nullopt;
    if (!bits) return complain(line, "the width is missing", "registers CLASS BITS: names");
    if (w.back() == "keeps" || w.back() == "clears") {
      rest = w.back() == "clears" ? machine::Rest::Clears : machine::Rest::Keeps;
      w.pop_back();
    }
    BoundClass::View v{
        static_cast<uint8_t>(*bits), rest, {w.begin() + static_cast<ptrdiff_t>(colon) + 1, w.end()}};
    for (size_t k = 0; k < v.names.size(); ++k)
      register_names_[v.names[k]] = {static_cast<uint8_t>(c.first + k), static_cast<uint8_t>(*bits)};
    c.views.push_back(std::move(v));
  };
  view(entry.header, machine::Rest::Keeps);
  for (const Line& line : entry.body) view(line, machine::Rest::Keeps);
  if (c.views.empty()) return;
  c.name = words(entry.header.text)[1];
  c.bits = c.views[0].bits;
  at_most(entry.header, "registers", c.first + c.views[0].names.size(), machine::RegisterSet::capacity);
  c.count = static_cast<uint8_t>(c.views[0].names.size());
  for (auto& v : c.views)
    if (v.names.size() != c.count)
      complain(entry.header, "a width names " + std::to_string(v.names.size()) + " registers",
               std::to_string(c.count));
  book_.classes.push_back(std::move(c));
}

void Binder::convention(const Entry& entry) {
  BoundConvention& c = book_.convention;
  c.name = words(entry.header.text)[1];
  for (const Line& line : entry.body) {
    WordList w = words(line.text);
    bool results = w.size() > 1 && w[1] == "results";
    if (w[0] == "whole" && results)
      c.whole_results = register_list(line, w, 2);
    else if (w[0] == "float" && results)
      c.float_results = register_list(line, w, 2);
    else if (w[0] == "whole")
      c.whole = register_list(line, w, 1);
    else if (w[0] == "floats")
      c.floats = register_list(line, w, 1);
    else if (w[0] == "kept")
      for (uint8_t r : register_list(line, w, 1)) c.kept.add(r);
    else if (w[0] == "scratch")
      c.scratch = register_named(w[1]).value_or(NamedRegister{}).physical;
    else if (w[0] == "reserved")
      for (uint8_t r : register_list(line, w, 1)) c.reserved.add(r);
    else if (w[0] == "return" && w.size() == 3 && w[1] == "address")
      c.return_address = static_cast<int8_t>(register_named(w[2]).value_or(NamedRegister{}).physical);
    else if (w[0] == "far" && w.size() == 2)
      c.far = static_cast<int8_t>(register_named(w[1]).value_or(NamedRegister{}).physical);
    else if (w[0] == "variadic" && w[1] == "count")
      c.float_count = static_cast<int8_t>(register_named(w[2]).value_or(NamedRegister{}).physical);
    else if (w[0] == "stack" && w.size() == 4) {
      c.stack = register_named(w[1]).value_or(NamedRegister{}).physical;
      c.stack_align = static_cast<uint8_t>(number(w[3]).value_or(16));
    } else
      complain(line, "a convention does not say this",
               "whole, floats, whole results, float results, kept, reserved, scratch, variadic count, return "
               "address, far or stack");
  }
  c.reserved.add(c.stack);
  for (int8_t r : {c.return_address, c.far})
    if (r >= 0) c.reserved.add(static_cast<unsigned>(r));
}

// The forms that the machine layer itself uses: `move CLASS BITS`, `spill CLASS BITS`, `shorter half` or
// `whole` (literal, clear, address, sum, more, less, ones), and single ones.
void Binder::upkeep(const Entry& entry) {
  const Wanted g{OperandKind::Register, 0}, n{OperandKind::Literal}, b{OperandKind::Label},
      s{OperandKind::Symbol}, m{OperandKind::Memory};
  struct Row {
    const char *words, *field;
    std::vector<Wanted> operands;
  };
  const Row rows[] = {{"literal", "move_literal", {g, n}},
                      {"add", "add", {g, g, g}},
                      {"jump", "jump", {b}},
                      {"call", "call", {s}},
                      {"call through", "call_through", {g}},
                      {"jump through", "jump_through", {g}},
                      {"nothing", "nothing", {}},
                      {"return", "return_values", {}}};
  for (const Line& line : entry.body) {
    size_t colon = line.text.find(':');
    const std::string key = line.text.substr(0, colon);
    const WordList names = colon == std::string::npos ? WordList() : words(line.text.substr(colon + 1));
    auto form = [&](const std::vector<Wanted>& operands, size_t which = 0) {
      const std::string name = names.empty() ? "" : names[std::min(which, names.size() - 1)];
      FormIndex f = find_form(name, operands);
      if (f == 0)
        complain(line, "'" + name + "' has no form for this", "an instruction with fitting operands");
      return f;
    };
    WordList k = words(key);
    int of_class = k.size() == 3 ? class_named(k[1]) : -1;
    if ((k[0] == "move" || k[0] == "spill") && of_class >= 0 && number(k[2])) {
      const Wanted r{OperandKind::Register, of_class};
      auto c = static_cast<uint8_t>(of_class), bits = static_cast<uint8_t>(*number(k[2]));
      if (k[0] == "move")
        book_.upkeep.moves.push_back({c, bits, form({r, r})});
      else
        book_.upkeep.spills.push_back({c, bits, form({m, r}), form({r, m}, 1)});
      continue;
    }
    if (k[0] == "shorter" && k.size() == 2 && (k[1] == "half" || k[1] == "whole")) {
      const Wanted a{OperandKind::Address};
      const std::pair<const char*, std::vector<Wanted>> wanted[] = {
          {"literal", {g, n}}, {"clear", {g, g}}, {"address", {g, a}}, {"sum", {g, g}},
          {"more", {g}},       {"less", {g}},     {"ones", {g, n}}};
      for (size_t w = 0; w < std::size(wanted); ++w)
        book_.upkeep.forms.push_back({k[1] + "." + wanted[w].first, form(wanted[w].second, w)});
      book_.upkeep.forms.push_back({k[1] + ".sum_literal", form({g, n}, 3)});
      continue;
    }
    if (key == "longer") {
      for (uint8_t r : register_list(line, names, 0)) book_.upkeep.longer.add(r);
      continue;
    }
    auto row = std::find_if(std::begin(rows), std::end(rows), [&](const Row& r) { return key == r.words; });
    if (row == std::end(rows))
      complain(
          line, "no upkeep is called '" + key + "'",
          "move CLASS BITS, spill CLASS BITS, shorter half, shorter whole, longer, literal, add, jump, jump "
          "through, call, call through, nothing or return");
    else
      book_.upkeep.forms.push_back({row->field, form(row->operands)});
  }
}

FormIndex Binder::find_form(const std::string& name, const std::vector<Wanted>& wanted) const {
  auto forms = by_name_.find(name);
  if (forms == by_name_.end()) return 0;
  FormIndex best = 0;
  for (FormIndex f : forms->second) {
    const BoundForm& form = book_.forms[f];
    bool fits = form.operands.size() == wanted.size();
    for (size_t k = 0; fits && k < wanted.size(); ++k) {
      const machine::FormOperand& o = form.operands[k];
      const Wanted& w = wanted[k];
      bool memory = w.kind == OperandKind::Memory && o.kind == OperandKind::Address;  // both are written [m]
      fits =
          (o.kind == w.kind || memory) &&
          (w.register_class < 0 || o.kind != OperandKind::Register || o.register_class == w.register_class) &&
          (o.only < 0 || o.only == w.physical);
    }
    if (fits) best = f;
  }
  return best;
}

// Forms of one name whose operands differ only in literal sizes and in `only`: tried in the order of the
// book.
void Binder::group_forms() {
  for (FormIndex f = machine::first_real_form; f < book_.forms.size(); ++f)
    by_name_[book_.forms[f].name].push_back(f);
  for (const auto& [name, forms] : by_name_) {
    for (size_t k = 0; k < forms.size(); ++k) {
      BoundForm& form = book_.forms[forms[k]];
      if (form.first_in_group == 0) form.first_in_group = forms[k];
      for (size_t j = k + 1; j < forms.size() && form.next_in_group == 0; ++j) {
        BoundForm& other = book_.forms[forms[j]];
        bool same = form.operands.size() == other.operands.size();
        for (size_t o = 0; same && o < form.operands.size(); ++o)
          same = form.operands[o].kind == other.operands[o].kind &&
                 form.operands[o].register_class == other.operands[o].register_class;
        if (!same) continue;
        form.next_in_group = forms[j];
        other.first_in_group = form.first_in_group;
      }
    }
  }
  for (BoundForm& form : book_.forms)
    if (!form.opposite_name.empty()) {
      std::vector<Wanted> operands;
      for (const machine::FormOperand& o : form.operands)
        operands.push_back({o.kind, o.kind == OperandKind::Register ? o.register_class : -1});
      form.opposite = find_form(form.opposite_name, operands);
    }
}

Result<BoundBook> read_book(const SourceText& source) { return Binder(source).run(); }

}  // namespace porphyry::bind
