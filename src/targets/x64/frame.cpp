// Frames: kept registers are pushed, then the stack pointer goes down. A frame larger than a page is touched
// page by page from the top, so that a stack that must grow sees each page in turn and one that cannot ends
// in its guard.
#include "porphyry/machine/emit.h"
#include "x64.h"

namespace porphyry::targets {

using namespace machine;

namespace {

constexpr uint64_t page = 4096;             // the smallest that a processor guards
constexpr uint64_t most_single_probes = 4;  // as many instructions as the loop has

struct FrameForms {
  explicit FrameForms(const Target& t)
      : push(t.find("push.64", {OperandKind::Register})),
        pop(t.find("pop.64", {OperandKind::Register})),
        grow(t.find("sub.64", {OperandKind::Register, OperandKind::Literal})),
        shrink(t.find("add.64", {OperandKind::Register, OperandKind::Literal})),
        literal(t.find("mov.64", {OperandKind::Register, OperandKind::Literal})),
        touch(t.find("mov.64", {OperandKind::Memory, OperandKind::Register})),
        again(t.find("jne", {OperandKind::Label})) {}
  FormIndex push, pop, grow, shrink, literal, touch, again;
};
const FrameForms& forms(const Target& target) {
  static const FrameForms all(target);  // constant, like the tables it is read from
  return all;
}

using Out = std::vector<PlainInstruction>;

PlainOperand in_frame(const Target& target, uint64_t below) {
  return PlainOperand::memory(target.convention.stack, -static_cast<int64_t>(below));
}

// The scratch register, which carries no argument, counts down from `bytes` to nothing.
void probe_in_a_loop(const Target& target, uint64_t bytes, Out& out) {
  const FrameForms& f = forms(target);
  const PlainOperand left = reg(target.convention.scratch);
  out.push_back({f.literal, {left, number(bytes)}});
  size_t again = out.size();
  PlainOperand memory = in_frame(target, bytes + page);
  memory.address.index = static_cast<int8_t>(left.physical);
  out.push_back({f.touch, {memory, reg(target.convention.stack)}});
  out.push_back({f.grow, {left, number(page)}});
  PlainInstruction jump{target.form(f.again).first_in_group, {{.kind = OperandKind::Label}}};
  int64_t back = target.encode(target, jump).size;
  for (; again < out.size(); ++again) {
    PlainInstruction i = out[again];
    i.form = fitting_form(target, i);
    back += target.encode(target, i).size;
  }
  jump.operands[0].literal = -back;
  out.push_back(jump);
}

void probe(const Target& target, uint64_t frame_bytes, Out& out) {
  uint64_t pages = frame_bytes / page;
  if (pages > most_single_probes) return probe_in_a_loop(target, pages * page, out);
  for (uint64_t down = page; down <= frame_bytes; down += page)
    out.push_back({forms(target).touch, {in_frame(target, down), reg(target.convention.stack)}});
}

uint64_t saved_bytes(const Target&, const RegisterSet& saved) { return 8 * uint64_t(saved.count()); }

void enter(const Target& target, const Frame& frame, Out& out) {
  for (unsigned r : frame.saved) out.push_back({forms(target).push, {reg(r)}});
  probe(target, frame.bytes, out);
  if (frame.bytes) out.push_back({forms(target).grow, {reg(target.convention.stack), number(frame.bytes)}});
}

void leave(const Target& target, const Frame& frame, Out& out) {
  if (frame.bytes) out.push_back({forms(target).shrink, {reg(target.convention.stack), number(frame.bytes)}});
  for (unsigned r = RegisterSet::capacity; r-- > 0;)
    if (frame.saved.has(r)) out.push_back({forms(target).pop, {reg(r)}});
}

FrameEffect effect(const Target& target, const PlainInstruction& i) {
  const FrameForms& f = forms(target);
  auto is = [&](FormIndex form) {
    return target.form(i.form).first_in_group == target.form(form).first_in_group;
  };
  uint8_t first = i.operands[0].physical;
  if (is(f.push)) return {.grows = 8, .saves = first};
  if (is(f.pop)) return {.grows = -8, .restores = first};
  if (first != target.convention.stack) return {};  // the count of a probe
  return {.grows = is(f.grow) ? i.operands[1].literal : is(f.shrink) ? -i.operands[1].literal : 0};
}

}  // namespace

const FrameInterface x64_frame{
    .return_bytes = 8, .saved_bytes = saved_bytes, .enter = enter, .leave = leave, .effect = effect};

}  // namespace porphyry::targets
