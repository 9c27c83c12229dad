// Idea: blocks are written one behind the other, each instruction in the shortest form of its group that fits
// what is known; jumps first in their short form. Then jumps that do not reach grow, and paddings before
// loops take what is missing, which may push other jumps out of reach, until all fit: branch relaxation.
// Invariant: a line's offset, size and row of the code belong together, whatever was moved behind it; jumps
// only grow, so relaxation ends. Cost: O(n) to write, and O(jumps + paddings) a round of relaxation; three
// rounds are rare.
#include "porphyry/machine/emit.h"
#include "frame_place.h"
#include "porphyry/base/rounding.h"

#include <fmt/format.h>

#include <algorithm>

namespace porphyry::machine {
namespace {

bool literal_fits(const FormOperand& o, int64_t v) {
  if (o.literal_bits >= 64) return true;
  int64_t half = int64_t(1) << (o.literal_bits - 1);
  if (o.literal_unsigned) return v >= 0 && v < 2 * half;
  return v >= -half && v < (o.type.bits() == o.literal_bits ? 2 * half : half);
}

// Where an instruction's address, label or callee lies, if not in a register.
struct Reference {
  EmittedLine::To to = EmittedLine::To::Nothing;
  uint32_t index = 0;
  int64_t addend = 0;
};

// Bytes are written block by block with all jumps short and nothing before what is to be aligned; the jumps
// are then relaxed where they have to be, padding takes what is missing, and what stands between moves as a
// whole.
class Emitter {
 public:
  Emitter(const Code& f, const Target& target, EmitOptions options)
      : f_(f),
        target_(target),
        frame_{place_frame(f, target, options.late_frame)},
        align_loops_(options.align_loops && target.alignment.line),
        least_(target.alignment.function),
        line_(target.alignment.line),
        leads_to_(f.blocks.size(), f.memory()),
        starts_(f.memory()),
        jumps_(f.memory()),
        held_(f.memory()) {
    out_.name = f.name;
    out_.align = least_;
    out_.pool.assign(f.pool.begin(), f.pool.end());
    out_.frame_bytes = f.frame_bytes;
    out_.saved = f.saved;
    out_.bytes.reserve(4 * f.code.size() + 16);
    out_.lines.reserve(f.code.size() + 8);
    out_.blocks.reserve(f.blocks.size());
    starts_.reserve(f.blocks.size());
    jumps_.reserve(2 * f.blocks.size());
  }

  CompiledFunction run() {
    find_empty_blocks();
    if (align_loops_) find_inner_loops();
    for (block_ = 0; block_ < f_.blocks.size(); ++block_) {
      if (is_loop_start(block_)) pad(Pad::Loop);
      starts_.push_back({here(), static_cast<uint32_t>(jumps_.size()), false});
      frame_.stands = stands_at_start(block_);
      if (block_ == frame_.place.before) prologue();
      if (is_empty(block_)) continue;
      const CodeBlock& b = f_.blocks[block_];
      const bool hot = align_loops_ && b.loop != no_loop && is_inner_[b.loop];
      const uint32_t test = hot ? test_of(b) : none;
      for (row_ = b.first; row_ < b.first + b.count; ++row_) {
        if (row_ == test) pad(Pad::Jump);
        instruction(f_.code[row_]);
      }
      straighten();
      if (block_ == frame_.place.behind) prologue();
      for (const Jump& j : held_) {
        if (hot && (test == none || &j != &held_[0])) pad(Pad::Jump);
        jump(j);
      }
      held_.clear();
    }
    find_jumps_back();
    relax();
    move_apart();
    tables();
    for (uint32_t b = 0; b < f_.blocks.size(); ++b)
      out_.blocks.push_back({f_.blocks[b].origin, starts_[b].offset, f_.blocks[b].depth, starts_[b].is_target,
                             starts_[b].align, stands_at_start(b), f_.blocks[b].copy,
                             f_.blocks[b].frequency});
    bool any_may_turn = std::any_of(jumps_.begin(), jumps_.end(), [](const Jump& j) { return j.may_turn; });
    if (out_.align == line_ || any_may_turn)
      std::erase_if(out_.lines, [](const EmittedLine& l) { return l.size == 0; });
    return std::move(out_);
  }

