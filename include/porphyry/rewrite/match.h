// Rules at work on a function.
//
//   Matcher matcher(f, table);
//   if (auto m = matcher.match(i)) matcher.apply(i, *m);
#pragma once

#include <array>

#include "porphyry/analyze/number.h"
#include "porphyry/rewrite/rule.h"

namespace porphyry::rewrite {

class Matcher {
 public:
  // Both must outlive this.
  Matcher(Function& f, const RuleTable& table) : f_(f), table_(table) {}

  struct Match {
    const Rule* rule;
    Value values[most_bindings];  // by binding
    Type types[most_types];       // by class; those that the pattern gives
  };
  // The first rule of the table that fits. The instruction's block must be reachable: elsewhere a value may
  // be made of itself, and no measure falls. O(operations that patterns look at), and the conditions of the
  // rules whose operations all fit.
  std::optional<Match> match(Instruction i);

  // Writes the replacement in front of the instruction and redirects uses to it. The instruction stays where
  // it has an effect. New instructions have its position, and the permits that all that was matched have in
  // common.
  struct Applied {
    Value results[2];  // nothing for one that was unused
  };
  Applied apply(Instruction i, const Match& m);
  // Instructions that the last call of `apply` wrote, in order.
  std::span<const Instruction> written() const { return written_; }

 private:
  struct Constant;
  void look(uint16_t junction, std::vector<Value>& pending);
  bool fits(uint16_t term, Value v, Match& m) const;
  bool pays(uint16_t pattern, Instruction i, const Match& m) const;
  bool related(const Match& m) const;
  bool computable(const Rule& r, const Match& m) const;
  bool computable(uint16_t term, const Match& m) const;
  bool fits_operation(const Term& t, Instruction i, Match& m) const;
  bool holds(const Condition& c, Instruction i, Match& m) const;
  Type type_of(const Rule& r, uint8_t type, const Match& m) const;
  std::optional<Bits> scalar(uint16_t term, const Match& m) const;
  std::optional<Constant> constant(uint16_t term, const Match& m) const;
  const Number& number(Value v) const;
  Number number(uint16_t term, const Match& m) const;
  Value value(uint16_t term, Instruction before, const Match& m);
  uint8_t permits_in_common(uint16_t term, Instruction i) const;

  Function& f_;
  const RuleTable& table_;
  std::vector<uint16_t> found_;  // entries of the instruction at hand
  std::vector<Value> pending_;
  std::vector<Instruction> written_;
  // Numbers that conditions on the instruction at hand asked for.
  struct Asked {
    Value value;
    Number number;
  };
  mutable std::array<Asked, 4> asked_{};
  mutable unsigned asked_count_ = 0;
  uint8_t permits_ = 0;
};

}  // namespace porphyry::rewrite
