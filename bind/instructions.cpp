// Entries `instruction`: operands, encoding and meaning of each form.
#include <algorithm>

#include "binder.h"
#include "meaning.h"

namespace porphyry::bind {

using machine::EncodingStep;
using machine::FormOperand;
using machine::OperandKind;

namespace {

// A spelling with the bytes 1, 2, … in the place of operands' names.
std::string numbered(const std::string& spelled, const std::vector<std::string>& names) {
  size_t space = spelled.find(' ');
  std::string out = spelled.substr(0, space), word;
  if (space == std::string::npos) return out;
  for (char c : spelled.substr(space) + " ") {
    if (std::isalnum(static_cast<unsigned char>(c))) {
      word += c;
      continue;
    }
    auto at = std::find(names.begin(), names.end(), word);
    out += at == names.end() ? word : std::string(1, static_cast<char>(1 + (at - names.begin())));
    out += c;
    word.clear();
  }
  out.pop_back();
  return out;
}

// The words of an operand behind its name, one after the other.
struct OperandWords {
  const Words& w;
  size_t& at;
  std::string next() { return at < w.size() ? w[at++] : std::string(); }
  bool accept(const char* word) { return at < w.size() && w[at] == word ? (++at, true) : false; }
  Type type() {
    std::string word = next();
    auto t = type_named(word);
    return t ? *t : type_named("i" + word).value_or(Type());
  }
};

// literal BITS [for BITS], BITS with a `u` for one without sign
void literal_operand(OperandWords& in, FormOperand& o) {
  std::string bits = in.next();
  o.kind = OperandKind::Literal;
  o.literal_unsigned = bits.ends_with("u");
  if (o.literal_unsigned) bits.pop_back();
  o.literal_bits = static_cast<uint8_t>(number(bits).value_or(0));
  o.type = type_named("i" + bits).value_or(Type());
  if (in.accept("for")) o.type = in.type();
}

}  // namespace

void Binder::instruction(const Entry& entry) {
  WordList head = words(entry.header.text);
  BoundForm shared;
  shared.name = head.size() > 1 ? head[1] : "";
  std::string spelled;
  std::vector<Line> forms, means;
  bool in_means = false;
  for (const Line& line : entry.body) {
    WordList w = words(line.text);
    in_means = in_means && line.indent > entry.body.front().indent;
    if (in_means)
      means.push_back(line);
    else if (w[0] == "form")
      forms.push_back(line);
    else if (w[0] == "spelled")
      spelled = after_first_word(line.text);
    else if (w[0] == "means")
      in_means = true;
    else if (w[0] == "opposite" && w.size() == 2)
      shared.opposite_name = w[1];
    else if (w[0] == "needs" && w.size() == 2) {
      auto f = std::find(book_.features.begin(), book_.features.end(), w[1]);
      if (f == book_.features.end())
        complain(line, "no feature is called '" + w[1] + "'", listed(book_.features));
      else
        shared.needs |= machine::Features(1) << (f - book_.features.begin());
    } else if (w[0] == "cost" && w.size() >= 4 && w[2] == "latency") {
      cost(line, w, shared);
    } else
      complain(line, "an instruction does not say this",
               "form, spelled, means, needs, opposite or cost N latency N");
  }
  if (forms.empty() || spelled.empty())
    complain(entry.header, "the instruction is not complete", "form and spelled lines");
  for (const Line& line : forms) {
    BoundForm f = shared;
    if (!form(line, f)) continue;
    f.spelling = numbered(spelled, f.operand_names);
    meaning(entry.header, means, f);
    book_.forms.push_back(std::move(f));
  }
}

// cost N latency N [on UNIT [for N]]
void Binder::cost(const Line& line, const WordList& w, BoundForm& form) {
  form.cost = static_cast<uint16_t>(number(w[1]).value_or(10));
  form.latency = static_cast<uint8_t>(number(w[3]).value_or(1));
  if (w.size() == 4) return;
  const unsigned busy = w.size() == 6 ? 1 : count_at(w, 7, 255);
  const bool good = busy && w[4] == "on" && (w.size() == 6 || (w.size() == 8 && w[6] == "for"));
  if (!good)
    return complain(line, "what the instruction holds is not understood",
                    "on UNIT, or on UNIT for N, of cycles");
  auto unit = std::find_if(book_.units.begin(), book_.units.end(),
                           [&](const BoundUnit& u) { return u.name == w[5]; });
  if (unit == book_.units.end()) {
    std::vector<std::string> names;
    for (const BoundUnit& u : book_.units) names.push_back(u.name);
    return complain(line, "no unit is called '" + w[5] + "'", listed(names));
  }
  form.unit = static_cast<uint8_t>(unit - book_.units.begin());
  form.busy = static_cast<uint8_t>(busy);
}

bool Binder::form(const Line& line, BoundForm& form) {
  WordList w = words(line.text);
  auto unless = std::find(w.begin(), w.end(), "unless");
  if (unless != w.end()) {  // unless A = B
    if (w.end() - unless == 4 && unless[1] == unless[3]) return false;
    w.erase(unless, w.end());
  }
  size_t at = 1;
  while (at + 1 < w.size() && w[at + 1] == ":") {
    if (!operand(line, w, at, form)) return false;
    if (at + 2 < w.size() && w[at] == "," && w[at + 2] == ":") ++at;
  }
  return encoding(line, w, at, form);
}

// d: general 32 [clears|merges] · only REGISTER BITS · memory TYPE [aligned] · literal BITS [for BITS] ·
// exactly N · label, symbol [BITS [of BYTES]]
bool Binder::operand(const Line& line, const WordList& w, size_t& at, BoundForm& form) {
  FormOperand o{};
  std::string name = w[at];
  at += 2;
  OperandWords in{w, at};
  std::string kind = in.next();
  if (int c = class_named(kind); c >= 0) {
    o.kind = OperandKind::Register;
    o.register_class = static_cast<uint8_t>(c);
    o.type = in.type();
    o.clears = in.accept("clears");
    o.read = !o.clears && in.accept("merges");
  } else if (kind == "only") {
    auto r = register_named(in.next());
    o.kind = OperandKind::Register;
    o.only = r ? static_cast<int8_t>(r->physical) : 0;
    for (size_t c = 0; r && c < book_.classes.size(); ++c)
      if (r->physical >= book_.classes[c].first) o.register_class = static_cast<uint8_t>(c);
    o.type = in.type();
  } else if (kind == "memory") {
    o.kind = OperandKind::Memory;
    o.type = in.type();
    o.aligned = in.accept("aligned");
  } else if (kind == "address") {
    o.kind = OperandKind::Address;
    o.type = address_type();
  } else if (kind == "literal") {
    literal_operand(in, o);
  } else if (kind == "exactly") {
    o.kind = OperandKind::Literal;
    o.literal_bits = 8;
    o.literal_unsigned = true;
    o.only = static_cast<int8_t>(number(in.next()).value_or(0));
    o.type = Type::integer(8);
  } else if (kind == "label" || kind == "symbol") {
    o.kind = kind == "label" ? OperandKind::Label : OperandKind::Symbol;
    bool bits_given = at < w.size() && number(w[at]);
    o.literal_bits = bits_given ? static_cast<uint8_t>(*number(in.next())) : 32;
    if (in.accept("of")) o.unit = static_cast<uint8_t>(number(in.next()).value_or(1));
    o.type = address_type();
    form.is_jump = kind == "label";
  }
  if (!o.type.exists()) {
    complain(line, "the operand '" + name + "' is not understood",
             "a register class and width, only, memory, literal, exactly, address, label or symbol");
    return false;
  }
  form.operand_names.push_back(name);
  form.operands.push_back(o);
  return true;
}

bool Binder::encoding(const Line& line, const WordList& w, size_t at, BoundForm& form) {
  std::vector<std::string> names;
  for (const auto& [name, shape] : encodings_) names.push_back(name);
  while (at < w.size()) {
    auto kind = encodings_.find(w[at]);
    if (kind == encodings_.end())
      return complain(line, "'" + w[at] + "' is no step of an encoding", listed(names)), false;
    ++at;
    EncodingStep step{kind->second.kind};
    for (bool is_operand : kind->second.is_operand) {
      std::string word = at < w.size() ? w[at++] : "";
      if (!is_operand) {
        auto n = number(word);
        if (!n) return complain(line, "'" + word + "' is not a number", "a number"), false;
        step.value = static_cast<uint8_t>(*n);
        continue;
      }
      auto o = std::find(form.operand_names.begin(), form.operand_names.end(), word);
      if (o == form.operand_names.end())
        return complain(line, "'" + word + "' is no operand of this form", listed(form.operand_names)), false;
      (step.a < 0 ? step.a : step.b) = static_cast<int8_t>(o - form.operand_names.begin());
    }
    form.encoding.push_back(step);
    if (at < w.size() && w[at] == ",") ++at;
  }
  return true;
}

void Binder::meaning(const Line& where, const std::vector<Line>& lines, BoundForm& form) {
  MeaningReader(*this, where, form).run(lines);
}

}  // namespace porphyry::bind