 private:
  struct Start {  // of a block
    uint32_t offset, next_jump;
    bool is_target;
    uint8_t align = 1;
  };
  enum class Pad : uint8_t { None, Loop, Jump };  // what it stands before; a jump's comparison is one with it
  struct Jump {                                   // or padding: all that grows
    FormIndex form;
    Role role;
    Instruction origin;
    uint32_t row;       // of the code
    uint32_t block;     // where to; padding: which begins behind it
    uint32_t line = 0;  // which it became
    uint8_t short_size = 0;
    uint32_t growth = 0;  // bytes that it and those before it have grown
    uint32_t back = 0;    // padding: the last jump back to the block, or 0
    bool may_turn = false, turned = false;
    Pad pad = Pad::None;
    bool is_padding() const { return pad != Pad::None; }
  };

  bool stands_at_start(uint32_t b) const {
    return frame_.place.at_end_of(b) && b != frame_.place.before && b != frame_.place.behind;
  }
  uint32_t here() const { return static_cast<uint32_t>(out_.bytes.size()); }

  // Blocks that only jump on, once copies within one register are gone: jumps to them go further at once.
  void find_empty_blocks() {
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      leads_to_[b] = b;
      const CodeBlock& block = f_.blocks[b];
      bool empty = b != 0 && b != frame_.place.before && b != frame_.place.behind &&
                   f_.successors(block).size() == 1 && block.table == none && block.count > 0 &&
                   f_.code[block.first + block.count - 1].form == target_.upkeep.jump;
      for (uint32_t k = block.first; empty && k + 1 < block.first + block.count; ++k) {
        const CodeLine& i = f_.code[k];
        empty = i.form == copy_form && f_.of(i)[0].reg == f_.of(i)[1].reg;
      }
      if (empty && block.successors[0] != b) leads_to_[b] = block.successors[0];
    }
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      uint32_t end = b;
      for (size_t steps = 0; leads_to_[end] != end; end = leads_to_[end])
        if (++steps > f_.blocks.size()) break;  // empty blocks in a ring: an endless loop stays one
      bool ring = leads_to_[end] != end;
      uint32_t at = b;
      while (!ring && leads_to_[at] != end) {
        uint32_t next = leads_to_[at];
        leads_to_[at] = end;
        at = next;
      }
      if (ring) leads_to_[b] = b;
    }
  }
  bool is_empty(uint32_t b) const { return leads_to_[b] != b; }

