// Short pieces of code that are not compiled from the IR.
#include "x64.h"

namespace porphyry::targets {

using namespace machine;

namespace {

class StubWriter {
 public:
  StubWriter(const Target& target, std::vector<uint8_t>& out) : t_(target), out_(out) {}

  void put(FormIndex form, PlainOperand a = {}, PlainOperand b = {}) {
    Encoded e = t_.encode(t_, {form, {a, b}});
    out_.insert(out_.end(), e.bytes, e.bytes + e.size);
  }
  void literal(unsigned physical, uint64_t v) { put(t_.upkeep.move_literal, reg(physical), number(v)); }
  void move(unsigned to, unsigned from) { put(t_.move_form(0, 64), reg(to), reg(from)); }

  void jump_through(int64_t word) {
    // The distance counts from the instruction's end, which does not hang on it.
    FormIndex load = t_.spill_form(0, 64).reload;
    PlainOperand place{.kind = OperandKind::Memory, .address = {.relative = true}};
    int64_t size = t_.encode(t_, {load, {scratch(), place}}).size;
    place.address.displacement = static_cast<int32_t>(word - (here() + size));
    put(load, scratch(), place);
    put(t_.upkeep.jump_through, scratch());
  }

  void jump_with(uint64_t value, int64_t to) {
    literal(t_.convention.scratch, value);
    FormIndex jump = t_.find("jmp", {OperandKind::Label});  // the one that reaches furthest
    PlainOperand label{.kind = OperandKind::Label};
    label.literal = to - (here() + t_.encode(t_, {jump, {label}}).size);
    put(jump, label);
  }

  void ask_and_jump(void* (*host)(void*, uint64_t), void* context) {
    const Convention& c = t_.convention;
    const SpillForm& wide = t_.spill_form(1, 128);
    const FormIndex push = t_.find("push.64", {OperandKind::Register}),
                    pop = t_.find("pop.64", {OperandKind::Register}),
                    grow = t_.find("sub.64", {OperandKind::Register, OperandKind::Literal}),
                    shrink = t_.find("add.64", {OperandKind::Register, OperandKind::Literal});
    std::vector<uint8_t> whole(c.whole.begin(), c.whole.end());
    if (c.float_count >= 0) whole.push_back(static_cast<uint8_t>(c.float_count));
    for (uint8_t r : whole) put(push, reg(r));
    // Behind the return address, what was pushed and the lanes, the stack is aligned again.
    uint64_t lanes = 16 * c.floats.size(), above = 8 * (whole.size() + 1);
    uint64_t room = (above + lanes + c.stack_align - 1) / c.stack_align * c.stack_align - above;
    put(grow, reg(c.stack), number(room));
    for (size_t k = 0; k < c.floats.size(); ++k) put(wide.spill, on_stack(16 * k), reg(c.floats[k]));
    move(c.whole[1], c.scratch);
    literal(c.whole[0], reinterpret_cast<uint64_t>(context));
    literal(c.scratch, reinterpret_cast<uint64_t>(host));
    put(t_.upkeep.call_through, scratch());
    move(c.scratch, c.whole_results[0]);
    for (size_t k = 0; k < c.floats.size(); ++k) put(wide.reload, reg(c.floats[k]), on_stack(16 * k));
    put(shrink, reg(c.stack), number(room));
    for (size_t k = whole.size(); k-- > 0;) put(pop, reg(whole[k]));
    put(t_.upkeep.jump_through, scratch());
  }

 private:
  int64_t here() const { return static_cast<int64_t>(out_.size()); }
  PlainOperand scratch() const { return reg(t_.convention.scratch); }
  PlainOperand on_stack(size_t offset) const {
    return PlainOperand::memory(t_.convention.stack, static_cast<int64_t>(offset));
  }

  const Target& t_;
  std::vector<uint8_t>& out_;
};

}  // namespace

const Stubs x64_stubs{
    .jump_far =
        [](const Target& t, std::vector<uint8_t>& out, uint64_t address) {
          StubWriter w(t, out);
          w.literal(t.convention.scratch, address);
          w.put(t.upkeep.jump_through, reg(t.convention.scratch));
        },
    .jump_through = [](const Target& t, std::vector<uint8_t>& out,
                       int64_t word) { StubWriter(t, out).jump_through(word); },
    .jump_with = [](const Target& t, std::vector<uint8_t>& out, uint64_t value,
                    int64_t to) { StubWriter(t, out).jump_with(value, to); },
    .ask_and_jump = [](const Target& t, std::vector<uint8_t>& out, void* (*host)(void*, uint64_t),
                       void* context) { StubWriter(t, out).ask_and_jump(host, context); }};

}  // namespace porphyry::targets
