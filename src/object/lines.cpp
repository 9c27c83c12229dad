// Source lines for debuggers: DWARF 5.
#include <algorithm>

#include "debug_data.h"
#include "porphyry/object/debug_steps.h"

namespace porphyry::object {

using namespace machine;

namespace {

// DWARF 5, section 7.22.
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
class LineWriter {
 public:
  LineWriter(DebugSections& sections, const Module& module, const SourceNumbers& sources)
      : sections_(sections), module_(module), sources_(sources) {}

  void run(uint32_t at, const std::vector<PlacedFunction>& functions) {
    Sink s = sections_.sink(at);
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
    s.uleb(sources_.names().size());
    for (const std::string& f : sources_.names()) s.text(f), s.uleb(0);
    s.patch32(header_length_at, s.size() - header_length_at - 4);
    for (const PlacedFunction& f : functions) sequence(at, f);
    s.patch32(0, s.size() - 4);
  }

 private:
  void sequence(uint32_t at, const PlacedFunction& f) {
    Sink s = sections_.sink(at);
    Row row;
    std::vector<LineStep> steps = line_steps(*f.code, module_);
    if (steps.empty()) return;
    start(at, f);
    for (const LineStep& l : steps) {
      Row next{l.offset, sources_.of(l.source), l.line, l.column};
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
  void start(uint32_t at, const PlacedFunction& f) {
    Sink s = sections_.sink(at);
    s.u8(0), s.uleb(9), s.u8(line::set_address);
    sections_.address(at, f.section_symbol, f.offset);
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

  DebugSections& sections_;
  const Module& module_;
  const SourceNumbers& sources_;
};

}  // namespace

SourceNumbers::SourceNumbers(const Module& module) {
  names_.push_back(module.sources.empty() ? std::string(module.text(module.name())) : module.sources[0].name);
  for (const SourceFile& s : module.sources) {
    numbers_[s.number] = names_.size();
    names_.push_back(s.name);
  }
}

void add_lines(ObjectFile& out, const Module& module, const Target& target,
               const std::vector<PlacedFunction>& functions) {
  DebugSections sections(out, target);
  const SourceNumbers sources(module);
  const uint32_t lines = sections.add(".debug_line");
  LineWriter(sections, module, sources).run(lines, functions);
  add_functions(sections, module, target, functions, sources, sections.symbol_of(lines));
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
    const bool begins = out.empty(), frame = l.role == machine::Role::Frame, ends = !frame && !past_prologue;
    const Position p = begins || (ends && !l.position.exists()) ? first->position : l.position;
    if (!p.exists()) continue;
    const PositionRow& row = module.position(p);
    bool same = !begins && out.back().source == row.source && out.back().line == row.line &&
                out.back().column == row.column;
    if (same && !ends) continue;
    past_prologue |= !frame;
    out.push_back({begins ? 0 : l.offset, row.source, row.line, row.column, ends});
  }
  return out;
}

}  // namespace porphyry
