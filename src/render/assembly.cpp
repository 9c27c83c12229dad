// Assembly text for the system assembler: one section for code, one for constants, data in its own.
#include <fmt/format.h>

#include "porphyry/object/object.h"
#include "porphyry/render/listing.h"

namespace porphyry {
namespace {

using namespace machine;

class AssemblyWriter {
 public:
  AssemblyWriter(const LoweredModule& lowered, const Target& target)
      : lowered_(lowered), module_(*lowered.legal), target_(target) {}

  std::string run() {
    out_ = "    .intel_syntax noprefix\n";
    aliases();
    out_ += "    .text\n";
    for (size_t k = 0; k < lowered_.functions.size(); ++k) function(k);
    for (size_t k = 0; k < lowered_.functions.size(); ++k) pool(k);
    for (size_t k = 0; k < module_.symbol_count(); ++k)
      if (module_[Symbol(k)].kind == SymbolKind::Data) data(Symbol(k));
    out_ += "    .section .note.GNU-stack,\"\",@progbits\n";
    return std::move(out_);
  }

 private:
  // How the text names a symbol. A name that the assembler would take for something else has another one,
  // tied to it where no name but a symbol's can stand.
  std::string symbol_text(Symbol s) const {
    std::string_view name = module_.symbol_name(s);
    bool plain = !name.empty() && !(name[0] >= '0' && name[0] <= '9') && !target_.is_taken_name(name);
    for (char c : name) plain &= std::isalnum(static_cast<unsigned char>(c)) || c == '_';
    return plain ? std::string(name) : fmt::format(".Lsymbol_{}", s.index);
  }
  bool has_alias(Symbol s) const { return symbol_text(s) != module_.symbol_name(s); }

  void aliases() {
    std::string list;
    for (size_t k = 0; k < module_.symbol_count(); ++k) {
      Symbol s(k);
      if (!has_alias(s)) continue;
      SymbolKind kind = module_[s].kind;
      bool defined = kind == SymbolKind::Function || kind == SymbolKind::Data;
      std::string name = fmt::format("\"{}\"", module_.symbol_name(s));
      if (!defined)
        list += fmt::format("    .set {}, {}\n", symbol_text(s), name);
      else if (!module_[s].is_local)
        list += fmt::format("    .{2} {0}\n    .set {0}, {1}\n", name, symbol_text(s),
                            module_[s].is_weak ? "weak" : "globl");
    }
    if (!list.empty()) out_ += "    .att_syntax prefix\n" + list + "    .intel_syntax noprefix\n";
  }

  std::string block_label(size_t f, uint32_t b) const { return fmt::format(".Lblock_{}_{}", f, b); }
  std::string pool_label(size_t f, uint32_t k) const { return fmt::format(".Lconstant_{}_{}", f, k); }

  void header(const std::string& name, Symbol s) {
    if (!module_[s].is_local && !has_alias(s))
      out_ += fmt::format("    .{} {}\n", module_[s].is_weak ? "weak" : "globl", name);
  }

  void function(size_t index) {
    const CompiledFunction& c = lowered_.functions[index];
    std::string name = symbol_text(c.symbol);
    const std::string& wanted = module_[c.symbol].section;
    out_ +=
        wanted.empty() ? "\n    .text\n" : fmt::format("\n    .section \"{}\", \"ax\", @progbits\n", wanted);
    out_ += "    .p2align 4\n";
    header(name, c.symbol);
    out_ += fmt::format("    .type {}, @function\n{}:\n", name, name);
    size_t k = 0;
    for (uint32_t b = 0; b < c.blocks.size(); ++b) {
      out_ += block_label(index, b) + ":\n";
      for (uint32_t end = c.end_of_block(b); k < c.lines.size() && c.lines[k].offset < end; ++k)
        line(index, c.lines[k]);
    }
    out_ += fmt::format("    .size {}, . - {}\n", name, name);
  }

  void line(size_t index, const EmittedLine& l) {
    std::string name;
    const PlainInstruction i = instruction_at(target_, lowered_.functions[index], l);
    bool goes = i.form == target_.upkeep.call || target_.form(i.form).is_jump;
    switch (l.to) {
      case EmittedLine::To::Block: name = block_label(index, l.index); break;
      case EmittedLine::To::Pool: name = pool_label(index, l.index); break;
      case EmittedLine::To::Symbol:
        name = symbol_text(Symbol(l.index));
        if (goes && (!module_.is_function(Symbol(l.index)) || module_[Symbol(l.index)].is_weak))
          name += "@PLT";
        break;
      case EmittedLine::To::Here: name = "."; break;
      case EmittedLine::To::Nothing: break;
    }
    if (l.addend != 0) name += fmt::format(" {} {}", l.addend < 0 ? "-" : "+", std::abs(int64_t(l.addend)));
    out_ += "    " + spell(target_, i, name) + "\n";
  }

  void pool(size_t index) {
    const CompiledFunction& c = lowered_.functions[index];
    if (!c.pool.empty()) out_ += "\n    .section .rodata\n";
    for (uint32_t k = 0; k < c.pool.size(); ++k) {
      const PoolEntry& e = c.pool[k];
      out_ += fmt::format("    .balign {}\n{}:\n    {} {:#x}\n", e.bytes, pool_label(index, k),
                          e.bytes == 4 ? ".long" : ".quad", e.bits);
      if (e.bytes > 8) out_ += fmt::format("    .quad {:#x}\n", e.high);
    }
  }

  void data(Symbol s) {
    const DataItem& item = module_[s].data;
    std::string name = symbol_text(s);
    auto references = item.references();
    DataSection in = section_of(module_[s]);
    out_ += fmt::format("\n    .section \"{}\", \"{}\", @{}\n", in.name, in.writable ? "aw" : "a",
                        in.zeros ? "nobits" : "progbits");
    out_ += fmt::format("    .balign {}\n", item.align);
    header(name, s);
    out_ += fmt::format("    .type {}, @object\n    .size {}, {}\n{}:\n", name, name, item.size(), name);
    if (in.zeros) {
      out_ += fmt::format("    .zero {}\n", item.size());
      return;
    }
    std::vector<uint8_t> image = item.image();
    size_t next = 0;
    for (uint64_t at = 0; at < image.size();) {
      if (next < references.size() && references[next].offset == at) {
        out_ += "    .quad " + symbol_text(references[next++].symbol) + "\n";
        at += 8;
        continue;
      }
      uint64_t end = next < references.size() ? references[next].offset : image.size(),
               stop = std::min(end, at + 16);
      out_ += "    .byte ";
      for (uint64_t k = at; k < stop; ++k) out_ += fmt::format("{}{:#04x}", k > at ? ", " : "", image[k]);
      out_ += "\n";
      at = stop;
    }
  }

  const LoweredModule& lowered_;
  const Module& module_;
  const Target& target_;
  std::string out_;
};

}  // namespace

std::string render_assembly(const LoweredModule& module, const Target& target) {
  return AssemblyWriter(module, target).run();
}

}  // namespace porphyry