  // Loops that hold no other; the first block of one in the order of the code is where it begins.
  void find_inner_loops() {
    is_inner_.assign(f_.loops.size(), 1);
    for (const CodeLoop& l : f_.loops)
      if (l.outer != no_loop) is_inner_[l.outer] = 0;
    begins_ = is_inner_;
  }
  bool is_loop_start(uint32_t b) {
    uint32_t loop = f_.blocks[b].loop;
    if (!align_loops_ || loop == no_loop || !begins_[loop] || is_empty(b)) return false;
    begins_[loop] = 0;  // not again
    return true;
  }
  // The row before the first of two jumps that end a block: what that one asks for. One alone may go.
  uint32_t test_of(const CodeBlock& b) const {
    uint32_t jumps = 0;
    while (jumps < b.count && is_jump(f_.code[b.first + b.count - 1 - jumps])) ++jumps;
    return jumps == 2 && jumps < b.count ? b.first + b.count - 3 : none;
  }
  bool is_jump(const CodeLine& i) const {
    if (i.form < first_real_form) return false;
    auto label = label_operand(target_.form(i.form));
    return label && f_.of(i)[*label].kind == OperandKind::Label;
  }
  void pad(Pad before) {
    out_.align = line_;
    jumps_.push_back({.row = EmittedLine::no_row,
                      .block = block_,
                      .line = static_cast<uint32_t>(out_.lines.size()),
                      .pad = before});
    for (uint32_t k = 0; k < lines_of(jumps_.back()); ++k)
      out_.lines.push_back({.offset = here(), .role = Role::Padding});
  }
  void find_jumps_back() {
    if (out_.align != line_) return;
    std::vector<uint32_t> padding(f_.blocks.size());  // by block: which padding stands before it, plus one
    for (uint32_t k = 0; k < jumps_.size(); ++k)
      if (jumps_[k].pad == Pad::Loop)
        padding[jumps_[k].block] = k + 1;
      else if (uint32_t p = padding[jumps_[k].block]; p && !jumps_[k].is_padding())
        jumps_[p - 1].back = k;
  }
  // How much padding `k` takes, which begins at `at`.
  uint32_t padding_at(size_t k, uint32_t at) {
    if (jumps_[k].pad == Pad::Jump) return to_next_line(at, jump_behind(k));
    // The multiple of 16 from which fewer jumps of the loop have to be moved.
    uint32_t near = round_up<uint32_t>(at, least_), start = near;
    if (jumps_[k].back && paddings_from(k, near + least_) < paddings_from(k, near)) start = near + least_;
    bool on_line = start % line_ == 0;
    starts_[jumps_[k].block].align = static_cast<uint8_t>(start == near ? least_ : on_line ? line_ : 1);
    return start - at;
  }
  // Nothing where as many bytes lie within a line, and do not end it, or where one instruction would not do.
  uint32_t to_next_line(uint32_t at, uint32_t bytes) const {
    uint32_t by = at / line_ == (at + bytes) / line_ ? 0 : line_ - at % line_;
    return by <= padding_line_bytes ? by : 0;
  }
  // Bytes from a padding to the end of the jump behind it.
  uint32_t jump_behind(size_t k) const {
    const Jump& j = jumps_[k + 1];
    return out_.lines[j.line].offset + size_of(j) - out_.lines[jumps_[k].line].offset;
  }
  // How many jumps of a loop would be moved if it began there.
  unsigned paddings_from(size_t loop, uint32_t start) const {
    unsigned out = 0;
    uint32_t grown = start - out_.lines[jumps_[loop].line].offset;
    for (size_t k = loop + 1; k <= jumps_[loop].back; ++k) {
      const Jump& j = jumps_[k];
      if (!j.is_padding()) {
        grown += size_of(j) - j.short_size;
        continue;
      }
      uint32_t by = to_next_line(out_.lines[j.line].offset + grown, jump_behind(k));
      grown += by, out += by != 0;
    }
    return out;
  }
  uint32_t next_block() const {
    uint32_t b = block_ + 1;
    while (b < f_.blocks.size() && is_empty(b)) ++b;
    return b;
  }

  // One instruction's bytes and its line.
  void write(const PlainInstruction& p, Role role, Instruction origin, const Reference& r = {}) {
    Encoded e = target_.encode(target_, p);
    uint32_t at = here();
    uint32_t row = role == Role::Frame ? EmittedLine::no_row : row_;
    out_.lines.push_back({at, origin, r.index, static_cast<int32_t>(r.addend), row, {}, e.size, role, r.to});
    if (e.fixup != Encoded::no_fixup && (r.to == EmittedLine::To::Symbol || r.to == EmittedLine::To::Pool)) {
      bool is_pool = r.to == EmittedLine::To::Pool, relative = target_.fixups[e.fixup].relative;
      out_.fixups.push_back({is_pool ? Fixup::To::Pool : Fixup::To::Symbol, e.fixup, at + e.fixup_at, r.index,
                             relative ? r.addend - (e.size - e.fixup_at) : r.addend});
    }
    out_.bytes.insert(out_.bytes.end(), e.bytes, e.bytes + e.size);
  }

  void prologue() {
    frame_.stands = true;
    frame_.lines.clear();
    target_.frame.enter(target_, {f_.frame_bytes, f_.saved}, frame_.lines);
    write_frame_lines();
  }
  void epilogue() {
    frame_.lines.clear();
    target_.frame.leave(target_, {f_.frame_bytes, f_.saved}, frame_.lines);
    write_frame_lines();
  }
  void write_frame_lines() {
    for (PlainInstruction& p : frame_.lines) {
      auto label = label_operand(target_.form(p.form));
      p.form = fitting_form(target_, p);
      Reference loop;  // a jump back within the prologue
      if (label)
        loop = {EmittedLine::To::Here, 0, p.operands[*label].literal + target_.encode(target_, p).size};
      write(p, Role::Frame, {}, loop);
    }
  }
  PlainOperand in_frame(int64_t offset) const {
    return PlainOperand::memory(target_.convention.stack, offset);
  }

