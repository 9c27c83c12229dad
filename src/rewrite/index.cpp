// The index of rules: each rule in every order of its operands, in a tree over operations.
//
// A pattern is written as a word, outside in: the root's operation, then for each operand `any`, `constant`,
// or an operation followed by its own operands. Words that begin alike share junctions; looking up an
// instruction walks all words that it may have, so only rules whose operations all fit are seen at all.
#include "index.h"

#include <map>

#include "porphyry/ir/relatives.h"

namespace porphyry::rewrite {
namespace {

class Indexer {
 public:
  explicit Indexer(RuleBook& book) : book_(book), junctions_(operation_count) {}

  void run() {
    for (uint16_t rule = 0; rule < book_.rules.size(); ++rule)
      for (uint16_t pattern : orders(book_.rules[rule].pattern)) {
        std::vector<Step> word;
        spell(pattern, word);
        junctions_[place(word)].entries.push_back({rule, pattern});
      }
    write();
  }

 private:
  struct Step {
    enum Kind { Operation, Constant, Any } kind;
    Op op;
  };
  struct Growing {
    std::map<Op, uint16_t> branches;
    uint16_t constant = no_term, any = no_term;
    std::vector<Entry> entries;
  };

  bool is_constant(uint16_t term) const {
    TermKind k = book_.terms[term].kind;
    return k == TermKind::Constant || k == TermKind::Literal;
  }

  // The same pattern with operands exchanged wherever that means the same. Constants stand on the right in
  // what is matched, so nothing is exchanged with one.
  std::vector<uint16_t> orders(uint16_t term) {
    const Term t = book_.terms[term];
    if (t.kind != TermKind::Operation) return {term};
    std::vector<std::vector<uint16_t>> choices;
    for (unsigned k = 0; k < t.operand_count; ++k) choices.push_back(orders(t.operands[k]));
    std::vector<uint16_t> out;
    bool first = true;
    auto with = [&](const Term& changed) {
      if (std::exchange(first, false)) return out.push_back(term);
      book_.terms.push_back(changed);
      out.push_back(static_cast<uint16_t>(book_.terms.size() - 1));
    };
    std::vector<size_t> at(choices.size());
    for (bool more = true; more;) {
      Term one = t;
      for (size_t k = 0; k < at.size(); ++k) one.operands[k] = choices[k][at[k]];
      with(one);
      if (t.operand_count == 2 && worth_exchanging(t)) {
        std::swap(one.operands[0], one.operands[1]);
        if (!info(t.op).commutes()) one.op = relatives_of(t.op)->mirrored;
        with(one);
      }
      more = false;
      for (size_t k = 0; k < at.size() && !more; ++k) {
        if (++at[k] < choices[k].size())
          more = true;
        else
          at[k] = 0;
      }
    }
    return out;
  }
  bool worth_exchanging(const Term& t) const {
    if (!info(t.op).commutes() && !relatives_of(t.op)) return false;
    if (is_constant(t.operands[0]) || is_constant(t.operands[1])) return false;
    const Term &a = book_.terms[t.operands[0]], &b = book_.terms[t.operands[1]];
    return !(a.kind == TermKind::Value && b.kind == TermKind::Value && a.binding == b.binding);
  }

  void spell(uint16_t term, std::vector<Step>& word) const {
    const Term& t = book_.terms[term];
    if (t.kind == TermKind::Operation) {
      word.push_back({Step::Operation, t.op});
      for (unsigned k = 0; k < t.operand_count; ++k) spell(t.operands[k], word);
    } else {
      word.push_back({is_constant(term) ? Step::Constant : Step::Any, Op::Add});
    }
  }

  size_t place(const std::vector<Step>& word) {
    size_t at = static_cast<size_t>(word[0].op);
    for (size_t k = 1; k < word.size(); ++k) {
      auto next = [&]() -> uint16_t& {
        if (word[k].kind == Step::Constant) return junctions_[at].constant;
        if (word[k].kind == Step::Any) return junctions_[at].any;
        return junctions_[at].branches.try_emplace(word[k].op, no_term).first->second;
      };
      if (next() == no_term) {
        auto made = static_cast<uint16_t>(junctions_.size());
        next() = made;
        junctions_.emplace_back();
      }
      at = next();
    }
    return at;
  }

  void write() {
    for (const Growing& g : junctions_) {
      Junction j{static_cast<uint16_t>(book_.branches.size()),
                 static_cast<uint16_t>(g.branches.size()),
                 g.constant,
                 g.any,
                 static_cast<uint16_t>(book_.entries.size()),
                 static_cast<uint16_t>(g.entries.size())};
      for (auto [op, to] : g.branches) book_.branches.push_back({op, to});
      book_.entries.insert(book_.entries.end(), g.entries.begin(), g.entries.end());
      book_.junctions.push_back(j);
    }
  }

  RuleBook& book_;
  std::vector<Growing> junctions_;
};

}  // namespace

void add_index(RuleBook& book) { Indexer(book).run(); }

}  // namespace porphyry::rewrite
