// Idea: blocks are written one behind the other, each instruction in the shortest form of its group that fits
// what is known; jumps in their short form, and with no padding, until all is written (`relax.h`). Invariant:
// a line's offset, size and row of the code belong together. Cost: O(n).
#include "porphyry/machine/emit.h"

#include <algorithm>

#include "empty_blocks.h"
#include "frame_place.h"
#include "plain.h"
#include "relax.h"

namespace porphyry::machine {
namespace {

class Emitter {
 public:
  Emitter(const Code& f, const Target& target, EmitOptions options)
      : f_(f),
        target_(target),
        frame_{place_frame(f, target, options.late_frame)},
        align_loops_(options.align_loops && target.alignment.line),
        relaxer_(f, target, out_),
        leads_to_(f.blocks.size(), f.memory()),
        held_(f.memory()) {
    out_.name = f.name;
    out_.align = target.alignment.function;
    out_.pool.assign(f.pool.begin(), f.pool.end());
    out_.frame_bytes = f.frame.bytes;
    out_.saved = f.frame.saved;
    out_.bytes.reserve(4 * f.code.size() + 16);
    out_.lines.reserve(f.code.size() + 8);
    out_.blocks.reserve(f.blocks.size());
  }

  CompiledFunction run() {
    find_empty_blocks();
    if (align_loops_) find_inner_loops();
    for (block_ = 0; block_ < f_.blocks.size(); ++block_) {
      if (is_loop_start(block_)) relaxer_.pad(Pad::Loop, block_);
      relaxer_.begin_block();
      frame_.stands = stands_at_start(block_);
      if (block_ == frame_.place.before) prologue();
      if (is_empty(block_)) continue;
      const CodeBlock& b = f_.blocks[block_];
      const bool repeats = align_loops_ && b.loop != no_loop;
      const uint32_t test = repeats ? test_of(b) : none;
      for (row_ = b.first; row_ < b.first + b.count; ++row_) {
        if (row_ == test) relaxer_.pad(Pad::Jump, block_);
        instruction(f_.code[row_]);
      }
      straighten();
      if (block_ == frame_.place.behind) prologue();
      for (const Jump& j : held_) {
        if (repeats && (test == none || &j != &held_[0])) relaxer_.pad(Pad::Jump, block_);
        jump(j);
      }
      held_.clear();
    }
    relaxer_.run();
    tables();
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      const BlockStart& at = relaxer_.start(b);
      const CodeBlock& block = f_.blocks[b];
      out_.blocks.push_back({block.origin, at.offset, block.depth, at.is_target, at.align, stands_at_start(b),
                             block.copy, block.frequency});
    }
    if (relaxer_.leaves_empty_lines())
      std::erase_if(out_.lines, [](const EmittedLine& l) { return l.size == 0; });
    return std::move(out_);
  }

 private:
  bool stands_at_start(uint32_t b) const {
    return frame_.place.at_end_of(b) && b != frame_.place.before && b != frame_.place.behind;
  }
  uint32_t here() const { return static_cast<uint32_t>(out_.bytes.size()); }

  // Blocks that only jump on, once copies within one register are gone: jumps to them go further at once.
  void find_empty_blocks() {
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      leads_to_[b] = b;
      const CodeBlock& block = f_.blocks[b];
      const bool holds_frame = b == frame_.place.before || b == frame_.place.behind;
      if (b != 0 && !holds_frame && only_goes_on(f_, block, target_) && block.successors[0] != b)
        leads_to_[b] = block.successors[0];
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
    begins_.assign(f_.loops.size(), 1);
    for (const CodeLoop& l : f_.loops)
      if (l.outer != no_loop) begins_[l.outer] = 0;
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
    target_.frame.enter(target_, f_.frame, frame_.lines);
    write_frame_lines();
  }
  void epilogue() {
    frame_.lines.clear();
    target_.frame.leave(target_, f_.frame, frame_.lines);
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
    PlainInstruction plain = plain_instruction(f_, i, reference);
    bool jumps_away = reference.to == EmittedLine::To::Symbol && target_.form(i.form).is_jump;
    if (jumps_away)  // a function may lie anywhere
      while (FormIndex next = target_.form(plain.form).next_in_group) plain.form = next;
    else
      plain.form = fitting_form(target_, plain);
    write(plain, i.role, i.origin, reference);
  }

  // Of the jumps that end a block, one to the next block goes; a conditional one over an unconditional one is
  // turned round, and so is one that is taken less often than the unconditional one behind it.
  void straighten() {
    if (held_.empty()) return;
    uint32_t next = next_block();
    if (held_.size() == 2) {
      bool falls = held_[0].block == next;
      bool turns = falls || (held_[1].block != next && is_rarer(held_[0].block, held_[1].block));
      if (FormIndex opposite = target_.form(held_[0].form).opposite; opposite && turns) {
        held_[0].form = target_.form(opposite).first_in_group;
        std::swap(held_[0].block, held_[1].block);
        if (falls) held_.pop_back();
        return;
      }
    }
    if (held_.back().block == next) held_.pop_back();
  }

  // Whether the current block goes on at `a` less often than at `b`. A block that many come to may be more
  // frequent than a loop that leads there.
  bool is_rarer(uint32_t a, uint32_t b) const {
    const bool stays = in_this_loop(a);
    if (stays != in_this_loop(b)) return !stays;
    return f_.weight(f_.blocks[a]) < f_.weight(f_.blocks[b]);
  }
  // A way into further loops is a short one, as each begins where it is entered.
  bool in_this_loop(uint32_t block) const {
    const uint32_t here = f_.blocks[block_].loop;
    if (here == no_loop) return true;
    uint32_t loop = f_.blocks[block].loop;
    while (loop != no_loop && f_.loops[loop].depth > f_.loops[here].depth) loop = f_.loops[loop].outer;
    return loop == here;
  }

  void jump(const Jump& j) {
    row_ = j.row;
    write(relaxer_.short_form(j), j.role, j.origin, {EmittedLine::To::Block, j.block, 0});
    relaxer_.add(j);
  }

  void tables() {
    for (size_t t = 0; t < f_.tables.size(); ++t) {
      std::vector<uint32_t>& out = out_.tables.emplace_back();
      for (uint32_t block : f_.tables[t]) {
        out.push_back(leads_to_[block]);
        relaxer_.start(out.back()).is_target = true;
      }
    }
  }

  const Code& f_;
  const Target& target_;
  struct {
    const FramePlace place;
    bool stands = false;                  // where code is written
    std::vector<PlainInstruction> lines;  // of the current prologue or epilogue
  } frame_;
  bool align_loops_;
  std::vector<uint8_t> begins_;  // by loop: it holds no other, and has not begun yet
  CompiledFunction out_;
  Relaxer relaxer_;
  std::pmr::vector<uint32_t> leads_to_;  // by block: itself, or where an empty one jumps to
  std::pmr::vector<Jump> held_;          // of the current block
  uint32_t block_ = 0, row_ = 0;         // the current ones
};

}  // namespace

CompiledFunction emit(const Code& f, const Target& target, EmitOptions options) {
  return Emitter(f, target, options).run();
}

}  // namespace porphyry::machine
