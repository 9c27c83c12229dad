// What flags say after an instruction, compared with a test of its result: where both agree, the test is
// superfluous (machine/reuse_flags.h). Meanings are run on expressions instead of numbers; `$` stands for the
// result, and two flags agree when they have the same expression of it alone.
#include <fmt/format.h>

#include <algorithm>

#include "book.h"

namespace porphyry::bind {
namespace {

using machine::MeaningKind;
using machine::MeaningStep;
using machine::OperandKind;
using machine::Place;
using machine::PlaceKind;

class Expressions {
 public:
  // With `tested`, all operands are the result.
  Expressions(const BoundForm& form, bool tested) : tested_(tested) {
    for (const MeaningStep& s : form.meaning) step(s);
  }

  std::string of(PlaceKind kind, uint8_t index) {
    auto [it, is_new] = known_.try_emplace({kind, index});
    if (is_new)
      it->second = tested_ && kind == PlaceKind::Operand ? "$" : fmt::format("<{} {}>", int(kind), index);
    return it->second;
  }
  uint8_t flags_read() const { return flags_read_; }

 private:
  std::string of(const Place& p) {
    if (p.kind == PlaceKind::None) return "";
    if (p.kind == PlaceKind::Literal) return fmt::format("{}:{}", p.literal, p.type.name());
    return of(p.kind, p.index);
  }

  void step(const MeaningStep& s) {
    std::string in[3];
    for (size_t k = 0; k < 3; ++k) {
      const Place& p = s.arguments[k];
      if (p.kind == PlaceKind::Flag && !known_.contains({p.kind, p.index}))
        flags_read_ |= static_cast<uint8_t>(1u << p.index);
      in[k] = of(p);
    }
    if (s.to.kind == PlaceKind::None) return;
    std::string& to = known_[{s.to.kind, s.to.index}];
    if (s.kind == MeaningKind::Copy)
      to = in[0];
    else if (s.kind != MeaningKind::Compute)
      to = fmt::format("<open {}>", ++opened_);
    else if (s.op == Op::And && in[0] == in[1])
      to = in[0];
    else
      to = fmt::format("({} {}:{} {} {})", info(s.op).name, in[0], s.arguments[0].type.name(), in[1], in[2]);
  }

  bool tested_;
  std::map<std::pair<PlaceKind, uint8_t>, std::string> known_;
  unsigned opened_ = 0;
  uint8_t flags_read_ = 0;
};

std::string with_result(std::string text, const std::string& result) {
  for (size_t at; (at = text.find(result)) != text.npos;) text.replace(at, result.size(), "$");
  return text;
}

bool is_register(const BoundForm& f, size_t k) { return f.operands[k].kind == OperandKind::Register; }

// Reads two registers of one type and leaves nothing but flags.
bool only_compares(const BoundForm& f, machine::RegisterMask flags) {
  return f.operands.size() == 2 && is_register(f, 0) && is_register(f, 1) && !f.operands[0].written &&
         !f.operands[1].written && f.operands[0].type == f.operands[1].type && f.writes == flags;
}

}  // namespace

void find_flags_of_results(std::vector<BoundForm>& forms, size_t flag_count, machine::RegisterMask flags) {
  std::map<std::string, std::vector<std::string>> tests;  // by type: what each flag says of the value tested
  for (BoundForm& f : forms) {
    f.flags_read = Expressions(f, false).flags_read();
    if (!only_compares(f, flags)) continue;
    Expressions e(f, true);
    std::vector<std::string> said;
    for (uint8_t k = 0; k < flag_count; ++k) said.push_back(e.of(PlaceKind::Flag, k));
    const std::string type = f.operands[0].type.name();
    f.tests = std::find(said.begin(), said.end(), fmt::format("(eq $:{} 0:{} )", type, type)) != said.end();
    if (f.tests) tests.emplace(type, std::move(said));
  }
  for (BoundForm& f : forms) {
    if (f.operands.empty() || !is_register(f, 0) || !f.operands[0].written || !(f.writes & flags)) continue;
    auto test = tests.find(f.operands[0].type.name());
    if (test == tests.end()) continue;
    Expressions e(f, false);
    std::string result = e.of(PlaceKind::Operand, 0);
    for (uint8_t k = 0; k < flag_count; ++k) {
      const std::string& said = test->second[k];
      if (said.find('<') == said.npos && with_result(e.of(PlaceKind::Flag, k), result) == said)
        f.flags_as_tested |= static_cast<uint8_t>(1u << k);
    }
  }
}

}  // namespace porphyry::bind
