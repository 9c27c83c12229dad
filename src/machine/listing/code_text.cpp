#include "porphyry/machine/code_text.h"

#include <fmt/format.h>

#include "porphyry/print/print.h"

namespace porphyry::machine {
namespace {

class CodeWriter {
 public:
  CodeWriter(const Target& target, const Module& module, const Function& function, const Code& code)
      : target_(target), module_(module), f_(function), code_(code) {}

  std::string reg(Register r, unsigned bits) const {
    if (is_physical(r)) return std::string(target_.register_name(r, bits));
    const VirtualRegister& v = code_.shape(r);
    if (v.origin.exists() && !f_.is_constant(v.origin)) return value_text(module_, f_, v.origin);
    return fmt::format("r{}", r - first_virtual);
  }

  std::string line(const CodeLine& i) const {
    auto o = code_.of(i);
    if (i.form == copy_form) return fmt::format("copy {}, {}", reg(o[0].reg, 64), reg(o[1].reg, 64));
    if (i.form == spill_form) return fmt::format("spill {} to slot {}", reg(o[0].reg, 64), o[1].value);
    if (i.form == reload_form) return fmt::format("reload {} from slot {}", reg(o[0].reg, 64), o[1].value);
    const Form& form = target_.form(i.form);
    std::string out;
    for (char c : form.spelling) {
      auto k = static_cast<size_t>(static_cast<unsigned char>(c)) - 1;
      if (k < o.size() && k < 8)
        out += operand(o[k], form.operands[k]);
      else
        out += c;
    }
    return out;
  }

 private:
  std::string operand(const CodeOperand& o, const FormOperand& shape) const {
    switch (o.kind) {
      case OperandKind::Register: return reg(o.reg, shape.type.total_bits());
      case OperandKind::Literal: return std::to_string(o.value);
      case OperandKind::Label: {
        const CodeBlock& b = code_.blocks[static_cast<size_t>(o.value)];
        return label_of(block_text(module_, f_, b.origin), b.copy);
      }
      case OperandKind::Symbol:
        return std::string(module_.symbol_name(Symbol(static_cast<uint32_t>(o.value))));
      case OperandKind::Memory:
      case OperandKind::Address: return address(code_.addresses[static_cast<size_t>(o.value)]);
    }
    return "";
  }

  std::string address(const CodeAddress& a) const {
    std::string out;
    auto add = [&](const std::string& part) { out += (out.empty() ? "" : " + ") + part; };
    switch (a.anchor) {
      case Anchor::None: break;
      case Anchor::Slot: add(fmt::format("slot {}", a.anchored)); break;
      case Anchor::Symbol: add(std::string(module_.symbol_name(Symbol(a.anchored)))); break;
      case Anchor::Pool: add(fmt::format("constant {}", a.anchored)); break;
      case Anchor::Table: add(fmt::format("table {}", a.anchored)); break;
      case Anchor::Incoming: add("arguments"); break;
      case Anchor::Outgoing: add("arguments of the call"); break;
    }
    if (a.base != no_register) add(reg(a.base, 64));
    if (a.index != no_register) add(reg(a.index, 64) + (a.scale == 1 ? "" : fmt::format("*{}", a.scale)));
    if (a.displacement > 0 || out.empty()) add(std::to_string(a.displacement));
    if (a.displacement < 0) out += fmt::format(" - {}", -a.displacement);
    return "[" + out + "]";
  }

  const Target& target_;
  const Module& module_;
  const Function& f_;
  const Code& code_;
};

}  // namespace

std::string code_text(const Target& target, const Module& module, const Function& function, const Code& code,
                      const CodeLine& line) {
  return CodeWriter(target, module, function, code).line(line);
}

std::string register_text(const Target& target, const Module& module, const Function& function,
                          const Code& code, Register r, unsigned bits) {
  return CodeWriter(target, module, function, code).reg(r, bits);
}

}  // namespace porphyry::machine