  // Copies, spills and reloads in the book's forms.
  void own_form(const CodeLine& i) {
    auto operands = f_.of(i);
    unsigned register_class = target_.class_of(operands[0].reg);
    PlainOperand first = PlainOperand::reg(operands[0].reg);
    if (i.form == copy_form) {
      if (operands[0].reg == operands[1].reg) return;
      FormIndex move = target_.move_form(register_class, static_cast<unsigned>(operands[0].value));
      return write({move, {first, PlainOperand::reg(operands[1].reg)}}, Role::Move, i.origin);
    }
    const FrameSlot& slot = f_.slots[static_cast<size_t>(operands[1].value)];
    const SpillForm& forms = target_.spill_form(register_class, static_cast<unsigned>(8 * slot.bytes));
    PlainOperand memory = in_frame(slot.offset);
    write(i.form == spill_form ? PlainInstruction{forms.spill, {memory, first}}
                               : PlainInstruction{forms.reload, {first, memory}},
          i.role, i.origin);
  }

  // Jump tables are numbered behind the pool's entries.
  Reference reference_of(const CodeAddress& a) const {
    if (a.anchor == Anchor::Pool) return {EmittedLine::To::Pool, a.anchored, 0};
    if (a.anchor == Anchor::Table)
      return {EmittedLine::To::Pool, static_cast<uint32_t>(f_.pool.size()) + a.anchored, 0};
    return {EmittedLine::To::Symbol, a.anchored, a.displacement};
  }
  PlainAddress plain_address(const CodeAddress& a, Reference& r) const {
    PlainAddress p;
    if (a.base != no_register) p.base = static_cast<int8_t>(a.base);
    if (a.index != no_register) p.index = static_cast<int8_t>(a.index);
    p.scale = a.scale;
    p.relative = a.anchor == Anchor::Symbol || a.anchor == Anchor::Pool || a.anchor == Anchor::Table;
    if (p.relative)
      r = reference_of(a);
    else
      p.displacement = static_cast<int32_t>(a.displacement);
    return p;
  }

  void instruction(const CodeLine& i) {
    if (i.form < first_real_form) return own_form(i);
    bool leaves = i.call != none && f_.calls[i.call].leaves;
    if ((i.form == target_.upkeep.return_values || leaves) && frame_.stands) epilogue();
    auto label = label_operand(target_.form(i.form));
    if (label && f_.of(i)[*label].kind == OperandKind::Label) {  // it may be a function, which is jumped to
      auto to = static_cast<size_t>(f_.of(i)[*label].value);
      held_.push_back({target_.form(i.form).first_in_group, i.role, i.origin, row_, leads_to_[to]});
      return;
    }
    Reference reference;
    PlainInstruction plain = plain_instruction(i, reference);
    bool jumps_away = reference.to == EmittedLine::To::Symbol && target_.form(i.form).is_jump;
    if (jumps_away)  // a function may lie anywhere
      while (FormIndex next = target_.form(plain.form).next_in_group) plain.form = next;
    else
      plain.form = fitting_form(target_, plain);
    write(plain, i.role, i.origin, reference);
  }

  // With what stands for labels, symbols and constants left out.
  PlainInstruction plain_instruction(const CodeLine& i, Reference& reference) const {
    PlainInstruction plain{i.form, {}};
    auto operands = f_.of(i);
    for (size_t k = 0; k < operands.size(); ++k) {
      const CodeOperand& o = operands[k];
      PlainOperand& p = plain.operands[k];
      p.kind = o.kind;
      switch (o.kind) {
        case OperandKind::Register: p.physical = static_cast<uint8_t>(o.reg); break;
        case OperandKind::Literal:
          if (o.part == Part::Whole)
            p.literal = o.value;
          else
            reference = reference_of(f_.addresses[static_cast<size_t>(o.value)]);
          break;
        case OperandKind::Label: break;
        case OperandKind::Symbol:
          reference = {EmittedLine::To::Symbol, static_cast<uint32_t>(o.value), 0};
          break;
        case OperandKind::Memory:
        case OperandKind::Address:
          p.address = plain_address(f_.addresses[static_cast<size_t>(o.value)], reference);
          break;
      }
    }
    return plain;
  }

