// Assembly text for the system assembler: what an object file holds, section by section. Code is written as
// instructions, call frames and lines as directives; what else debuggers read is taken from the object, whose
// bytes and places for the linker it keeps.
#include <fmt/format.h>

#include <map>

#include "porphyry/object/debug_steps.h"
#include "porphyry/object/object.h"
#include "porphyry/print/print.h"
#include "porphyry/render/listing.h"

namespace porphyry {
namespace {

using namespace machine;

std::string quoted(std::string_view name) {
  std::string out = "\"";
  for (char c : name) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  return out + "\"";
}

class AssemblyWriter {
 public:
  AssemblyWriter(const LoweredModule& lowered, const Target& target)
      : lowered_(lowered),
        module_(*lowered.legal),
        target_(target),
        lowerings_(lowered),
        has_lines_(module_.position_count() > 0) {}

  std::string run() {
    out_ = "    .intel_syntax noprefix\n";
    if (has_lines_) sources();
    out_ += "    .text\n";
    for (size_t k = 0; k < lowered_.functions.size(); ++k) function(k);
    for (size_t k = 0; k < lowered_.functions.size(); ++k) constants(k);
    for (size_t k = 0; k < module_.symbol_count(); ++k)
      if (lowerings_.is_data(Symbol(k))) data(Symbol(k));
    if (has_lines_) debug_sections();
    out_ += "    .section .note.GNU-stack,\"\",@progbits\n";
    return std::move(out_);
  }

 private:
  std::string symbol_text(Symbol s) const {
    std::string_view name = module_.symbol_name(s);
    bool plain = !name.empty() && !(name[0] >= '0' && name[0] <= '9');
    for (char c : name) plain &= std::isalnum(static_cast<unsigned char>(c)) || c == '_';
    return plain && !is_taken(s) ? std::string(name) : quoted(name);
  }
  // In this syntax the assembler takes the name for something else, quoted or not; in the other one it does
  // not.
  bool is_taken(Symbol s) const { return target_.is_taken_name(module_.symbol_name(s)); }
  void naming(Symbol s, const std::string& lines) {
    out_ += is_taken(s) ? "    .att_syntax prefix\n" + lines + "    .intel_syntax noprefix\n" : lines;
  }

  void sources() {
    auto file = [&](size_t number, std::string_view name) {
      out_ += fmt::format("    .file {} {}{}\n", number, number ? "" : "\".\" ", quoted(name));
    };
    file(0, module_.sources.empty() ? module_.text(module_.name()) : module_.sources[0].name);
    for (size_t k = 0; k < module_.sources.size(); ++k) {
      file(k + 1, module_.sources[k].name);
      numbers_[module_.sources[k].number] = k + 1;
    }
  }

  std::string block_label(size_t f, uint32_t b) const { return fmt::format(".Lblock_{}_{}", f, b); }
  std::string constant_label(size_t f, size_t k) const { return fmt::format(".Lconstant_{}_{}", f, k); }

  void header(Symbol s, const char* nature) {
    std::string name = symbol_text(s), lines;
    if (!module_[s].is_local)
      lines = fmt::format("    .{} {}\n", module_[s].is_weak ? "weak" : "globl", name);
    naming(s, lines + fmt::format("    .type {}, @{}\n{}:\n", name, nature, name));
  }
  void size(Symbol s, const std::string& bytes) {
    naming(s, fmt::format("    .size {}, {}\n", symbol_text(s), bytes));
  }

  void function(size_t index) {
    const CompiledFunction& c = lowered_.functions[index];
    const std::string& wanted = module_[c.symbol].section;
    out_ += wanted.empty() ? "\n    .text\n"
                           : fmt::format("\n    .section {}, \"ax\", @progbits\n", quoted(wanted));
    out_ += fmt::format("    .balign {}\n", c.align);
    header(c.symbol, "function");
    if (has_lines_) out_ += fmt::format(".Lbegin_{}:\n", c.symbol.index);
    out_ += "    .cfi_startproc\n";
    auto frames = frame_steps(c, target_);
    auto lines = line_steps(c, module_);
    size_t next_frame = 0, next_line = 0, k = 0;
    auto steps_at = [&](uint32_t offset) {
      for (; next_frame < frames.size() && frames[next_frame].offset <= offset; ++next_frame)
        frame_step(frames[next_frame]);
      for (; next_line < lines.size() && lines[next_line].offset <= offset; ++next_line)
        line_step(lines[next_line]);
    };
    for (uint32_t b = 0; b < c.blocks.size(); ++b) {
      if (unsigned a = c.blocks[b].align; a > 1) out_ += fmt::format("    .balign {}\n", a);
      out_ += block_label(index, b) + ":\n";
      const size_t last = last_of_program(c, k, c.end_of_block(b));
      for (uint32_t end = c.end_of_block(b); k < c.lines.size() && c.lines[k].offset < end; ++k) {
        steps_at(c.lines[k].offset);
        if (c.lines[k].role == Role::Padding) {
          // Within a block, and before one that is not aligned, it is so many bytes.
          if (k < last || (b + 1 < c.blocks.size() && c.blocks[b + 1].align == 1))
            bytes(std::span(c.bytes).subspan(c.lines[k].offset, c.lines[k].size));
          continue;
        }
        line(index, c.lines[k]);
      }
    }
    steps_at(static_cast<uint32_t>(c.bytes.size()));
    out_ += "    .cfi_endproc\n";
    size(c.symbol, fmt::format(". - {}", symbol_text(c.symbol)));
  }

