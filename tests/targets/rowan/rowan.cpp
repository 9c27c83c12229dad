// What the book cannot say: how values are passed, what a frame is, how addresses are written.
#include "rowan.h"

#include <fmt/format.h>

#include "encode.h"
#include "porphyry/machine/literals.h"
#include "porphyry/machine/passing.h"

namespace porphyry::targets {

using namespace machine;

namespace {

// ---- values: integers in words of 32 bits, the lowest first; lanes in memory ------------------------------

const Type word = Type::integer(32);

std::vector<Type> parts(Type t, bool) {
  if (t.has_lanes()) return {};
  if (t.is_float() || t.is_pointer()) return {t};
  return std::vector<Type>((t.bits() + 31) / 32, word);
}
bool as_it_stands(Type t, bool) { return !t.has_lanes() && (t.is_float() || t.is_pointer() || t == word); }
bool aligned_on_stack(Type) { return false; }
std::vector<Type> structure(const CLayout&) { return {}; }

constexpr PassingRules passing_rules{parts, as_it_stands, aligned_on_stack, structure};

// ---- frames: the stack pointer goes down by the saved registers, which are stored, then by the rest
// --------

using Out = std::vector<PlainInstruction>;

PlainOperand reg(unsigned physical) { return PlainOperand::reg(physical); }
PlainOperand on_stack(const Target& t, uint64_t offset) {
  return PlainOperand::memory(t.convention.stack, static_cast<int64_t>(offset));
}

constexpr uint64_t float_bytes = 8, word_bytes = 4;

uint64_t saved_bytes(const Target& t, const RegisterSet& saved) {
  uint64_t bytes = 0;
  for (unsigned r : saved) bytes += t.class_of(r) == 1 ? float_bytes : word_bytes;
  return (bytes + 7) / 8 * 8;
}

// Calls `see` for each saved register with its place: floats first, which want multiples of eight.
template <class See>
void each_saved(const Target& t, const RegisterSet& saved, See see) {
  uint64_t at = 0;
  for (unsigned wanted : {1u, 0u})
    for (unsigned r : saved)
      if (t.class_of(r) == wanted) {
        see(r, at);
        at += wanted == 1 ? float_bytes : word_bytes;
      }
}

void move_stack(const Target& t, int64_t by, Out& out) {
  if (by == 0) return;
  const auto stack = reg(t.convention.stack), far = reg(static_cast<unsigned>(t.convention.far));
  static const FormIndex add_literal = t.find("addi");  // constant, like the tables it is found in
  if (t.address.offset_fits(by))
    return out.push_back({add_literal, {stack, stack, PlainOperand::number(by)}});
  for (const PlainInstruction& i : literal_instructions(t, static_cast<unsigned>(t.convention.far), by))
    out.push_back(i);
  out.push_back({t.upkeep.add, {stack, stack, far}});
}

void enter(const Target& t, const Frame& frame, Out& out) {
  move_stack(t, -static_cast<int64_t>(saved_bytes(t, frame.saved)), out);
  each_saved(t, frame.saved, [&](unsigned r, uint64_t at) {
    out.push_back({t.spill_form(t.class_of(r), 64).spill, {on_stack(t, at), reg(r)}});
  });
  move_stack(t, -static_cast<int64_t>(frame.bytes), out);
}

void leave(const Target& t, const Frame& frame, Out& out) {
  move_stack(t, static_cast<int64_t>(frame.bytes), out);
  each_saved(t, frame.saved, [&](unsigned r, uint64_t at) {
    out.push_back({t.spill_form(t.class_of(r), 64).reload, {reg(r), on_stack(t, at)}});
  });
  move_stack(t, static_cast<int64_t>(saved_bytes(t, frame.saved)), out);
}

// Of interest to debuggers alone, and there is none.
FrameEffect effect(const Target&, const PlainInstruction&) { return {}; }

// ---- the rest ---------------------------------------------------------------------------------------------

constexpr FixupKind fixups[] = {{.relative = true}, {.relative = false}, {.relative = false}};

void jump_far(const Target& t, std::vector<uint8_t>& out, uint64_t address) {
  Out code = literal_instructions(t, t.convention.scratch, static_cast<int32_t>(address));
  code.push_back({t.upkeep.jump_through, {reg(t.convention.scratch)}});
  for (const PlainInstruction& i : code) {
    Encoded e = t.encode(t, i);
    out.insert(out.end(), e.bytes, e.bytes + e.size);
  }
}

uint8_t length(const Target&, std::span<const uint8_t> bytes) { return bytes.size() < 4 ? 0 : 4; }

uint8_t pad(std::span<uint8_t> bytes) {
  Encoded nop = rowan().encode(rowan(), {rowan().find("nop"), {}});
  for (size_t k = 0; k < bytes.size(); ++k) bytes[k] = nop.bytes[k % 4];
  return 4;
}

std::string spell_address(const Target& t, const PlainAddress& a, unsigned, const std::string& name) {
  std::string base(t.register_name(static_cast<unsigned>(a.base), 32));
  std::string offset = name.empty() ? std::to_string(a.displacement) : name;
  return a.displacement == 0 && name.empty() ? fmt::format("[{}]", base)
                                             : fmt::format("[{} + {}]", base, offset);
}

Target whole() {
  Target t{rowan_tables()};
  t.alignment = {.function = 4, .line = 0};
  t.convention.values = &passing_rules;
  t.fixups = fixups;
  t.frame = {.return_bytes = 0, .saved_bytes = saved_bytes, .enter = enter, .leave = leave, .effect = effect};
  t.stubs = {.jump_far = jump_far};
  t.encode = rowan_encode;
  t.decode = rowan_decode;
  t.settle = rowan_settle;
  t.length = length;
  t.pad = pad;
  t.spell_address = spell_address;
  t.is_taken_name = [](std::string_view) { return false; };
  t.program_counter = [](const void*) { return uint64_t(0); };
  t.features_here = [] { return Features(0); };
  t.runs_here = [] { return false; };
  return t;
}

}  // namespace

const Target& rowan() {
  static const Target target = whole();
  return target;
}

}  // namespace porphyry::targets