  // Of the jumps that end a block, one to the next block goes; a conditional one over an unconditional one is
  // turned round, and so is one that is taken less often than the unconditional one behind it.
  void straighten() {
    if (held_.empty()) return;
    uint32_t next = next_block();
    if (held_.size() == 2) {
      auto frequency = [&](const Jump& j) { return f_.blocks[j.block].frequency; };
      bool falls = held_[0].block == next;
      bool turns = falls || (held_[1].block != next && frequency(held_[0]) < frequency(held_[1]));
      if (FormIndex opposite = target_.form(held_[0].form).opposite; opposite && turns) {
        held_[0].form = target_.form(opposite).first_in_group;
        std::swap(held_[0].block, held_[1].block);
        if (falls) held_.pop_back();
        return;
      }
    }
    if (held_.back().block == next) held_.pop_back();
  }

  void jump(const Jump& j) {
    jumps_.push_back(j);
    jumps_.back().line = static_cast<uint32_t>(out_.lines.size());
    row_ = j.row;
    write(jump_at(j.form, j.row, 0), j.role, j.origin, {EmittedLine::To::Block, j.block, 0});
    jumps_.back().short_size = out_.lines.back().size;
    jumps_.back().may_turn = turns(target_.form(j.form));
    if (!jumps_.back().may_turn) return;
    out_.lines.push_back(out_.lines.back());  // for the second one, should it come to that
    out_.lines.back().offset += out_.lines.back().size;
    out_.lines.back().size = 0;
  }

  // The jump of a row in this form, over a distance.
  PlainInstruction jump_at(FormIndex form, uint32_t row, int64_t distance) const {
    Reference none;
    PlainInstruction out = plain_instruction(f_.code[row], none);
    out.form = form;
    out.operands[*label_operand(target_.form(form))].literal = distance;
    return out;
  }
  // A conditional jump that has no form for a distance of any length: it becomes the opposite one over an
  // unconditional one.
  bool turns(const Form& form) const {
    return form.opposite && form.operands[*label_operand(form)].literal_bits < 32 &&
           target_.form(form.first_in_group).next_in_group == 0;
  }
  FormIndex furthest_jump() const {
    FormIndex f = target_.upkeep.jump;
    while (target_.form(f).next_in_group) f = target_.form(f).next_in_group;
    return f;
  }
  uint8_t jump_size(FormIndex form, uint32_t row) const {
    return target_.encode(target_, jump_at(form, row, 0)).size;
  }
  PlainInstruction plain_jump(int64_t distance) const {
    PlainInstruction out{furthest_jump(), {{.kind = OperandKind::Label}}};
    out.operands[0].literal = distance;
    return out;
  }

  uint32_t growth_before(uint32_t jump) const { return jump ? jumps_[jump - 1].growth : 0; }
  uint32_t final_start(uint32_t block) const {
    return starts_[block].offset + growth_before(starts_[block].next_jump);
  }
  uint32_t size_of(const Jump& j) const {
    return out_.lines[j.line].size + (j.turned ? out_.lines[j.line + 1].size : 0u);
  }
  // From its end.
  int64_t distance(size_t k) const {
    const EmittedLine& l = out_.lines[jumps_[k].line];
    return int64_t(final_start(jumps_[k].block)) -
           (int64_t(l.offset) + growth_before(static_cast<uint32_t>(k)) + size_of(jumps_[k]));
  }

  // Jumps grow from short to long until all distances fit: growing only ever makes distances longer. Paddings
  // follow from what stands before them and from how long jumps are.
  void relax() {
    for (bool grown = true; grown;) {
      grown = false;
      for (size_t k = 0; k < jumps_.size(); ++k) {
        Jump& j = jumps_[k];
        if (j.is_padding()) continue;
        const Form& form = target_.form(j.form);
        if (j.turned || reaches(form.operands[*label_operand(form)], distance(k))) continue;
        if (form.next_in_group) {
          j.form = form.next_in_group;
          out_.lines[j.line].size = jump_size(j.form, j.row);
        } else if (j.may_turn) {
          j.turned = true;
          out_.lines[j.line + 1].size = target_.encode(target_, plain_jump(0)).size;
        } else {
          continue;
        }
        grown = true;
      }
      uint32_t sum = 0;
      for (size_t k = 0; k < jumps_.size(); ++k) {
        Jump& j = jumps_[k];
        const EmittedLine& l = out_.lines[j.line];
        sum += j.is_padding() ? padding_at(k, l.offset + sum) : size_of(j) - uint32_t(j.short_size);
        grown |= j.is_padding() && j.growth != sum;
        j.growth = sum;
      }
    }
  }

