// What flags say after an instruction, compared with a test of its result: where both agree, the test is
// superfluous (machine/reuse_flags.h). Meanings are run on expressions instead of numbers; `result` stands
// for the result, and two flags agree when they have the same expression of it alone.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "book.h"

namespace porphyry::bind {
namespace {

using machine::MeaningKind;
using machine::MeaningStep;
using machine::OperandKind;
using machine::Term;
using machine::TermKind;

// Expressions by number; equal ones have the same.
class Expressions {
 public:
  static constexpr int none = -1;
  struct Node {
    std::string what;  // an operation with its type, a literal, an operand, a flag
    std::array<int, 3> parts{none, none, none};
    auto operator<=>(const Node&) const = default;
  };

  int number(const Node& node) {
    auto [it, is_new] = numbers_.try_emplace(node, static_cast<int>(nodes_.size()));
    if (is_new) nodes_.push_back(node);
    return it->second;
  }
  // What an instruction leaves of itself is unlike all else.
  int unknown() { return number({fmt::format("unknown {}", nodes_.size())}); }
  int result() { return number({"result"}); }

  // The same with `from` replaced by the result. Parts have lower numbers than what they are part of.
  int with_result(int expression, int from) {
    if (expression == none) return none;
    std::vector<int> now;
    for (int k = 0; k <= expression; ++k) {
      Node node = nodes_[static_cast<size_t>(k)];
      for (int& part : node.parts)
        if (part != none) part = now[static_cast<size_t>(part)];
      now.push_back(k == from ? result() : number(node));
    }
    return now.back();
  }
  // Whether it is said of the result and literals alone.
  bool is_of_result(int expression) const {
    std::vector<bool> is;
    for (int k = 0; k <= expression; ++k) {
      const Node& node = nodes_[static_cast<size_t>(k)];
      bool whole = node.parts[0] != none || node.what == "result" || node.what.starts_with("literal ");
      for (int part : node.parts) whole = whole && (part == none || is[static_cast<size_t>(part)]);
      is.push_back(whole);
    }
    return expression != none && is.back();
  }

 private:
  std::vector<Node> nodes_;
  std::map<Node, int> numbers_;
};

// What stands in operands, registers and flags after a form has run.
class After {
 public:
  // With `tested`, all operands are the result.
  After(Expressions& all, const BoundForm& form, bool tested) : all_(all), tested_(tested) {
    for (const MeaningStep& s : form.meaning) step(s);
  }

  int of(TermKind kind, uint8_t index) {
    auto [it, is_new] = known_.try_emplace({kind, index});
    if (is_new)
      it->second = tested_ && kind == TermKind::Operand
                       ? all_.result()
                       : all_.number({fmt::format("place {} {}", static_cast<int>(kind), index)});
    return it->second;
  }
  machine::FlagSet flags_read() const { return flags_read_; }

 private:
  int of(const Term& p) {
    if (p.kind == TermKind::None) return Expressions::none;
    if (p.kind == TermKind::Literal)
      return all_.number({fmt::format("literal {}:{}", p.literal, p.type.name())});
    return of(p.kind, p.index);
  }

  void step(const MeaningStep& s) {
    std::array<int, 3> in;
    for (size_t k = 0; k < 3; ++k) {
      const Term& p = s.arguments[k];
      if (p.kind == TermKind::Flag && !known_.contains({p.kind, p.index}))
        flags_read_ |= machine::FlagSet(1) << p.index;
      in[k] = of(p);
    }
    if (s.to.kind == TermKind::None) return;
    int& to = known_[{s.to.kind, s.to.index}];
    if (s.kind == MeaningKind::Copy || (s.kind == MeaningKind::Compute && s.op == Op::And && in[0] == in[1]))
      to = in[0];
    else if (s.kind == MeaningKind::Compute)
      to = all_.number({fmt::format("{} {}", info(s.op).name, s.arguments[0].type.name()), in});
    else
      to = all_.unknown();
  }

  Expressions& all_;
  bool tested_;
  std::map<std::pair<TermKind, uint8_t>, int> known_;
  machine::FlagSet flags_read_ = 0;
};

bool is_register(const BoundForm& f, size_t k) { return f.operands[k].kind == OperandKind::Register; }

// Reads two registers of one type and leaves nothing but flags.
bool only_compares(const BoundForm& f) {
  return f.operands.size() == 2 && is_register(f, 0) && is_register(f, 1) && !f.operands[0].written &&
         !f.operands[1].written && f.operands[0].type == f.operands[1].type && f.writes_flags &&
         f.writes.empty();
}

}  // namespace

void find_flags_of_results(std::vector<BoundForm>& forms, size_t flag_count) {
  std::map<std::string, std::vector<int>> tests;  // by type: what each flag says of the value tested
  Expressions of_tests;
  for (BoundForm& f : forms) {
    Expressions scratch;
    f.flags_read = After(scratch, f, false).flags_read();
    if (!only_compares(f)) continue;
    After after(of_tests, f, true);
    const std::string type = f.operands[0].type.name();
    int zero = of_tests.number({"literal 0:" + type});
    int is_zero = of_tests.number({"eq " + type, {of_tests.result(), zero, Expressions::none}});
    std::vector<int> said;
    for (uint8_t k = 0; k < flag_count; ++k) said.push_back(after.of(TermKind::Flag, k));
    f.tests = std::find(said.begin(), said.end(), is_zero) != said.end();
    if (f.tests) tests.emplace(type, std::move(said));
  }
  for (BoundForm& f : forms) {
    if (f.operands.empty() || !is_register(f, 0) || !f.operands[0].written || !f.writes_flags) continue;
    auto test = tests.find(f.operands[0].type.name());
    if (test == tests.end()) continue;
    Expressions all = of_tests;
    After after(all, f, false);
    int result = after.of(TermKind::Operand, 0);
    for (uint8_t k = 0; k < flag_count; ++k) {
      int said = test->second[k];
      if (all.is_of_result(said) && all.with_result(after.of(TermKind::Flag, k), result) == said)
        f.flags_as_tested |= machine::FlagSet(1) << k;
    }
  }
}

}  // namespace porphyry::bind