  // The last line below an offset that is not padding, or where they begin.
  static size_t last_of_program(const CompiledFunction& c, size_t first, uint32_t end) {
    size_t last = first;
    for (size_t k = first; k < c.lines.size() && c.lines[k].offset < end; ++k)
      if (c.lines[k].role != Role::Padding) last = k;
    return last;
  }
  void frame_step(const FrameStep& step) {
    switch (step.kind) {
      case FrameStep::Kind::Distance:
        out_ += fmt::format("    .cfi_def_cfa_offset {}\n", step.distance);
        break;
      case FrameStep::Kind::Saved:
        out_ += fmt::format("    .cfi_offset {}, -{}\n", step.number, step.distance);
        break;
      case FrameStep::Kind::Restored: out_ += fmt::format("    .cfi_restore {}\n", step.number); break;
      case FrameStep::Kind::Remember: out_ += "    .cfi_remember_state\n"; break;
      case FrameStep::Kind::Recall: out_ += "    .cfi_restore_state\n"; break;
    }
  }
  void line_step(const LineStep& step) {
    auto file = numbers_.find(step.source);
    out_ += fmt::format("    .loc {} {} {}{}\n", file == numbers_.end() ? 0 : file->second, step.line,
                        step.column, step.ends_prologue ? " prologue_end" : "");
  }

  void line(size_t index, const EmittedLine& l) {
    const CompiledFunction& c = lowered_.functions[index];
    std::string name;
    switch (l.to) {
      case EmittedLine::To::Block: name = block_label(index, l.index); break;
      case EmittedLine::To::Pool: name = constant_label(index, l.index); break;
      case EmittedLine::To::Symbol: {
        Symbol s(l.index), of = lowerings_.behind(s);
        if (is_taken(of.exists() ? of : s)) return bytes_for_linker(c, l, of.exists() ? of : s);
        name = symbol_text(of.exists() ? of : s);
        if (of.exists())
          name += "@GOTPCREL";
        else if (!lowerings_.is_direct(s))
          name += "@PLT";
        break;
      }
      case EmittedLine::To::Here: name = "."; break;
      case EmittedLine::To::Nothing: break;
    }
    if (l.addend != 0) name += fmt::format(" {} {}", l.addend < 0 ? "-" : "+", std::abs(int64_t(l.addend)));
    const PlainInstruction i = instruction_at(target_, c, l);
    out_ += std::string("    ") + (stays_long(c, l, i) ? "{disp32} " : "") + spell(target_, i, name) + "\n";
  }

  // A jump that is long, but might be short if less was padded: the assembler is not to find another way.
  bool stays_long(const CompiledFunction& c, const EmittedLine& l, const PlainInstruction& i) const {
    if (l.to != EmittedLine::To::Block || c.align < target_.alignment.line) return false;
    return target_.form(i.form).operands[0].literal_bits > 8 && std::abs(i.operands[0].literal) < 1024;
  }

  // An instruction whose symbol has no spelling here: its bytes, and what the linker is to do with them.
  void bytes_for_linker(const CompiledFunction& c, const EmittedLine& l, Symbol of) {
    auto fix = std::lower_bound(c.fixups.begin(), c.fixups.end(), l.offset,
                                [](const Fixup& f, uint32_t at) { return f.offset < at; });
    uint32_t type = lowerings_.relocation(Symbol(l.index), target_, std::span(c.bytes).first(fix->offset));
    for (const RelocationFact& fact : target_.object.relocations)
      if (fact.type == type)
        naming(of, fmt::format("    .reloc . + {}, {}, {} + {}\n", fix->offset - l.offset, fact.name,
                               symbol_text(of), fix->addend));
    bytes(std::span(c.bytes).subspan(l.offset, l.size));
  }

