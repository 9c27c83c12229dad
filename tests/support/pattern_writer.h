// A rule's pattern as a function.
#pragma once

#include <algorithm>
#include <bit>
#include <cmath>
#include <optional>
#include <random>

#include "porphyry/analyze/verify.h"
#include "porphyry/ir/compute.h"
#include "porphyry/ir/pen.h"
#include "porphyry/rewrite/rule.h"
#include "support/rule_types.h"

namespace porphyry::testing {

using rewrite::no_term;
using rewrite::none;
using rewrite::Rule;
using rewrite::RuleTable;
using rewrite::Term;
using rewrite::TermKind;

// Writes a rule's pattern into a function, on parameters and random constants.
class PatternWriter {
 public:
  PatternWriter(const RuleTable& table, const Rule& rule, const std::vector<Type>& types,
                std::mt19937_64& random)
      : table_(table), rule_(rule), types_(types), random_(random) {}

  Module& module() { return module_; }
  Function& function() { return *function_; }

  bool write() {
    Signature signature;
    inputs(rule_.pattern, signature);
    const Term& root = table_.terms[rule_.pattern];
    Type results[2];
    std::vector<Type> operands;
    for (unsigned k = 0; k < root.operand_count; ++k)
      operands.push_back(types_[table_.terms[root.operands[k]].type]);
    unsigned count = result_types(root.op, operands, types_[root.type], results);
    for (unsigned k = 0; k < count; ++k)
      if (rule_.becomes[k] != no_term || count == 1) signature.results.push_back(results[k]);
    Symbol s = module_.add_function("f", signature);
    function_ = &module_.function(s);
    Block b = function_->add_block();
    pen_.emplace(module_, *function_);
    pen_->at_end(b);
    for (size_t k = 0; k < parameters_.size(); ++k) values_[parameters_[k]] = function_->parameters()[k];
    Instruction root_instruction = instruction(rule_.pattern);
    std::vector<Value> out;
    for (unsigned k = 0; k < count; ++k)
      if (rule_.becomes[k] != no_term || count == 1) out.push_back(function_->result(root_instruction, k));
    pen_->return_values(out);
    return verify(module_).empty();
  }

 private:
  void inputs(uint16_t term, Signature& signature) {
    const Term& t = table_.terms[term];
    if (t.kind == TermKind::Value &&
        std::find(parameters_.begin(), parameters_.end(), t.binding) == parameters_.end()) {
      parameters_.push_back(t.binding);
      signature.parameters.push_back(types_[t.type]);
    }
    for (unsigned k = 0; k < t.operand_count; ++k) inputs(t.operands[k], signature);
  }
  Bits random_bits(Type t) {
    Bits r = Bits(random_()) << 64 | random_();
    switch (random_() % 6) {
      case 0: r = r % 9; break;
      case 1: r = -(r % 5); break;
      case 2: r = Bits(1) << (r % t.bits()); break;
      case 3: r = mask_of(static_cast<unsigned>(r % t.bits()) + 1); break;
      case 4: r = r % (t.bits() + 1); break;
      default: break;
    }
    if (t.is_float()) {
      double small[] = {0.0, -0.0, 1.0, -1.0, 2.0, 4.0, 0.5, INFINITY};
      double d = small[random_() % 8];
      Bits wide = std::bit_cast<uint64_t>(d);
      r = t.bits() == 64 ? wide : compute(Op::Narrow, Type::f64(), Type::f32(), {&wide, 1}).bits;
    }
    return r & mask_of(t.bits());
  }
  Value value(uint16_t term) {
    const Term& t = table_.terms[term];
    Type type = types_[t.type];
    switch (t.kind) {
      case TermKind::Value: return values_[t.binding];
      case TermKind::Constant:
        if (!values_[t.binding].exists()) values_[t.binding] = function_->constant(type, random_bits(type));
        return values_[t.binding];
      case TermKind::Literal: {
        Bits bits = static_cast<Bits>(static_cast<__int128>(t.number)) & mask_of(type.bits());
        if (t.is_real && type.bits() == 32) {
          Bits wide = static_cast<uint64_t>(t.number);
          bits = compute(Op::Narrow, Type::f64(), Type::f32(), {&wide, 1}).bits;
        }
        return function_->constant(type, bits);
      }
      default: return function_->result(instruction(term));
    }
  }
  Instruction instruction(uint16_t term) {
    const Term& t = table_.terms[term];
    Value operands[3];
    std::vector<Type> types;
    for (unsigned k = 0; k < t.operand_count; ++k)
      operands[k] = value(t.operands[k]), types.push_back(function_->type(operands[k]));
    Type results[2];
    unsigned count = result_types(t.op, types, types_[t.type], results);
    uint8_t permits = rule_of_floats(rule_) ? table_.terms[rule_.pattern].permits : uint8_t(0);
    Instruction made = pen_->put({.op = t.op,
                                  .operands = {operands, t.operand_count},
                                  .results = {results, count},
                                  .promises = t.promises,
                                  .permits = permits});
    if (t.binding != none) values_[t.binding] = function_->result(made);
    return made;
  }
  const RuleTable& table_;
  const Rule& rule_;
  std::vector<Type> types_;
  std::mt19937_64& random_;
  Realm realm_;
  Module module_{realm_};
  Function* function_ = nullptr;
  std::optional<Pen> pen_;
  std::vector<uint8_t> parameters_;
  Value values_[16];
};

}  // namespace porphyry::testing
