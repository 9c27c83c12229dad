// Flags used again: what the tables claim of every form holds for random operands, and superfluous tests go.
#include <gtest/gtest.h>

#include "porphyry/machine/lower.h"
#include "porphyry/simulate/step.h"
#include "porphyry/targets/targets.h"
#include "support/forms.h"
#include "support/read.h"
#include "support/targets.h"

namespace porphyry {
namespace {

using namespace machine;
using testing::target;

FormIndex test_for(Type type) {
  for (FormIndex f = first_real_form; f < target().forms.size(); ++f)
    if (target().form(f).tests && target().form(f).operands[0].type == type) return f;
  return 0;
}

TEST(Flags, WhatFormsLeaveIsWhatATestOfTheirResultWouldLeave) {
  std::mt19937_64 random(3);
  simulate::MemoryAccess memory{[&](uint64_t, unsigned) { return Bits(random()); },
                                [](uint64_t, unsigned, Bits) { return true; }};
  unsigned claimed = 0;
  for (FormIndex f = first_real_form; f < target().forms.size(); ++f) {
    const Form& form = target().form(f);
    if (!form.flags_as_tested) continue;
    FormIndex test = test_for(form.operands[0].type);
    ASSERT_NE(test, 0) << form.name;
    ++claimed;
    for (unsigned round = 0; round < 400; ++round) {
      simulate::State state(target());
      // Small numbers, so that zero and overflow come up.
      for (Bits& r : state.registers) r = round % 2 ? Bits(random()) : Bits(uint64_t(random() % 3) - 1);
      for (size_t k = 0; k < state.flags.size(); ++k) state.flags[k] = random() & 1;
      PlainInstruction i = testing::random_operands(target(), f, random);
      ASSERT_EQ(simulate::step(target(), i, state, memory).end, simulate::StepOutcome::End::Next);
      PlainInstruction again{.form = test};
      again.operands[0] = again.operands[1] = i.operands[0];
      simulate::State tested = state;
      simulate::step(target(), again, tested, memory);
      for (size_t k = 0; k < state.flags.size(); ++k)
        if (form.flags_as_tested >> k & 1) {
          ASSERT_EQ(state.flags[k], tested.flags[k]) << form.name << ", " << target().flags[k];
        }
    }
  }
  EXPECT_GE(claimed, 100u);
  for (const char* name : {"add.32", "sub.64", "and.16", "or.8", "xor.32", "inc.64", "dec.32", "neg.64"})
    EXPECT_NE(target().form(target().find(name)).flags_as_tested, 0) << name;
  for (const char* name : {"imul.32", "shl.64", "not.32", "cmp.64", "popcnt.32"})
    EXPECT_EQ(target().form(target().find(name)).flags_as_tested & 0b10000, 0) << name;
}

struct FlagCase {
  const char* what;
  const char* body;  // of func f(a: i64, b: i64, p: ptr) -> i64
  unsigned tests;    // that stay
};
const FlagCase flag_cases[] = {
    {"a counter", "  t = sub a, 1\n  c = ne t, 0\n  when c go x(t) else y\n", 0},
    {"a sign", "  t = add a, b\n  c = lt.s t, 0\n  r = pick c, a, t\n  go x(r)\n", 0},
    {"greater reads overflow, which a sum leaves otherwise",
     "  t = add a, b\n  c = gt.s t, 0\n  r = pick c, a, t\n  go x(r)\n", 1},
    {"common bits overflow never", "  t = and a, b\n  c = gt.s t, 0\n  r = pick c, a, t\n  go x(r)\n", 0},
    {"what stands between leaves flags, but the first may move down",
     "  t = sub a, 1\n  u = xor b, 5\n  store u, [p]\n  c = ne t, 0\n  when c go x(t) else y\n", 0},
    {"what stands between needs the result",
     "  t = sub a, 1\n  u = xor t, b\n  store u, [p]\n  c = ne t, 0\n  when c go x(t) else y\n", 1},
    {"a call loses them", "  t = sub a, 1\n  call g()\n  c = ne t, 0\n  when c go x(t) else y\n", 1},
    {"another width", "  t = add a, b\n  n = narrow i32 t\n  c = eq n, 0\n  when c go x(t) else y\n", 1},
    {"a parameter", "  c = ne a, 0\n  when c go x(a) else y\n", 1}};

TEST(Flags, SuperfluousTestsGo) {
  for (const FlagCase& row : flag_cases) {
    Realm realm;
    auto module = testing::must_read(
        realm, std::string("module m\nextern func g()\nfunc f(a: i64, b: i64, p: ptr) -> i64 {\n"
                           "enter:\n") +
                   row.body + "x(q: i64):\n  return q\ny:\n  return b\n}\n");
    auto lowered = lower(*module, target());
    ASSERT_TRUE(lowered.good()) << render(lowered.why());
    std::span<const uint8_t> bytes = lowered->functions[0].bytes;
    unsigned tests = 0;
    for (PlainInstruction i; uint8_t size = target().decode(target(), bytes, i); bytes = bytes.subspan(size))
      tests += target().form(i.form).tests;
    EXPECT_TRUE(bytes.empty()) << row.what << ": " << bytes.size() << " bytes are not described";
    EXPECT_EQ(tests, row.tests) << row.what;
  }
}

}  // namespace
}  // namespace porphyry
