// The bookbinder: what a book says arrives in the tables; a wrong book is refused with every mistake.
#include <gtest/gtest.h>

#include <algorithm>
#include <random>
#include <tuple>

#include "book.h"
#include "porphyry/formats/text.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/simulate/step.h"
#include "porphyry/targets/targets.h"

namespace porphyry {
namespace {

using namespace machine;

const std::string preface = R"(book tiny for "a test"
features fast
registers general 64: r0 r1 r2 r3
  as 32: w0 w1 w2 w3 clears
registers lanes 128: v0 v1
flags carry zero
issue 2 within 20
units load 2, halves 1
encodings
  byte number
  low number operand
  regs operand operand
)";

Result<bind::BoundBook> bind_text(const std::string& text) {
  return bind::read_book(SourceText("tiny.book", preface + text));
}

TEST(Book, FormsComeInEveryTupleOfTheirEachLines) {
  auto book = bind_text(R"(
notion mark r
  zero = eq r, 0
instruction {name}.{w}
  each name n: plus 1, minus 2
  each w: 32, 64
  form d: general {w}, s: literal 8 for {w}    byte 0x10+{n}, low 0x80 d   unless {name} = minus
  form d: general {w}, s: general {w}          byte {n}, regs d s
  spelled {name} d, s
  needs fast
  means
    r = add d, s
    mark r
    carry = lt.u r, s
    d = r
  cost 7 latency 2 on halves for 3
)");
  ASSERT_TRUE(book.good()) << render(book.why());
  ASSERT_EQ(book->forms.size(), first_real_form + 6u);
  const bind::BoundForm& f = book->forms[first_real_form];
  EXPECT_EQ(f.name, "plus.32");
  EXPECT_EQ(f.spelling, "plus \1, \2");
  EXPECT_EQ(f.cost, 7);
  EXPECT_EQ(f.needs, 1);
  EXPECT_EQ(book->issue, 2);
  EXPECT_EQ(book->window, 20);
  EXPECT_EQ(book->units[f.unit].name, "halves");
  EXPECT_EQ(f.busy, 3);
  EXPECT_TRUE(f.operands[0].read && f.operands[0].written);
  EXPECT_TRUE(f.operands[1].read && !f.operands[1].written);
  EXPECT_TRUE(f.writes_flags && f.writes.empty());
  EXPECT_EQ(f.meaning.size(), 4u);
  EXPECT_EQ(f.encoding[0].value, 0x11);
}

TEST(Book, RulesFindTheirInstructions) {
  auto book = bind_text(R"(
instruction plus.64
  form d: general 64, s: general 64    byte 1, regs d s
  form d: general 64, s: memory 64     byte 2, regs d s
  spelled plus d, s
  means
    d = add d, s
rule sum with memory
  y = load i64 [m]
  r = add x:i64, y
becomes
  r = plus.64 x, [m]
)");
  ASSERT_TRUE(book.good()) << render(book.why());
  ASSERT_EQ(book->rules.size(), 1u);
  const bind::BoundRule& r = book->rules[0];
  EXPECT_EQ(r.nodes[0].op, Op::Add);
  EXPECT_EQ(r.nodes[2].op, Op::Load);
  EXPECT_EQ(r.steps[0].form, first_real_form + 1);
  EXPECT_EQ(r.steps[0].in[1].kind, SourceKind::Memory);
}

TEST(Book, WrongBooksAreRefusedWithEveryMistake) {
  auto book = bind_text(R"(
instruction a
  form d: general 64, s: nothing 3    byte 1
  form d: general 64                  byte x
  form d: general 64                  nonsense 4
  spelled a d
  means
    d = frob d
    d = add d, e
    c = {w}
  cost 10 latency 1 on thirds
  cost 10 latency 1 on halves for ever
rule one
  r = add x, y
becomes
  r = a x
rule two
  r = frob x:i64
becomes
  r = a x
rule three
  r = neg x:i64
becomes
  r = b x
rule four
  r = add x:i64, k
  where k nonzero
becomes
  r = a x
rule five
  r = add x:i64, k
  where k odd
becomes
  r = a x
chapter seven
issue many
units load, store 1
)");
  ASSERT_FALSE(book.good());
  std::string all = render(book.why());
  for (const char* part :
       {"tiny.book:15:3: the operand 's' is not understood", "'x' is not a number",
        "'nonsense' is no step of an encoding", "a word in braces is not named",
        "the type of 'x' is not known", "'frob' is no operation of the IR", "no instruction is called 'b'",
        "'k' is nonzero, and no float", "this condition is not known", "'chapter' begins no entry",
        "no unit is called 'thirds'", "load or halves", "on UNIT for N, of cycles",
        "how many instructions begin in a cycle", "the units are not understood"})
    EXPECT_NE(all.find(part), std::string::npos) << part << "\n" << all;
}

TEST(Book, MoreThanTablesHoldIsRefused) {
  auto row = [](std::string head, size_t count, const char* word) {
    for (size_t k = 0; k < count; ++k) head += " " + std::string(word) + std::to_string(k);
    return head + "\n";
  };
  for (auto [wrong, right, what] :
       {std::tuple(row("features", 65, "x"), row("features", 64, "x"), "has 65 features"),
        std::tuple(row("flags", 33, "y"), row("flags", 32, "y"), "has 33 flags"),
        std::tuple(row("registers many 64:", 123, "z"), row("registers many 64:", 122, "z"),
                   "has 129 registers")}) {
    auto refused = bind_text(wrong);
    ASSERT_FALSE(refused.good()) << what;
    EXPECT_NE(render(refused.why()).find(what), std::string::npos) << render(refused.why());
    auto taken = bind_text(right);
    EXPECT_TRUE(taken.good()) << render(taken.why());
  }
}

// What the tables must hold for the rest to trust them.
TEST(Book, TablesOfTheTargetAreWhole) {
  const Target& t = *native_target();
  EXPECT_EQ(t.name, "x64");
  for (FormIndex f = first_real_form; f < t.forms.size(); ++f) {
    const Form& form = t.form(f);
    EXPECT_FALSE(form.encoding.empty()) << form.name;
    EXPECT_TRUE(!form.meaning.empty() || form.name.starts_with("nop")) << form.name;
    EXPECT_NE(form.first_in_group, 0) << form.name;
    EXPECT_LE(form.first_in_group, f) << form.name;
    EXPECT_EQ(form.next_in_group == 0 || form.next_in_group > f, true) << form.name;
    if (form.opposite) {
      EXPECT_EQ(t.form(t.form(form.opposite).opposite).name, form.name);
    }
  }
  // What has an opposite and is no jump does the same as that with its registers exchanged, whatever the
  // flags.
  std::mt19937_64 random(3);
  size_t exchanged = 0;
  for (FormIndex f = first_real_form; f < t.forms.size(); ++f) {
    const Form& form = t.form(f);
    if (!form.opposite || form.is_jump || form.operands[1].kind != OperandKind::Register) continue;
    for (int round = 0; round < 64; ++round, ++exchanged) {
      PlainInstruction one{f}, two{form.opposite};
      one.operands[0] = two.operands[1] = PlainOperand::reg(0);
      one.operands[1] = two.operands[0] = PlainOperand::reg(1);
      simulate::State a(t);
      for (Bits& r : a.registers) r = random();
      for (size_t k = 0; k < a.flags.size(); ++k) a.flags[k] = random() & 1;
      simulate::State b = a;
      simulate::step(t, one, a, {});
      simulate::step(t, two, b, {});
      EXPECT_EQ(static_cast<uint64_t>(a.registers[0]), static_cast<uint64_t>(b.registers[1])) << form.name;
      EXPECT_TRUE(a.flags == b.flags);
    }
  }
  EXPECT_GT(exchanged, 1'000u);
  size_t single = 0;
  for (size_t k = 0; k < t.rules.size(); ++k) {
    const Rule& r = t.rules[k];
    EXPECT_FALSE(r.steps.empty()) << r.name;
    for (const RuleStep& s : r.steps) EXPECT_LT(s.form, t.forms.size()) << r.name;
    if (r.matches_constant) {
      EXPECT_GE(k, t.constant_rules);
      continue;
    }
    EXPECT_LT(k, t.constant_rules) << r.name;
    // What the index relies on: the order, and the bytes by which it leaves rules for single numbers out.
    auto key = [](const Rule& of) {
      return std::tuple(of.nodes[0].op, of.root, of.inner, of.cost, of.place);
    };
    if (k > 0) {
      EXPECT_LT(key(t.rules[k - 1]), key(r)) << r.name;
    }
    if (!(r.constants & Rule::whole_literal)) continue;
    ++single;
    EXPECT_TRUE(std::any_of(r.nodes.begin() + 1, r.nodes.end(), [&](const PatternNode& n) {
      return n.kind == NodeKind::Literal && static_cast<uint8_t>(n.literal) == r.literal;
    })) << r.name;
  }
  EXPECT_GT(single, 100u);
}

}  // namespace
}  // namespace porphyry