  void constants(size_t index) {
    const CompiledFunction& c = lowered_.functions[index];
    if (!c.pool.empty() || !c.tables.empty()) out_ += "\n    .section .rodata\n";
    for (uint32_t k = 0; k < c.pool.size(); ++k) {
      const PoolEntry& e = c.pool[k];
      auto [at, is_new] = pooled_.try_emplace({e.bytes, e.bits, e.high}, constant_label(index, k));
      if (!is_new) {
        out_ += fmt::format("    .set {}, {}\n", constant_label(index, k), at->second);
        continue;
      }
      out_ += fmt::format("    .balign {}\n{}:\n    {} {:#x}\n", e.bytes, constant_label(index, k),
                          e.bytes == 4 ? ".long" : ".quad", e.bits);
      if (e.bytes > 8) out_ += fmt::format("    .quad {:#x}\n", e.high);
    }
    for (size_t k = 0; k < c.tables.size(); ++k) {
      const std::string label = constant_label(index, c.pool.size() + k);
      out_ += fmt::format("    .balign {}\n{}:\n", table_entry_bytes, label);
      for (uint32_t b : c.tables[k]) out_ += fmt::format("    .long {} - {}\n", block_label(index, b), label);
    }
  }

  void data(Symbol s) {
    const DataItem& item = module_[s].data;
    auto references = item.references();
    DataSection in = section_of(module_[s]);
    out_ += fmt::format("\n    .section {}, \"{}\", @{}\n", quoted(in.name), in.writable ? "aw" : "a",
                        in.zeros ? "nobits" : "progbits");
    out_ += fmt::format("    .balign {}\n", item.align);
    header(s, "object");
    size(s, std::to_string(item.size()));
    if (in.zeros) {
      out_ += fmt::format("    .zero {}\n", item.size());
      return;
    }
    std::vector<uint8_t> image = item.image();
    size_t next = 0;
    for (uint64_t at = 0; at < image.size();) {
      if (next < references.size() && references[next].offset == at) {
        Symbol to = references[next++].symbol;
        naming(to, "    .quad " + symbol_text(to) + "\n");
        at += 8;
        continue;
      }
      uint64_t end = next < references.size() ? references[next].offset : image.size();
      bytes({image.data() + at, end - at});
      at = end;
    }
  }
  void bytes(std::span<const uint8_t> all) {
    for (size_t at = 0; at < all.size();) {
      size_t zeros = at;
      while (zeros < all.size() && all[zeros] == 0) ++zeros;
      if (zeros - at >= 16) {
        out_ += fmt::format("    .zero {}\n", zeros - at);
        at = zeros;
        continue;
      }
      size_t stop = std::min(all.size(), at + 16);
      out_ += "    .byte ";
      for (size_t k = at; k < stop; ++k) out_ += fmt::format("{}{:#04x}", k > at ? ", " : "", all[k]);
      out_ += "\n";
      at = stop;
    }
  }

  // Functions and their ranges, as the object says them; the assembler makes the lines.
  void debug_sections() {
    const ObjectFile object = make_object(lowered_, target_);
    out_ += "\n    .section .debug_line, \"\", @progbits\n.Lsection_debug_line:\n";
    for (const ObjectFile::Section& s : object.sections) {
      if (!s.name.starts_with(".debug_") || s.name == ".debug_line") continue;
      out_ += fmt::format("\n    .section {}, \"\", @progbits\n.Lsection_{}:\n", s.name, s.name.substr(1));
      uint64_t at = 0;
      auto until = [&](uint64_t end) {
        bytes({reinterpret_cast<const uint8_t*>(s.bytes.data()) + at, end - at});
        at = end;
      };
      for (const ObjectFile::Relocation& r : s.relocations) {
        until(r.offset);
        bool whole = r.type == target_.object.absolute_64;
        out_ += fmt::format("    {} {}\n", whole ? ".quad" : ".long", place_text(object, r));
        at += whole ? 8 : 4;
      }
      until(s.bytes.size());
    }
  }
  // A relocation's place: the function that begins there, or an offset in a section of debug data.
  std::string place_text(const ObjectFile& object, const ObjectFile::Relocation& r) {
    const ObjectFile::Symbol& in = object.symbols[r.symbol];
    const std::string& section = object.sections[in.section].name;
    if (section.starts_with(".debug_")) return fmt::format(".Lsection_{} + {}", section.substr(1), r.addend);
    if (begins_.empty())
      for (const ObjectFile::Symbol& s : object.symbols)
        if (s.is_function && s.section != ObjectFile::undefined) begins_[{s.section, s.value}] = &s.name;
    return fmt::format(".Lbegin_{}",
                       module_.find(*begins_[{in.section, static_cast<uint64_t>(r.addend)}]).index);
  }

  const LoweredModule& lowered_;
  const Module& module_;
  const Target& target_;
  NameWays lowerings_;
  bool has_lines_;
  std::map<std::pair<uint32_t, uint64_t>, const std::string*>
      begins_;                          // names of functions, by place in the object
  std::map<uint32_t, size_t> numbers_;  // of files, by the program's number of a source
  std::map<std::tuple<uint8_t, uint64_t, uint64_t>, std::string> pooled_;
  std::string out_;
};

}  // namespace

std::string render_assembly(const LoweredModule& module, const Target& target) {
  return AssemblyWriter(module, target).run();
}

}  // namespace porphyry
