#include "porphyry/machine/emit.h"

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

constexpr uint64_t page = 4096;  // the smallest that a processor guards

class Emitter {
 public:
  Emitter(const Code& f, const Target& target) : f_(f), target_(target) {
    out_.name = f.name;
    out_.pool.assign(f.pool.begin(), f.pool.end());
    out_.frame_bytes = f.frame_bytes;
    out_.saved = f.saved;
  }

  CompiledFunction run() {
    find_empty_blocks();
    for (block_ = 0; block_ < f_.blocks.size(); ++block_) {
      block_starts_.push_back(static_cast<uint32_t>(out_.lines.size()));
      if (block_ == 0) prologue();
      if (is_empty(block_)) continue;
      const CodeBlock& b = f_.blocks[block_];
      for (uint32_t k = b.first; k < b.first + b.count; ++k) instruction(f_.code[k]);
      straighten(block_starts_.back());
    }
    relax();
    write();
    return std::move(out_);
  }

 private:
  // Blocks that only jump on, once copies within one register are gone: jumps to them go further at once.
  void find_empty_blocks() {
    leads_to_.resize(f_.blocks.size());
    for (uint32_t b = 0; b < f_.blocks.size(); ++b) {
      leads_to_[b] = b;
      const CodeBlock& block = f_.blocks[b];
      bool empty = b != 0 && block.successors.size() == 1 && block.count > 0 &&
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
  uint32_t next_block() const {
    uint32_t b = block_ + 1;
    while (b < f_.blocks.size() && is_empty(b)) ++b;
    return b;
  }

  static PlainOperand plain_register(unsigned r) {
    return {OperandKind::Register, static_cast<uint8_t>(r), 0, {}};
  }

  EmittedLine& line(FormIndex form, Role role, Instruction origin) {
    EmittedLine l;
    l.plain.form = form;
    l.role = role;
    l.origin = origin;
    l.block = block_;
    out_.lines.push_back(l);
    return out_.lines.back();
  }

  void adjust_stack(FormIndex form) {
    if (f_.frame_bytes == 0) return;
    EmittedLine& l = line(form, Role::Frame, {});
    l.plain.operands[0] = plain_register(target_.convention.stack);
    l.plain.operands[1] = {OperandKind::Literal, 0, static_cast<int64_t>(f_.frame_bytes), {}};
    choose_form(l);
  }
  void prologue() {
    for (unsigned r = 0; r < 64; ++r)
      if (f_.saved & mask_of_register(r))
        line(target_.upkeep.push, Role::Frame, {}).plain.operands[0] = plain_register(r);
    probe();
    adjust_stack(target_.upkeep.grow);
  }
  // A frame larger than a page is touched page by page from the top, so that a stack that must grow sees each
  // page in turn and one that cannot ends in its guard.
  void probe() {
    for (uint64_t down = page; down <= f_.frame_bytes; down += page) {
      EmittedLine& l = line(target_.upkeep.save_general, Role::Frame, {});
      PlainOperand memory{OperandKind::Memory, 0, 0, {}};
      memory.address.base = static_cast<int8_t>(target_.convention.stack);
      memory.address.displacement = -static_cast<int32_t>(down);
      l.plain.operands[0] = memory;
      l.plain.operands[1] = plain_register(target_.convention.stack);
    }
  }
  void epilogue() {
    adjust_stack(target_.upkeep.shrink);
    for (unsigned r = 64; r-- > 0;)
      if (f_.saved & mask_of_register(r))
        line(target_.upkeep.pop, Role::Frame, {}).plain.operands[0] = plain_register(r);
  }

  PlainAddress plain_address(const CodeAddress& a, EmittedLine& l) const {
    PlainAddress p;
    if (a.base != no_register) p.base = static_cast<int8_t>(a.base);
    if (a.index != no_register) p.index = static_cast<int8_t>(a.index);
    p.scale = a.scale;
    p.displacement = static_cast<int32_t>(a.displacement);
    p.relative = a.anchor == Anchor::Symbol || a.anchor == Anchor::Pool;
    if (a.anchor == Anchor::Symbol) l.symbol = a.anchored, l.symbol_offset = a.displacement;
    if (a.anchor == Anchor::Pool) l.pool = a.anchored;
    return p;
  }

  // Copies, saves and fetches in the book's forms.
  void own_form(const CodeLine& i) {
    auto operands = f_.of(i);
    if (i.form == copy_form) {
      Register to = operands[0].reg, from = operands[1].reg;
      if (to == from) return;
      bool general = target_.class_of(to) == 0;
      FormIndex whole =
          operands[0].value <= 32 ? target_.upkeep.move_general_32 : target_.upkeep.move_general_64;
      EmittedLine& l = line(general ? whole : target_.upkeep.move_lanes, Role::Move, i.origin);
      l.plain.operands[0] = plain_register(to);
      l.plain.operands[1] = plain_register(from);
      return;
    }
    bool saves = i.form == save_form;
    const FrameSlot& slot = f_.slots[static_cast<size_t>(operands[1].value)];
    const Upkeep& u = target_.upkeep;
    FormIndex form = target_.class_of(operands[0].reg) == 0 ? (saves ? u.save_general : u.fetch_general)
                     : slot.bytes == 16                     ? (saves ? u.save_wide : u.fetch_wide)
                                                            : (saves ? u.save_lanes : u.fetch_lanes);
    EmittedLine& l = line(form, i.role, i.origin);
    PlainOperand memory{OperandKind::Memory, 0, 0, {}};
    memory.address.base = static_cast<int8_t>(target_.convention.stack);
    memory.address.displacement = static_cast<int32_t>(slot.offset);
    l.plain.operands[saves ? 0 : 1] = memory;
    l.plain.operands[saves ? 1 : 0] = plain_register(operands[0].reg);
  }

  void instruction(const CodeLine& i) {
    if (i.form < first_real_form) return own_form(i);
    bool leaves = i.call != 0xffffffff && f_.calls[i.call].leaves;
    if (i.form == target_.upkeep.give_back || leaves) epilogue();
    EmittedLine& l = line(i.form, i.role, i.origin);
    auto operands = f_.of(i);
    for (size_t k = 0; k < operands.size(); ++k) {
      const CodeOperand& o = operands[k];
      PlainOperand& p = l.plain.operands[k];
      p.kind = o.kind;
      switch (o.kind) {
        case OperandKind::Register: p.physical = static_cast<uint8_t>(o.reg); break;
        case OperandKind::Literal: p.literal = o.value; break;
        case OperandKind::Label: l.target_block = leads_to_[static_cast<size_t>(o.value)]; break;
        case OperandKind::Symbol: l.symbol = static_cast<uint32_t>(o.value); break;
        case OperandKind::Memory:
        case OperandKind::Address:
          p.address = plain_address(f_.addresses[static_cast<size_t>(o.value)], l);
          break;
      }
    }
    choose_form(l);
  }

  // The first form of the group that holds the literals and registers; jumps start short.
  void choose_form(EmittedLine& l) const {
    FormIndex f = target_.form(l.plain.form).first_in_group;
    bool far = l.symbol != 0xffffffff && target_.form(f).is_jump;  // a function may lie anywhere
    for (; target_.form(f).next_in_group; f = target_.form(f).next_in_group) {
      const Form& form = target_.form(f);
      bool fits = !far;
      for (size_t k = 0; k < form.operands.size(); ++k) {
        const FormOperand& o = form.operands[k];
        const PlainOperand& p = l.plain.operands[k];
        if (o.kind == OperandKind::Literal) fits &= literal_fits(o, p.literal);
        if (o.only >= 0) fits &= o.only == (o.kind == OperandKind::Literal ? p.literal : int64_t(p.physical));
      }
      if (fits) break;
    }
    l.plain.form = f;
  }

  // A jump to the next block goes; a conditional jump over an unconditional one is turned round.
  void straighten(uint32_t from) {
    auto& lines = out_.lines;
    auto is_jump = [&](size_t k) {
      if (lines.size() < from + k) return false;
      const EmittedLine& l = lines[lines.size() - k];
      return target_.form(l.plain.form).is_jump && l.target_block != 0xffffffff;
    };
    if (!is_jump(1)) return;
    uint32_t next = next_block();
    bool pair =
        is_jump(2) && !(lines.size() >= from + 3 && target_.form(lines[lines.size() - 3].plain.form).is_jump);
    if (pair && lines[lines.size() - 2].target_block == next) {
      EmittedLine& conditional = lines[lines.size() - 2];
      FormIndex opposite = target_.form(conditional.plain.form).opposite;
      if (opposite) {
        conditional.plain.form = target_.form(opposite).first_in_group;
        conditional.target_block = lines.back().target_block;
        lines.pop_back();
        return;
      }
    }
    if (lines.back().target_block == next) lines.pop_back();
  }

  // Jumps grow from short to long until all distances fit: growing only ever makes distances longer.
  void relax() {
    block_starts_.push_back(static_cast<uint32_t>(out_.lines.size()));
    encoded_.reserve(out_.lines.size());
    for (EmittedLine& l : out_.lines) {
      encoded_.push_back(target_.encode(target_, l.plain));
      l.size = encoded_.back().size;
    }
    for (bool grown = true; grown;) {
      grown = false;
      place_lines();
      for (EmittedLine& l : out_.lines) {
        if (l.target_block == 0xffffffff) continue;
        int64_t distance = int64_t(offset_of_block(l.target_block)) - (l.offset + l.size);
        const Form& form = target_.form(l.plain.form);
        l.plain.operands[0].literal = distance;
        if (form.operands[0].literal_bits >= 32 || (distance >= -128 && distance < 128)) continue;
        l.plain.form = form.next_in_group;
        l.size = target_.encode(target_, l.plain).size;
        grown = true;
      }
    }
  }
  void place_lines() {
    uint32_t at = 0;
    for (EmittedLine& l : out_.lines) l.offset = at, at += l.size;
    end_ = at;
  }
  uint32_t offset_of_block(uint32_t b) const {
    return block_starts_[b] < out_.lines.size() ? out_.lines[block_starts_[b]].offset : end_;
  }

  void write() {
    std::vector<bool> is_target(f_.blocks.size());
    out_.bytes.reserve(end_);
    for (size_t k = 0; k < out_.lines.size(); ++k) {
      const EmittedLine& l = out_.lines[k];
      Encoded& e = encoded_[k];
      if (l.target_block != 0xffffffff) {
        e = target_.encode(target_, l.plain);  // distances are known now
        is_target[l.target_block] = true;
      } else if (e.distance_size) {
        bool is_pool = l.pool != 0xffffffff;
        int64_t addend = l.symbol_offset - (e.size - e.distance_at);
        out_.fixups.push_back({is_pool ? Fixup::To::Pool : Fixup::To::Symbol, l.offset + e.distance_at,
                               is_pool ? l.pool : l.symbol, addend});
        std::fill(e.bytes + e.distance_at, e.bytes + e.distance_at + 4, uint8_t(0));
      }
      out_.bytes.insert(out_.bytes.end(), e.bytes, e.bytes + e.size);
    }
    for (uint32_t b = 0; b < f_.blocks.size(); ++b)
      out_.blocks.push_back({f_.blocks[b].origin, offset_of_block(b), f_.blocks[b].depth, is_target[b]});
  }

  const Code& f_;
  const Target& target_;
  CompiledFunction out_;
  std::vector<uint32_t> leads_to_;      // by block: itself, or where an empty one jumps to
  std::vector<uint32_t> block_starts_;  // first line of each block
  std::vector<Encoded> encoded_;        // by line; those of jumps are made anew
  uint32_t block_ = 0, end_ = 0;
};

std::string operand_text(const Target& target, const FormOperand& shape, const PlainOperand& o,
                         const std::string& name) {
  switch (shape.kind) {
    case OperandKind::Register: return std::string(target.register_name(o.physical, shape.type.bits()));
    case OperandKind::Literal: return std::to_string(o.literal);
    case OperandKind::Label:
    case OperandKind::Symbol: return name;
    case OperandKind::Address: return target.spell_address(target, o.address, 0, name);
    case OperandKind::Memory: return target.spell_address(target, o.address, shape.type.bits(), name);
  }
  return "";
}

}  // namespace

CompiledFunction emit(const Code& f, const Target& target) { return Emitter(f, target).run(); }

std::string spell(const Target& target, const PlainInstruction& i, std::span<const std::string> names) {
  const Form& form = target.form(i.form);
  std::string out;
  for (char c : form.spelling) {
    size_t k = static_cast<size_t>(c) - 1;
    if (c > 0 && k < form.operands.size())
      out +=
          operand_text(target, form.operands[k], i.operands[k], k < names.size() ? names[k] : std::string());
    else
      out += c;
  }
  return out;
}

}  // namespace porphyry::machine
