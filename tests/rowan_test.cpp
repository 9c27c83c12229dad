// The made-up target: what a processor has that the desktop's has not. Bytes are worked out by hand here, and
// runs are the simulator's.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "porphyry/machine/listing.h"
#include "porphyry/machine/literals.h"
#include "porphyry/object/object.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/simulate/code_run.h"
#include "support/read.h"
#include "targets/rowan/rowan.h"

namespace porphyry {
namespace {

using namespace machine;
using testing::must_read;

using targets::rowan;

constexpr const char* head = "module m\nlayout big pointers 32\n";

// A module for the simulator, and its functions called with words.
class Simulated {
 public:
  explicit Simulated(const std::string& text) : module_(must_read(realm_, head + text)) {
    auto jit =
        Jit::compile(*module_, rowan(), {.check_allocation = true}, usual_externals, {.simulated = true});
    EXPECT_TRUE(jit.good()) << render(jit.why());
    jit_ = std::move(*jit);
  }
  uint64_t operator()(const char* name, std::vector<uint64_t> arguments) {
    auto runner = simulate::Runner::make(*jit_, name, rowan());
    EXPECT_TRUE(runner.good()) << render(runner.why());
    auto run = (*runner)->run(arguments);
    EXPECT_EQ(run.end, simulate::RunOutcome::End::Result) << run.message;
    return run.results.empty() ? 0 : run.results[0];
  }
  std::vector<std::string> lines(const char* name) const {
    const LoweredModule& lowered = jit_->lowered();
    std::vector<std::string> out;
    for (const CompiledFunction& f : lowered.functions)
      if (f.name == name)
        for (const auto& block : make_listing(lowered, f, rowan()).blocks)
          for (const auto& line : block.lines) out.push_back(line.text);
    return out;
  }

