// Source lines for debuggers: DWARF 5.
#include <algorithm>
#include <map>

#include "debug_parts.h"
#include "porphyry/object/debug_steps.h"
#include "sink.h"

namespace porphyry::object {

using namespace machine;

namespace {

// DWARF 5, sections 7.5 and 7.22.
namespace tag {
enum : uint8_t { compile_unit = 0x11, subprogram = 0x2e };
}
namespace at {
enum : uint8_t {
  name = 0x03,
  stmt_list = 0x10,
  low_pc = 0x11,
  high_pc = 0x12,
  language = 0x13,
  comp_dir = 0x1b,
  producer = 0x25,
  decl_file = 0x3a,
  decl_line = 0x3b,
  external = 0x3f,
  frame_base = 0x40,
  ranges = 0x55
};
}
namespace form {
enum : uint8_t {
  addr = 0x01,
  data2 = 0x05,
  data8 = 0x07,
  string = 0x08,
  udata = 0x0f,
  sec_offset = 0x17,
  exprloc = 0x18,
  flag_present = 0x19
};
}
namespace line {
enum : uint8_t {
  copy = 1,
  advance_pc = 2,
  advance_line = 3,
  set_file = 4,
  set_column = 5,
  set_prologue_end = 10
};
enum : uint8_t { end_sequence = 1, set_address = 2 };
enum : uint8_t { path = 1, directory_index = 2 };
constexpr int base = -5;
constexpr unsigned range = 14, first_special = 13;
}  // namespace line
constexpr uint16_t language_of_lines = 0x8001;  // assembler: nothing but lines is described
constexpr uint8_t call_frame_cfa = 0x9c, range_start_length = 0x07;

class LineWriter {
 public:
  LineWriter(ObjectFile& out, const Module& module, const Target& target,
             const std::vector<PlacedFunction>& functions)
      : out_(out),
        module_(module),
        absolute_(target.object.absolute_64),
        absolute_32_(target.object.absolute_32),
        functions_(functions) {
    files_.push_back(module.sources.empty() ? std::string(module.text(module.name()))
                                            : module.sources[0].name);
    for (const SourceFile& s : module.sources) {
      numbers_[s.number] = files_.size();
      files_.push_back(s.name);
    }
  }

  void run() {
    uint32_t lines = section(".debug_line"), info = section(".debug_info"),
             abbreviations = section(".debug_abbrev"), ranges = section(".debug_rnglists");
    write_lines(lines);
    write_abbreviations(abbreviations);
    write_ranges(ranges);
    write_info(info, add_section_symbol(out_, lines), add_section_symbol(out_, abbreviations),
               add_section_symbol(out_, ranges));
  }

 private:
  uint32_t section(const char* name) {
    out_.sections.push_back({.name = name, .allocated = false});
    return static_cast<uint32_t>(out_.sections.size() - 1);
  }
  Sink sink(uint32_t section) { return Sink(out_.sections[section].bytes); }
  void address(uint32_t section, uint32_t symbol, uint64_t addend) {
    out_.sections[section].relocations.push_back(
        {sink(section).size(), absolute_, symbol, static_cast<int64_t>(addend)});
    sink(section).u64(0);
  }
  // An offset into another section, which the linker moves.
  void offset(uint32_t section, uint32_t symbol, uint64_t addend) {
    out_.sections[section].relocations.push_back(
        {sink(section).size(), absolute_32_, symbol, static_cast<int64_t>(addend)});
    sink(section).u32(0);
  }

  // ---- .debug_line ----------------------------------------------------------------------------------------

  void write_lines(uint32_t at) {
    Sink s = sink(at);
    s.u32(0);
    s.u16(5);
    s.u8(8), s.u8(0);  // an address has eight bytes
    size_t header_length_at = s.size();
    s.u32(0);
    s.u8(1), s.u8(1), s.u8(1);  // bytes are instructions enough; rows are statements
    s.u8(static_cast<uint8_t>(line::base)), s.u8(line::range), s.u8(line::first_special);
    for (unsigned operands : {0, 1, 1, 1, 1, 0, 0, 0, 1, 0, 0, 1}) s.u8(operands);
    s.u8(1), s.uleb(line::path), s.uleb(form::string);
    s.uleb(1), s.text(".");
    s.u8(2), s.uleb(line::path), s.uleb(form::string), s.uleb(line::directory_index), s.uleb(form::udata);
    s.uleb(files_.size());
    for (const std::string& f : files_) s.text(f), s.uleb(0);
    s.patch32(header_length_at, s.size() - header_length_at - 4);
    for (const PlacedFunction& f : functions_) sequence(at, f);
    s.patch32(0, s.size() - 4);
  }

  void sequence(uint32_t at, const PlacedFunction& f) {
    Sink s = sink(at);
    Row row;
    std::vector<LineStep> steps = line_steps(*f.code, module_);
    if (steps.empty()) return;
    start(at, f);
    for (const LineStep& l : steps) {
      Row next{l.offset, file(l.source), l.line, l.column};
      if (l.ends_prologue) s.u8(line::set_prologue_end);
      step(s, row, next);
      row = next;
    }
    s.u8(line::advance_pc), s.uleb(f.code->bytes.size() - row.offset);
    s.u8(0), s.uleb(1), s.u8(line::end_sequence);
  }

  struct Row {
    uint64_t offset = 0, file = 1, line = 1, column = 0;
  };
  uint64_t file(uint32_t source) const {
    auto at = numbers_.find(source);
    return at == numbers_.end() ? 0 : at->second;
  }

  void start(uint32_t at, const PlacedFunction& f) {
    Sink s = sink(at);
    s.u8(0), s.uleb(9), s.u8(line::set_address);
    address(at, f.section_symbol, f.offset);
  }