  // Bytes, lines and fixups go to their final places, the last first.
  void move_apart() {
    uint32_t end = here();
    size_t line = out_.lines.size(), fixup = out_.fixups.size();
    if (!jumps_.empty()) out_.bytes.resize(end + jumps_.back().growth);
    for (size_t k = jumps_.size(); k-- > 0;) {
      const Jump& j = jumps_[k];
      uint32_t from = out_.lines[j.line].offset + j.short_size;
      if (j.growth) {
        std::copy_backward(out_.bytes.begin() + from, out_.bytes.begin() + end,
                           out_.bytes.begin() + end + j.growth);
        while (line > j.line + lines_of(j)) out_.lines[--line].offset += j.growth;
        for (; fixup > 0 && out_.fixups[fixup - 1].offset >= from; --fixup)
          out_.fixups[fixup - 1].offset += j.growth;
      }
      line = j.line;
      EmittedLine& l = out_.lines[line];
      if (j.is_padding()) {
        end = l.offset;
        write_padding(k);
        continue;
      }
      end = l.offset;
      int64_t over = distance(k);
      l.offset += growth_before(static_cast<uint32_t>(k));
      write_jump(j, over);
      starts_[j.block].is_target = true;
    }
    for (Start& s : starts_) s.offset += growth_before(s.next_jump);
  }

  void tables() {
    for (size_t t = 0; t < f_.tables.size(); ++t) {
      std::vector<uint32_t>& out = out_.tables.emplace_back();
      for (uint32_t block : f_.tables[t]) {
        out.push_back(leads_to_[block]);
        starts_[out.back()].is_target = true;
      }
    }
  }

  void put_bytes(uint32_t at, const PlainInstruction& p) {
    Encoded e = target_.encode(target_, p);
    std::copy(e.bytes, e.bytes + e.size, out_.bytes.begin() + at);
  }
  void write_jump(const Jump& j, int64_t over) {
    EmittedLine& first = out_.lines[j.line];
    if (!j.turned) {
      put_bytes(first.offset, jump_at(j.form, j.row, over));
      if (j.may_turn) out_.lines[j.line + 1].offset = first.offset + first.size;
      return;
    }
    EmittedLine& second = out_.lines[j.line + 1];
    second.offset = first.offset + first.size;
    first.to = EmittedLine::To::Here, first.addend = first.size + second.size;
    put_bytes(first.offset, jump_at(target_.form(j.form).opposite, j.row, second.size));
    put_bytes(second.offset, plain_jump(over));
  }

  static uint32_t lines_of(const Jump& j) { return j.pad == Pad::Loop ? padding_lines : j.may_turn ? 2 : 1; }
  void write_padding(size_t k) {
    EmittedLine* lines = &out_.lines[jumps_[k].line];
    uint32_t before = growth_before(static_cast<uint32_t>(k)), at = lines[0].offset + before,
             size = jumps_[k].growth - before;
    for (uint32_t line = 0; line < lines_of(jumps_[k]); ++line, at += lines[line - 1].size) {
      lines[line].offset = at;
      lines[line].size = size ? target_.pad(std::span(out_.bytes).subspan(at, size)) : uint8_t(0);
      size -= lines[line].size;
    }
  }

  static constexpr uint32_t padding_line_bytes = 8;  // one instruction may take as many at least
  static constexpr uint32_t padding_lines = 4;       // of a loop's: 31 bytes at most

  const Code& f_;
  const Target& target_;
  struct {
    const FramePlace place;
    bool stands = false;                  // where code is written
    std::vector<PlainInstruction> lines;  // of the current prologue or epilogue
  } frame_;
  bool align_loops_;
  const uint32_t least_, line_;             // see CodeAlignment
  std::vector<uint8_t> is_inner_, begins_;  // by loop: it holds no other; and has not begun yet
  CompiledFunction out_;
  std::pmr::vector<uint32_t> leads_to_;  // by block: itself, or where an empty one jumps to
  std::pmr::vector<Start> starts_;       // by block
  std::pmr::vector<Jump> jumps_;         // in order
  std::pmr::vector<Jump> held_;          // of the current block
  uint32_t block_ = 0, row_ = 0;         // the current ones
};