 private:
  Realm realm_;
  std::unique_ptr<Module> module_;
  std::unique_ptr<Jit> jit_;
};

uint32_t word_of(const PlainInstruction& i) {
  Encoded e = rowan().encode(rowan(), i);
  EXPECT_EQ(e.size, 4);
  return uint32_t(e.bytes[0]) << 24 | uint32_t(e.bytes[1]) << 16 | uint32_t(e.bytes[2]) << 8 | e.bytes[3];
}
PlainOperand reg(unsigned r) { return {.physical = static_cast<uint8_t>(r)}; }
PlainOperand number(int64_t n) { return {.kind = OperandKind::Literal, .literal = n}; }

TEST(Rowan, FieldsStandWhereTheBookSays) {
  auto form = [](const char* name) { return rowan().find(name); };
  EXPECT_EQ(word_of({form("add"), {reg(1), reg(2), reg(3)}}), 1u << 25 | 1u << 20 | 2u << 15 | 3u << 10);
  EXPECT_EQ(word_of({form("addi"), {reg(31), reg(31), number(-48)}}),
            24u << 25 | 31u << 20 | 31u << 15 | 0xfd0);
  EXPECT_EQ(word_of({form("upper"), {reg(4), number(0xabcde)}}), 32u << 25 | 4u << 20 | 0xabcde);
  EXPECT_EQ(word_of({form("sel"), {reg(1), reg(2), reg(3), reg(4)}}),
            40u << 25 | 1u << 20 | 2u << 15 | 3u << 10 | 4u << 5);
  PlainOperand place{.kind = OperandKind::Memory, .address = {.base = 9, .displacement = -4}};
  EXPECT_EQ(word_of({form("load.32"), {reg(7), place}}), 47u << 25 | 7u << 20 | 9u << 15 | 0xffc);
  PlainOperand back{.kind = OperandKind::Label, .literal = -8};
  EXPECT_EQ(word_of({form("blt"), {reg(1), reg(2), back}}), 58u << 25 | 1u << 20 | 2u << 15 | 0x7ffe);
  EXPECT_EQ(word_of({form("jump"), {back}}), 64u << 25 | 0x1fffffe);
  EXPECT_EQ(word_of({form("fadd.64"), {reg(33), reg(34), reg(35)}}),
            88u << 25 | 1u << 20 | 2u << 15 | 3u << 10);
}

TEST(Rowan, FixupsFillTheirFields) {
  struct Case {
    uint8_t kind;
    int64_t value;
    uint32_t bits;
    bool fits;
  };
  for (const Case& c :
       {Case{0, -8, 0x1fffffe, true}, Case{0, 1 << 26, 0x1000000, false}, Case{0, 6, 1, false},
        Case{1, 0x12345678, 0x12345, true}, Case{2, 0x12345678, 0x678, true}}) {
    uint8_t bytes[4] = {};
    EXPECT_EQ(rowan().settle(c.kind, bytes, c.value), c.fits) << c.value;
    EXPECT_EQ(uint32_t(bytes[0]) << 24 | uint32_t(bytes[1]) << 16 | uint32_t(bytes[2]) << 8 | bytes[3],
              c.bits)
        << c.value;
  }
}

TEST(Rowan, NumbersAreMadeInOneInstructionOrTwo) {
  EXPECT_EQ(literal_instructions(rowan(), 3, -2048).size(), 1u);
  EXPECT_EQ(literal_instructions(rowan(), 3, 2048).size(), 2u);
  Simulated m("func f() -> i32 {\na:\n  return -559038737\n}\nfunc g() -> i32 {\na:\n  return -7\n}\n");
  EXPECT_EQ(m("f", {}), 0xdeadbeef);
  EXPECT_EQ(m("g", {}), 0xfffffff9);
  EXPECT_EQ(m.lines("g"), (std::vector<std::string>{"small r0, -7", "ret"}));
}

// A conditional jump reaches 2^14 words; beyond, it is turned and jumps over one that goes further.
TEST(Rowan, JumpsAreTurnedWhereTheyDoNotReach) {
  size_t turned = 0, plain = 0;
  for (size_t stores : {100u, 2000u, 9000u, 9970u, 9975u, 9980u, 9985u, 10100u, 12000u, 20000u}) {
    std::string text =
        "func f(a: i32, b: i32) -> i32 {\nenter:\n  p = reserve 4\n  c = lt.s a, b\n  when c go near else "
        "far\n"
        "near:\n";
    for (size_t k = 0; k < stores; ++k) text += fmt::format("  store {}:i32, [p]\n", k % 50);
    text += "  v = load i32 [p]\n  go last(v)\nfar:\n  go last(-1)\nlast(r: i32):\n  return r\n}\n";
    Simulated m(text);
    EXPECT_EQ(m("f", {1, 2}), (stores - 1) % 50) << stores;
    EXPECT_EQ(m("f", {2, 1}), 0xffffffff) << stores;
    std::vector<std::string> lines = m.lines("f");
    for (size_t k = 0; k + 1 < lines.size(); ++k) {
      if (!lines[k].starts_with("b")) continue;
      bool over = lines[k + 1].starts_with("jump");
      bool near_the_end = std::abs(int64_t(lines.size()) - (1 << 14)) < 60;
      EXPECT_TRUE(near_the_end || over == (lines.size() > 1u << 14)) << lines.size();
      ++(over ? turned : plain);
    }
  }
  EXPECT_GT(turned, 2u);
  EXPECT_GT(plain, 2u);
}

TEST(Rowan, FramesBeyondTheReachOfOffsetsWork) {
  Simulated m(R"(func f(a: i32, b: i32) -> i32 {
enter:
  big  = reserve 100000 align 8
  far  = reserve 8 align 8
  store a, [far]
  at_b = at [big + b*4]
  store b, [at_b]
  x    = load i32 [far]
  y    = load i32 [at_b]
  z    = call g(x, y)
  w    = load i32 [far]
  r    = add z, w
  return r
}
func g(a: i32, b: i32) -> i32 {
enter:
  s = mul a, 1000
  r = add s, b
  return r
}
)");
  EXPECT_EQ(m("f", {7, 24999}), 7 * 1000 + 24999 + 7u);
}

TEST(Rowan, MemoryIsBigEndian) {
  Simulated m(R"(data text holds i32: 0x01020304, 5
data word holds address: text
func byte(k: i32) -> i8 {
enter:
  p = address of text
  b = load i8 [p + k*1]
  return b
}
func half(x: i64) -> i32 {
enter:
  r = reserve 8 align 8
  store x, [r]
  h = load i32 [r]
  return h
}
func through() -> i32 {
enter:
  w = address of word
  p = load ptr [w]
  v = load i32 [p + 4]
  return v
}
)");
  EXPECT_EQ(m("byte", {0}), 1u);
  EXPECT_EQ(m("byte", {3}), 4u);
  EXPECT_EQ(m("half", {0x1122334455667788}), 0x11223344u);
  EXPECT_EQ(m("through", {}), 5u);
}

TEST(Rowan, ABookThatNamesTooLittleIsRefused) {
  machine::Target poor = rowan();
  poor.upkeep.spills = poor.upkeep.spills.first(1);
  poor.upkeep.jump = poor.upkeep.add = 0;
  Realm realm;
  auto refused = lower(*must_read(realm, std::string(head) + "func f() {\na:\n  return\n}\n"), poor);
  ASSERT_FALSE(refused.good());
  EXPECT_EQ(refused.why()[0].message,
            "the book of rowan does not name what the machine layer uses: spill floats 64, jump and add");
}

TEST(Rowan, RunsNowhereButInTheSimulator) {
  Realm realm;
  auto module = must_read(realm, std::string(head) + "func f() {\na:\n  return\n}\n");
  auto refused = Jit::compile(*module, rowan());
  ASSERT_FALSE(refused.good());
  EXPECT_EQ(refused.why()[0].message, "code for rowan does not run on this processor");
  auto lazy = Jit::compile(*module, rowan(), {}, usual_externals, {.simulated = true, .lazy = true});
  ASSERT_FALSE(lazy.good());
  EXPECT_EQ(lazy.why()[0].message, "code for rowan cannot be compiled when it is first called");
  EXPECT_EQ(object_problems(*module, rowan())[0].message, "there are no object files for rowan");
  auto little = must_read(realm, "module m\nfunc f() {\na:\n  return\n}\n");
  auto wrong = lower(*little, rowan());
  ASSERT_FALSE(wrong.good());
  EXPECT_EQ(wrong.why()[0].message, "'layout little' is not how rowan lays out memory");
  EXPECT_EQ(wrong.why()[0].expected, "layout big, with pointers of 32 bits");
}

}  // namespace
}  // namespace porphyry
