#include "lives.h"

#include <fmt/format.h>

#include "porphyry/text/writer.h"

namespace porphyry::machine {
namespace {

class LifeGatherer {
 public:
  LifeGatherer(const LoweredModule& lowered, const CompiledFunction& c, const Target& target)
      : module_(*lowered.legal),
        f_(module_.function(c.symbol)),
        c_(c),
        how_(*c.explained),
        target_(target),
        row_of_(f_.value_limit(), none) {}

  std::vector<FunctionListing::Life> run() {
    for (const EmittedLine& l : c_.lines)
      if (l.row != EmittedLine::no_row) line(l);
    for (const Eviction& e : how_.evictions) reason(e);
    return std::move(out_);
  }

 private:
  static constexpr uint32_t none = 0xffffffff;

  FunctionListing::Life& life(Value v) {
    uint32_t& row = row_of_[v.index];
    if (row == none) {
      row = static_cast<uint32_t>(out_.size());
      out_.push_back({value_text(module_, f_, v), {}, {}});
    }
    return out_[row];
  }

  void stay(Register was, const std::string& where, uint32_t at) {
    if (!is_virtual(was) || was - first_virtual >= how_.code.virtuals.size()) return;
    Value v = how_.code.shape(was).origin;
    if (!v.exists() || f_.is_constant(v)) return;
    auto& stays = life(v).stays;
    if (stays.empty() || stays.back().where != where) stays.push_back({where, at, at});
    stays.back().to = at;
  }

  void line(const EmittedLine& l) {
    const CodeLine& i = how_.code.code[l.row];
    auto operands = how_.code.of(i);
    bool slot_too = i.form == save_form || i.form == fetch_form;
    for (size_t k = 0; k < operands.size(); ++k) {
      const CodeOperand& o = operands[k];
      size_t row = i.first_operand + k;
      if (o.kind == OperandKind::Memory || o.kind == OperandKind::Address) {
        auto at = static_cast<size_t>(o.value);
        const CodeAddress& a = how_.code.addresses[at];
        if (at >= how_.of_address.size()) continue;
        if (a.base != no_register) stay(how_.of_address[at].first, name(a.base), l.offset);
        if (a.index != no_register) stay(how_.of_address[at].second, name(a.index), l.offset);
        continue;
      }
      if (o.kind != OperandKind::Register || o.reg == no_register || row >= how_.virtual_of.size()) continue;
      Register was = how_.virtual_of[row];
      if (i.form == fetch_form) stay(was, slot(operands[1]), l.offset);
      stay(was, name(o.reg), l.offset);
      if (i.form == save_form) stay(was, slot(operands[1]), l.offset);
      if (slot_too) return;
    }
  }
  std::string name(Register r) const {
    return std::string(target_.register_name(r, target_.classes[target_.class_of(r)].bits));
  }
  std::string slot(const CodeOperand& o) const {
    PlainAddress a{
        .base = static_cast<int8_t>(target_.convention.stack),
        .displacement = static_cast<int32_t>(how_.code.slots[static_cast<size_t>(o.value)].offset)};
    return target_.spell_address(target_, a, 0, "");
  }

  void reason(const Eviction& e) {
    if (!e.value.exists() || f_.is_constant(e.value)) return;
    std::string where =
        e.at.exists() && f_.alive(e.at) ? "at '" + write_text(module_, f_, e.at) + "'" : "at the start";
    std::string by = e.by.exists() ? value_text(module_, f_, e.by) : "another value";
    std::string why;
    switch (e.why) {
      case Eviction::Why::Crowded: why = "all registers hold values whose use costs more"; break;
      case Eviction::Why::Outbid: why = fmt::format("{} costs more and its register was wanted", by); break;
      case Eviction::Why::NoneLasts:
        why = "no register lasts: calls or fixed registers take each of them somewhere in its range";
        break;
    }
    life(e.value).reasons.push_back(
        fmt::format("{} {} (its uses cost {:.2f} a position)", where, why, e.cost));
  }

  const Module& module_;
  const Function& f_;
  const CompiledFunction& c_;
  const Allocation& how_;
  const Target& target_;
  std::vector<uint32_t> row_of_;  // by value: of out_
  std::vector<FunctionListing::Life> out_;
};

}  // namespace

std::vector<FunctionListing::Life> lives_of(const LoweredModule& lowered, const CompiledFunction& f,
                                            const Target& target) {
  if (!f.explained) return {};
  return LifeGatherer(lowered, f, target).run();
}

}  // namespace porphyry::machine
