// Idea: jumps are written in their short form, and paddings as nothing. Then jumps that do not reach grow,
// and paddings take what is missing, which may push other jumps out of reach, until all fit: branch
// relaxation (T. Szymanski, "Assembling Code for Machines with Span-Dependent Instructions", 1978). What
// stands between then moves as a whole. Invariant: jumps only grow, so it ends; what a jump or padding has
// grown holds what those before it have, so a place is found from the next one before it. Cost: O(jumps +
// paddings) a round; three are rare.
#include "relax.h"

#include <algorithm>

#include "plain.h"
#include "porphyry/base/rounding.h"

namespace porphyry::machine {
namespace {

constexpr uint32_t padding_line_bytes = 8;  // one instruction may take as many at least
constexpr uint32_t padding_lines = 4;       // of a loop's: 31 bytes at most

uint32_t lines_of(const Jump& j) { return j.pad == Pad::Loop ? padding_lines : j.may_turn ? 2 : 1; }

}  // namespace

Relaxer::Relaxer(const Code& f, const Target& target, CompiledFunction& out)
    : f_(f),
      target_(target),
      least_(target.alignment.function),
      line_(target.alignment.line),
      out_(out),
      starts_(f.memory()),
      jumps_(f.memory()) {
  starts_.reserve(f.blocks.size());
  jumps_.reserve(2 * f.blocks.size());
}

void Relaxer::begin_block() { starts_.push_back({here(), static_cast<uint32_t>(jumps_.size()), false}); }

void Relaxer::pad(Pad before, uint32_t block) {
  out_.align = line_;
  jumps_.push_back({.row = EmittedLine::no_row,
                    .block = block,
                    .line = static_cast<uint32_t>(out_.lines.size()),
                    .pad = before});
  for (uint32_t k = 0; k < lines_of(jumps_.back()); ++k)
    out_.lines.push_back({.offset = here(), .role = Role::Padding});
}

void Relaxer::add(const Jump& j) {
  jumps_.push_back(j);
  jumps_.back().line = static_cast<uint32_t>(out_.lines.size() - 1);
  jumps_.back().short_size = out_.lines.back().size;
  jumps_.back().may_turn = turns(target_.form(j.form));
  if (!jumps_.back().may_turn) return;
  out_.lines.push_back(out_.lines.back());  // for the second one, should it come to that
  out_.lines.back().offset += out_.lines.back().size;
  out_.lines.back().size = 0;
}

void Relaxer::run() {
  find_jumps_back();
  relax();
  move_apart();
}

bool Relaxer::leaves_empty_lines() const {
  return out_.align == line_ ||
         std::any_of(jumps_.begin(), jumps_.end(), [](const Jump& j) { return j.may_turn; });
}

void Relaxer::find_jumps_back() {
  if (out_.align != line_) return;
  std::vector<uint32_t> padding(f_.blocks.size());  // by block: which padding stands before it, plus one
  for (uint32_t k = 0; k < jumps_.size(); ++k)
    if (jumps_[k].pad == Pad::Loop)
      padding[jumps_[k].block] = k + 1;
    else if (uint32_t p = padding[jumps_[k].block]; p && !jumps_[k].is_padding())
      jumps_[p - 1].back = k;
}

// How much padding `k` takes, which begins at `at`.
uint32_t Relaxer::padding_at(size_t k, uint32_t at) {
  if (jumps_[k].pad == Pad::Jump) return to_next_line(at, jump_behind(k));
  // The multiple of 16 from which fewer jumps of the loop have to be moved.
  uint32_t near = round_up<uint32_t>(at, least_), start = near;
  if (jumps_[k].back && paddings_from(k, near + least_) < paddings_from(k, near)) start = near + least_;
  bool on_line = start % line_ == 0;
  starts_[jumps_[k].block].align = static_cast<uint8_t>(start == near ? least_ : on_line ? line_ : 1);
  return start - at;
}
// Nothing where as many bytes lie within a line, and do not end it, or where one instruction would not do.
uint32_t Relaxer::to_next_line(uint32_t at, uint32_t bytes) const {
  uint32_t by = at / line_ == (at + bytes) / line_ ? 0 : line_ - at % line_;
  return by <= padding_line_bytes ? by : 0;
}
// Bytes from a padding to the end of the jump behind it.
uint32_t Relaxer::jump_behind(size_t k) const {
  const Jump& j = jumps_[k + 1];
  return out_.lines[j.line].offset + size_of(j) - out_.lines[jumps_[k].line].offset;
}
// How many jumps of a loop would be moved if it began there.
unsigned Relaxer::paddings_from(size_t loop, uint32_t start) const {
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

// The jump of a row in this form, over a distance.
PlainInstruction Relaxer::jump_at(FormIndex form, uint32_t row, int64_t distance) const {
  Reference none;
  PlainInstruction out = plain_instruction(f_, f_.code[row], none);
  out.form = form;
  out.operands[*label_operand(target_.form(form))].literal = distance;
  return out;
}
// A conditional jump that has no form for a distance of any length: it becomes the opposite one over an
// unconditional one.
bool Relaxer::turns(const Form& form) const {
  return form.opposite && form.operands[*label_operand(form)].literal_bits < 32 &&
         target_.form(form.first_in_group).next_in_group == 0;
}
FormIndex Relaxer::furthest_jump() const {
  FormIndex f = target_.upkeep.jump;
  while (target_.form(f).next_in_group) f = target_.form(f).next_in_group;
  return f;
}
uint8_t Relaxer::jump_size(FormIndex form, uint32_t row) const {
  return target_.encode(target_, jump_at(form, row, 0)).size;
}
PlainInstruction Relaxer::plain_jump(int64_t distance) const {
  PlainInstruction out{furthest_jump(), {{.kind = OperandKind::Label}}};
  out.operands[0].literal = distance;
  return out;
}

uint32_t Relaxer::final_start(uint32_t block) const {
  return starts_[block].offset + growth_before(starts_[block].next_jump);
}
uint32_t Relaxer::size_of(const Jump& j) const {
  return out_.lines[j.line].size + (j.turned ? out_.lines[j.line + 1].size : 0u);
}
// From its end.
int64_t Relaxer::distance(size_t k) const {
  const EmittedLine& l = out_.lines[jumps_[k].line];
  return int64_t(final_start(jumps_[k].block)) -
         (int64_t(l.offset) + growth_before(static_cast<uint32_t>(k)) + size_of(jumps_[k]));
}

// Jumps grow from short to long until all distances fit: growing only ever makes distances longer. Paddings
// follow from what stands before them and from how long jumps are.
void Relaxer::relax() {
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
void Relaxer::move_apart() {
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
  for (BlockStart& s : starts_) s.offset += growth_before(s.next_jump);
}

void Relaxer::put_bytes(uint32_t at, const PlainInstruction& p) {
  Encoded e = target_.encode(target_, p);
  std::copy(e.bytes, e.bytes + e.size, out_.bytes.begin() + at);
}
void Relaxer::write_jump(const Jump& j, int64_t over) {
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

void Relaxer::write_padding(size_t k) {
  EmittedLine* lines = &out_.lines[jumps_[k].line];
  uint32_t before = growth_before(static_cast<uint32_t>(k)), at = lines[0].offset + before,
           size = jumps_[k].growth - before;
  for (uint32_t line = 0; line < lines_of(jumps_[k]); ++line, at += lines[line - 1].size) {
    lines[line].offset = at;
    lines[line].size = size ? target_.pad(std::span(out_.bytes).subspan(at, size)) : uint8_t(0);
    size -= lines[line].size;
  }
}

}  // namespace porphyry::machine
