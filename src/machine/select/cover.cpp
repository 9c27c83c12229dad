// Two walks over the function. Forwards, each instruction gets its cheapest match; backwards, what has an
// effect or is needed in a register becomes a root, and what its rule takes from registers is needed in turn.
// So an instruction that lies inside of another one's rule, and has no other user, is never written.
// O(instructions * rules that may cover them).
#include "cover.h"

#include "addresses.h"
#include "porphyry/print/print.h"

namespace porphyry::machine {
namespace {

class Marker {
 public:
  Marker(const Module& module, Symbol symbol, const FlowOf& flow, const RuleIndex& rules, Cover& out)
      : module_(module),
        symbol_(symbol),
        f_(module.function(symbol)),
        flow_(flow),
        rules_(rules),
        out_(out),
        small_(module[symbol].facts.keep_small) {}

  void block(Block b) {
    for (Instruction i = f_.last(b); i.exists(); i = f_.previous(i)) {
      if (!f_.has_effect(i) && !(f_.result_count(i) && out_.needed[f_.result(i)])) continue;
      Op op = f_.op(i);
      if (info(op).marks()) continue;
      if (info(op).calls() || op == Op::Go || op == Op::Return) {
        for (Value v : f_.operands(i)) need(v);
      } else if (!root(i, b)) {
        continue;
      }
      for (Edge e : f_.edges(i))
        for (Value v : f_.arguments(e)) need(v);
    }
  }

 private:
  void need(Value v) { out_.needed[v] = true; }

  bool root(Instruction i, Block b) {
    auto m = out_.matcher.best(i);
    if (!m) {
      out_.problems.push_back(complaint_about(
          module_, symbol_, i, "no rule of " + std::string(rules_.target().name) + " covers this"));
      return false;
    }
    out_.rules[i.index] = static_cast<uint16_t>(m->index + 1);
    bool in_loop = flow_.loops.depth(b) > 0;
    uint16_t in_register = rules_.facts(m->index).in_register;
    for (size_t k = 0; k < Match::most_variables; ++k) {
      Value v = m->value(k);
      if (v.exists() && !m->is_pooled(k)) need(v);
      if (v.exists() && in_loop && f_.is_constant(v) && (in_register >> k & 1) &&
          (!small_ || !f_.has_one_use(v)))
        out_.early_constants.push_back(v);
      if (Instruction access = m->access(k); access.exists()) need_address(access);
    }
    if (f_.result_count(i)) out_.needed[f_.result(i)] = true;
    return true;
  }

  void need_address(Instruction access) {
    AddressParts p = address_parts(f_, access, rules_.target().address);
    if (p.base.exists()) need(p.base);
    if (p.index.exists()) need(p.index);
  }

  const Module& module_;
  Symbol symbol_;
  const Function& f_;
  const FlowOf& flow_;
  const RuleIndex& rules_;
  Cover& out_;
  const bool small_;  // a register that a constant has all along a loop may cost more bytes than the constant
};

}  // namespace

Cover cover(const Module& module, Symbol symbol, const FlowOf& flow, const RuleIndex& rules,
            std::pmr::memory_resource* memory, std::pmr::memory_resource* work) {
  const Function& f = module.function(symbol);
  Cover out{Matcher(f, rules, work),
            FixedTable<Value, uint8_t>(f.value_limit(), work),
            std::pmr::vector<uint16_t>(f.instruction_limit(), memory),
            std::pmr::vector<Value>(work),
            {}};
  const auto& order = flow.dominators.order();
  for (Block b : order) out.matcher.visit(b);
  Marker marker(module, symbol, flow, rules, out);
  for (size_t k = order.size(); k-- > 0;) marker.block(order[k]);
  return out;
}

Diagnostic complaint_about(const Module& module, Symbol symbol, Instruction i, const std::string& message) {
  Diagnostic d = complaint("in '" + std::string(module.symbol_name(symbol)) + "': " + message,
                           "what the target's book covers");
  d.excerpt = write_text(module, module.function(symbol), i);
  d.length = static_cast<uint32_t>(d.excerpt.size());
  return d;
}

}  // namespace porphyry::machine