std::string operand_text(const Target& target, const FormOperand& shape, const PlainOperand& o,
                         const std::string& name) {
  switch (shape.kind) {
    case OperandKind::Register: return std::string(target.register_name(o.physical, shape.type.total_bits()));
    case OperandKind::Literal: return name.empty() ? std::to_string(o.literal) : name;
    case OperandKind::Label:
    case OperandKind::Symbol: return name;
    case OperandKind::Address: return target.spell_address(target, o.address, 0, name);
    case OperandKind::Memory: return target.spell_address(target, o.address, shape.type.total_bits(), name);
  }
  return "";
}

}  // namespace

FormIndex fitting_form(const Target& target, const PlainInstruction& plain) {
  FormIndex f = target.form(plain.form).first_in_group;
  for (; target.form(f).next_in_group; f = target.form(f).next_in_group) {
    const Form& form = target.form(f);
    bool fits = true;
    for (size_t k = 0; k < form.operands.size(); ++k) {
      const FormOperand& o = form.operands[k];
      const PlainOperand& p = plain.operands[k];
      if (o.kind == OperandKind::Literal) fits &= literal_fits(o, p.literal);
      if (o.only >= 0) fits &= o.only == (o.kind == OperandKind::Literal ? p.literal : int64_t(p.physical));
    }
    if (fits) break;
  }
  return f;
}

std::optional<size_t> label_operand(const Form& form) {
  for (size_t k = 0; k < form.operands.size(); ++k)
    if (form.operands[k].kind == OperandKind::Label) return k;
  return std::nullopt;
}

std::vector<size_t> constant_places(const CompiledFunction& f) {
  std::vector<size_t> out;
  size_t at = 0;
  for (const PoolEntry& e : f.pool) {
    out.push_back(at = round_up<size_t>(at, e.bytes));
    at += e.bytes;
  }
  at = round_up<size_t>(at, table_entry_bytes);
  for (const std::vector<uint32_t>& t : f.tables) {
    out.push_back(at);
    at += table_entry_bytes * t.size();
  }
  out.push_back(at);
  return out;
}

void put_constants(const CompiledFunction& f, std::span<const size_t> places, ByteOrder order,
                   const uint8_t* code, uint8_t* memory) {
  for (size_t k = 0; k < f.pool.size(); ++k) put_entry(f.pool[k], order, memory + places[k]);
  for (size_t k = 0; k < f.tables.size(); ++k) {
    uint8_t* const table = memory + places[f.pool.size() + k];
    uint8_t* at = table;
    for (uint32_t block : f.tables[k]) {
      const uint64_t distance =
          reinterpret_cast<uint64_t>(code) + f.blocks[block].offset - reinterpret_cast<uint64_t>(table);
      put_value(Type::integer(8 * table_entry_bytes), {&distance, 1}, order, at);
      at += table_entry_bytes;
    }
  }
}

CompiledFunction emit(const Code& f, const Target& target, EmitOptions options) {
  return Emitter(f, target, options).run();
}

PlainInstruction instruction_at(const Target& target, const CompiledFunction& f, const EmittedLine& line) {
  PlainInstruction out;
  target.decode(target, {f.bytes.data() + line.offset, line.size}, out);
  return out;
}

std::string spell(const Target& target, const PlainInstruction& i, const OperandNames& names) {
  const Form& form = target.form(i.form);
  std::string out;
  for (char c : form.spelling) {
    size_t k = static_cast<size_t>(c) - 1;
    if (c > 0 && k < form.operands.size())
      out += operand_text(target, form.operands[k], i.operands[k], names[k]);
    else
      out += c;
  }
  return out;
}

std::string spell(const Target& target, const PlainInstruction& i, const std::string& name) {
  OperandNames names;
  const Form& form = target.form(i.form);
  for (size_t k = 0; k < form.operands.size(); ++k) {
    OperandKind kind = form.operands[k].kind;
    bool address = kind == OperandKind::Memory || kind == OperandKind::Address;
    if (kind == OperandKind::Label || kind == OperandKind::Symbol ||
        (address && i.operands[k].address.relative))
      names[k] = name;
  }
  return spell(target, i, names);
}

}  // namespace porphyry::machine