  static void step(Sink s, const Row& from, const Row& to) {
    if (to.file != from.file) s.u8(line::set_file), s.uleb(to.file);
    if (to.column != from.column) s.u8(line::set_column), s.uleb(to.column);
    int64_t lines = static_cast<int64_t>(to.line) - static_cast<int64_t>(from.line);
    uint64_t bytes = to.offset - from.offset;
    if (lines < line::base || lines >= line::base + int(line::range))
      s.u8(line::advance_line), s.sleb(lines), lines = 0;
    uint64_t special = static_cast<uint64_t>(lines - line::base) + line::range * bytes + line::first_special;
    if (special <= 255) return s.u8(special);
    s.u8(line::advance_pc), s.uleb(bytes);
    s.u8(static_cast<uint64_t>(lines - line::base) + line::first_special);
  }

  // ---- .debug_info ----------------------------------------------------------------------------------------

  void write_abbreviations(uint32_t at) {
    Sink s = sink(at);
    auto declare = [&](unsigned number, unsigned what, bool children,
                       std::initializer_list<std::pair<unsigned, unsigned>> attributes) {
      s.uleb(number), s.uleb(what), s.u8(children);
      for (auto [name, form] : attributes) s.uleb(name), s.uleb(form);
      s.uleb(0), s.uleb(0);
    };
    declare(1, tag::compile_unit, true,
            {{at::producer, form::string},
             {at::language, form::data2},
             {at::name, form::string},
             {at::comp_dir, form::string},
             {at::low_pc, form::addr},
             {at::ranges, form::sec_offset},
             {at::stmt_list, form::sec_offset}});
    declare(2, tag::subprogram, false,
            {{at::name, form::string},
             {at::low_pc, form::addr},
             {at::high_pc, form::data8},
             {at::decl_file, form::udata},
             {at::decl_line, form::udata},
             {at::external, form::flag_present},
             {at::frame_base, form::exprloc}});
    declare(3, tag::subprogram, false,
            {{at::name, form::string},
             {at::low_pc, form::addr},
             {at::high_pc, form::data8},
             {at::decl_file, form::udata},
             {at::decl_line, form::udata},
             {at::frame_base, form::exprloc}});
    s.uleb(0);
  }

  void write_ranges(uint32_t at) {
    Sink s = sink(at);
    s.u32(0), s.u16(5), s.u8(8), s.u8(0), s.u32(0);
    for (const PlacedFunction& f : functions_) {
      s.u8(range_start_length);
      address(at, f.section_symbol, f.offset);
      s.uleb(f.code->bytes.size());
    }
    s.u8(0);
    s.patch32(0, s.size() - 4);
  }

  void write_info(uint32_t at, uint32_t lines, uint32_t abbreviations, uint32_t ranges) {
    Sink s = sink(at);
    s.u32(0), s.u16(5), s.u8(1), s.u8(8);
    offset(at, abbreviations, 0);
    s.uleb(1), s.text("porphyry"), s.u16(language_of_lines), s.text(files_[0]), s.text(".");
    s.u64(0);
    offset(at, ranges, 12);
    offset(at, lines, 0);
    for (const PlacedFunction& f : functions_) {
      auto [source, first] = own_line(f);
      s.uleb(module_[f.code->symbol].is_local ? 3 : 2), s.text(f.code->name);
      address(at, f.section_symbol, f.offset);
      s.u64(f.code->bytes.size());
      s.uleb(first ? file(source) : 0), s.uleb(first);
      s.uleb(1), s.u8(call_frame_cfa);
    }
    s.uleb(0);
    s.patch32(0, s.size() - 4);
  }

  // Where a function stands in its source: the program says it of instructions only, so the least line of
  // those that are its own, or of the calls that others were inlined for. Zeros where nothing is known.
  std::pair<uint32_t, uint32_t> own_line(const PlacedFunction& f) const {
    uint32_t source = 0, least = 0;
    for (const EmittedLine& l : f.code->lines) {
      Position p = l.position;
      while (p.exists() && module_.position(p).inlined_at.exists()) p = module_.position(p).inlined_at;
      if (!p.exists()) continue;
      const PositionRow& row = module_.position(p);
      if (least && (row.source != source || row.line >= least)) continue;
      source = row.source, least = row.line;
    }
    return {source, least};
  }

  ObjectFile& out_;
  const Module& module_;
  uint32_t absolute_, absolute_32_;
  const std::vector<PlacedFunction>& functions_;
  std::vector<std::string> files_;        // number 0 stands for the unit itself
  std::map<uint32_t, uint64_t> numbers_;  // by the program's number of a source
};

}  // namespace

void add_lines(ObjectFile& out, const Module& module, const Target& target,
               const std::vector<PlacedFunction>& functions) {
  LineWriter(out, module, target, functions).run();
}

}  // namespace porphyry::object

namespace porphyry {

std::vector<LineStep> line_steps(const machine::CompiledFunction& f, const Module& module) {
  std::vector<LineStep> out;
  auto first = std::find_if(f.lines.begin(), f.lines.end(),
                            [](const machine::EmittedLine& l) { return l.position.exists(); });
  if (first == f.lines.end()) return out;
  bool past_prologue = false;
  for (const machine::EmittedLine& l : f.lines) {
    bool begins = out.empty();
    Position p = begins ? first->position : l.position;
    if (!p.exists()) continue;
    const PositionRow& row = module.position(p);
    bool frame = l.role == machine::Role::Frame, ends = !frame && !past_prologue;
    bool same = !begins && out.back().source == row.source && out.back().line == row.line &&
                out.back().column == row.column;
    if (same && !ends) continue;
    past_prologue |= !frame;
    out.push_back({begins ? 0 : l.offset, row.source, row.line, row.column, ends});
  }
  return out;
}

}  // namespace porphyry
