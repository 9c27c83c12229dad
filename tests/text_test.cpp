// The text form: canonical writing, exact round trips, all mistakes at once, hostile input.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>

#include "porphyry/base/files.h"
#include "porphyry/call/call.h"
#include "porphyry/formats/packed.h"
#include "porphyry/formats/text.h"
#include "porphyry/print/literals.h"
#include "porphyry/print/print.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using testing::must_read;
using testing::problems_of;

constexpr const char* canonical = R"(-- above the module
module "frost watch"
layout little
source 1 "frost.fml"
source 2 "a \"quoted\" name"

-- two comments
-- above data
data limits const align 4 holds i32: -2, 0, 3; f64: 0.5, inf, nan, -0.0; bytes: "frost\0\n\x80"
data scratch align 64 holds zero: 256
local data routes holds address: chill, limits, "odd name"
extern data "odd name"
extern func pow(f64, f64) -> f64
extern func tick(i64)

-- above the function
func chill(temps: ptr, n: i64, base: f32) -> f32, i64 {
enter:
  some = gt.s n, 0
  when some go sum(0, 0.0) else out(nan(0x12), -inf)

-- above a label
sum(i: i64, total: f32):
  t        = load f32 [temps + i*4] align 4    @1:14:17
  -- above an instruction
  far      = load f32 [temps + i*3 - 8]        @1:14:25 in @1:20:1 in @2:3:4
  same     = eq 3:i32, 4                       @1:1:1 and @1:2:2
  "true"   = pick same, t, far
  "a name" = sub base, "true"
  next     = add total, "a name"
  store 1:i8, [temps] align 2 volatile
  i2       = add i, 1
  p        = at [temps + 5*8 + 16]
  q        = address of scratch
  r        = reserve 24 align 8
  b        = bits i64 p
  low      = narrow i8 b
  wide     = widen.u i32 "true2"
  more     = lt.s i2, n
  when more go sum(i2, next) else out(next, total)

out(result: f32, other: f32):
  x, y = call pair(1, false)
  call tick(x)
  return result, x
-- at the end of the body
}

local func pair(a: i64, b: bool) -> i64, bool {
enter:
  trap
}
-- at the end of the file
)";

// The text above with its one deliberate mistake mended.
std::string canonical_text() {
  std::string s = canonical;
  return s.replace(s.find("\"true2\""), 7, "low");
}

TEST(Text, WritesWhatItReadsToTheLetter) {
  Realm realm;
  auto module = must_read(realm, canonical_text());
  EXPECT_EQ(write_text(*module), canonical_text());
}

// Every form of the language, in the writer's own layout.
std::string language_sample() { return *read_file(PORPHYRY_ROOT "/tests/data/language.por"); }

TEST(Text, WritesEveryFormToTheLetter) {
  Realm realm;
  auto module = must_read(realm, language_sample());
  EXPECT_EQ(write_text(*module), language_sample());
}

TEST(Text, ReadsFreeFormAndWritesTheCanonicalOne) {
  const char* free_form =
      "module m\n\ndata d holds i16: 0x10,\n   -1;\n  zero: 2\nfunc f( a :i32,\n b: i32 )->i32{\nstart:\n "
      "c=add a,b -- trailing\n\n\n   d = load "
      "i32 [\n null + 4 ]\n go next(\n c, 7)\nnext(x:i32, y:i32):\n return x\n}\n";
  Realm realm;
  EXPECT_EQ(write_text(*must_read(realm, free_form)),
            "module m\nlayout little\n\ndata d holds i16: 16, -1; zero: 2\n\nfunc f(a: i32, b: i32) -> i32 "
            "{\nstart:\n  c = add a, b\n"
            "  d = load i32 [null + 4]\n  go next(c, 7)\n\nnext(x: i32, y: i32):\n  return x\n}\n");
}

TEST(Text, EveryOperationOfTheTableRoundTrips) {
  const Type types[] = {Type::boolean(),   Type::integer(8), Type::integer(16), Type::integer(32),
                        Type::integer(64), Type::f32(),      Type::f64(),       Type::pointer()};
  size_t written = 0;
  for (const OperationInfo& row : all_operations()) {
    if (row.layout > Layout::Convert) continue;
    for (Type from : types)
      for (Type to : types) {
        bool converts = row.layout == Layout::Convert;
        if (!row.accepts_shape(from.shape()) ||
            (converts ? conversion_problem(row.op, from, to).has_value() : from != to))
          continue;
        // With values and with literals only.
        std::string values, literals, one = text::literal_text(from.is_pointer() ? 0 : 1, from);
        for (unsigned k = 0; k < row.arity(); ++k) {
          bool condition = row.layout == Layout::Pick && k == 0;
          values += (k ? ", " : "") + std::string(condition ? "c" : "x");
          bool typed = k == (row.layout == Layout::Pick ? 1u : 0u);
          literals += (k ? ", " : "") + (condition ? "true" : one + (typed ? ":" + from.name() : ""));
        }
        std::string stated = converts ? to.name() + " " : "";
        std::string text = fmt::format(
            "module m\nlayout little\n\nfunc f(x: {}, c: bool) {{\nenter:\n  a = {} {}{}\n  b = {} {}{}\n  "
            "return\n}}\n",
            from.name(), row.name, stated, values, row.name, stated, literals);
        Realm realm;
        EXPECT_EQ(write_text(*must_read(realm, text)), text);
        ++written;
      }
  }
  EXPECT_GT(written, 250u);
}

TEST(Text, LiteralsReadBackToTheSameBits) {
  std::mt19937_64 random(3);
  for (Type t :
       {Type::integer(8), Type::integer(32), Type::integer(64), Type::f32(), Type::f64(), Type::boolean()})
    for (int k = 0; k < 20000; ++k) {
      uint64_t bits = random() >> (random() % 64);
      bits &= t.bits() == 64 ? ~uint64_t(0) : (uint64_t(1) << t.bits()) - 1;
      std::string text = text::literal_text(bits, t);
      auto back = text::literal_bits(text, t);
      ASSERT_TRUE(back.has_value()) << text;
      ASSERT_EQ(*back, bits) << text;
    }
  for (const char* wrong : {"256", "-129", "1.0", "x", "", "0x", "1e3", "--1"})
    EXPECT_FALSE(text::literal_bits(wrong, Type::integer(8))) << wrong;
  for (const char* wrong : {"1", "e", ".", "1.0.0", "nan(0)", "nan(0x800000)", "+1.0", "- 1.0"})
    EXPECT_FALSE(text::literal_bits(wrong, Type::f32())) << wrong;
  EXPECT_EQ(text::literal_bits("0x1.8p3", Type::f64()), text::literal_bits("12.0", Type::f64()));
}

// One wrong program a mistake: what is said, and where.
struct Mistake {
  const char* body;
  uint32_t line, column;
  const char* message;
  const char* expected;
};

TEST(Text, EachMistakeIsNamedWithItsPlace) {
  // Bodies start at line 5, in `func f(a: i32, p: ptr, x: f32) -> i32`.
  const Mistake mistakes[] = {
      {"  b = ad a, 1\n  return b\n", 5, 7, "'ad' is not an operation", "perhaps 'add'"},
      {"  b = add a, c\n  return b\n", 5, 14, "no value is called 'c' here", "defined above"},
      {"  b = add a x\n  return b\n", 5, 13, "',' is missing", "','"},
      {"  b = add a, x\n  return a\n", 5, 14, "the operands of 'add' differ: i32 and f32", "i32"},
      {"  b = add a, 1.5\n  return a\n", 5, 14, "'1.5' is not a number of type i32", "a whole number"},
      {"  b = add a, 4294967296\n  return a\n", 5, 14, "is not a number of type i32", "fits i32"},
      {"  b = and x, x\n  return a\n", 5, 11, "'and' does not take f32 here", "bool or an integer"},
      {"  b = eq 3, 4\n  return a\n", 5, 10, "the type of this number is not known", "3:i32"},
      {"  b = narrow i64 a\n  return a\n", 5, 18, "'narrow' cannot make i64 from i32",
       "an integer to a narrower one"},
      {"  b = narrow i1 a\n  return a\n", 5, 14, "no type is written here", "i2 to i128"},
      {"  b = load i32 [a]\n  return b\n", 5, 17, "'load' does not take i32 here", "starts with a pointer"},
      {"  b = load i32 [p + a*4]\n  return b\n", 5, 21, "'load' does not take i32 here",
       "as wide as a pointer"},
      {"  b = load i32 [p + 4 + 4]\n  return b\n", 5, 25, "an address has one offset", "']'"},
      {"  b = load i32 [p\n  return b\n", 6, 3, "this does not belong into an address",
       "[p + i*scale + offset]"},
      {"  b = pick a, a, a\n  return b\n", 5, 12, "'pick' does not take i32 here", "bool: the condition"},
      {"  go nowhere\n", 5, 6, "no block is called 'nowhere'", "a label"},
      {"  go enter(1)\n", 5, 6, "'enter' is given 1 argument", "0, one for each"},
      {"  when a go enter else enter\n", 5, 8, "'when' does not take i32 here", "bool"},
      {"  return\n", 5, 3, "this returns 0 results", "1 for (i32, ptr, f32) -> i32"},
      {"  return x\n", 5, 10, "this value is f32", "i32"},
      {"  a = add a, 1\n  return a\n", 5, 3, "a second value is called 'a'", "a name"},
      {"  b = add a, 1\n", 4, 1, "the block does not end", "return, go, when, choose or trap"},
      {"  return a\n  b = add a, 1\n", 6, 7, "the block above has already ended", "a label"},
      {"  b = call g(a)\n  return a\n", 5, 12, "no function is called 'g'", "a function of the module"},
      {"  b = call f(a)\n  return a\n", 5, 12, "'f' is called with 1 argument",
       "3 for (i32, ptr, f32) -> i32"},
      {"  b = reserve 8 align 3\n  return a\n", 5, 23, "this alignment is not a power of two", "1, 2, 4, 8"},
      {"  b, c = add a, 1\n  return a\n", 5, 10, "'add' gives 1 result, but 2 are named",
       "a name for each result"},
      {"  b = store a, [p]\n  return a\n", 5, 7, "'store' gives 0 results", "without '='"},
      {"  b = add a, 1 @1:2\n  return a\n", 5, 20, "':' is missing in a position", "':'"},
      {"  b = add a, 1 c\n  return a\n", 5, 16, "the line goes on where it should end",
       "the end of the line"},
      {"  b = add a, 1 # c\n  return a\n", 5, 16, "this character has no meaning here", "a name"},
  };
  for (const Mistake& m : mistakes) {
    Diagnostics found = problems_of(testing::in_function("(a: i32, p: ptr, x: f32) -> i32", m.body));
    ASSERT_FALSE(found.empty()) << m.body;
    const Diagnostic* d = &found[0];
    for (const Diagnostic& other : found)
      if (other.message.find(m.message) != std::string::npos) d = &other;
    EXPECT_NE(d->message.find(m.message), std::string::npos) << m.body << render(found);
    EXPECT_EQ(std::pair(d->line, d->column), std::pair(m.line, m.column)) << m.body << render(found);
    EXPECT_NE(d->expected.find(m.expected), std::string::npos) << m.body << render(found);
    EXPECT_EQ(d->file, "test.por");
    EXPECT_FALSE(d->excerpt.empty());
  }
}

TEST(Text, AllMistakesOfAFileAreReportedInOrder) {
  Diagnostics found = problems_of(R"(modul m
data d holds i8: 1, 300
func f(a: i32) -> i32 {
enter:
  b = add a, c
  d = mul a, 1.5
  return b, d
}
func f() {
enter:
  return
}
func g(x: f64) -> f64 {
enter:
  y = sqrt x
  when x go enter else away
}
func h() {
one:
  v = add 1:i32, 2
  go two
two:
  w = add u, v
  go three
three:
  u = add v, v
  return
}
)");
  std::vector<uint32_t> lines;
  for (const Diagnostic& d : found) lines.push_back(d.line);
  EXPECT_EQ(lines, (std::vector<uint32_t>{1, 2, 5, 6, 7, 9, 16, 16, 23})) << render(found);
  std::string shown = render(found);
  EXPECT_NE(shown.find("      b = add a, c\n                 ^\n"), std::string::npos) << shown;
}

TEST(Text, HostileInputGivesDiagnosticsAndNothingElse) {
  std::mt19937_64 random(17);
  std::string good = canonical_text();
  const std::string pieces[] = {"(",    ")",  "[",     "]",     "{",      "}",     "\n",  ":",  ",",
                                "=",    "@",  "func ", "go ",   "when ",  "\"",    "--",  "0x", "1e",
                                "nan(", "\\", "-",     "data ", "holds ", "load ", "\xff"};
  for (int k = 0; k < 4000; ++k) {
    std::string text = good;
    for (size_t changes = 1 + random() % 6; changes > 0; --changes) {
      size_t at = random() % (text.size() + 1);
      switch (random() % 4) {
        case 0: text.resize(at); break;
        case 1: text.insert(at, pieces[random() % std::size(pieces)]); break;
        case 2: text.erase(at, random() % 20); break;
        default:
          if (at < text.size()) text[at] = static_cast<char>(random());
      }
    }
    Realm realm;
    SourceText source("hostile.por", text);
    auto module = load_text(realm, source);
    if (!module) {
      ASSERT_FALSE(module.why().empty()) << text;
      for (const Diagnostic& d : module.why()) {
        ASSERT_FALSE(d.message.empty()) << text;
        ASSERT_LE(d.mark, d.excerpt.size() + 1);
      }
      render(module.why());
    } else {
      std::string once = write_text(**module);
      Realm other;
      ASSERT_EQ(write_text(*must_read(other, once)), once);
    }
  }
  EXPECT_FALSE(problems_of(std::string(1 << 20, '(')).empty());
  EXPECT_FALSE(problems_of("module m\nfunc f() {\nenter:\n  " + std::string(1 << 20, 'x')).empty());
  EXPECT_EQ(problems_of(std::string(1000, '\0')).size() > 0, true);
}

TEST(Files, AreWrittenWholeOrNotAtAll) {
  testing::TemporaryFolder folder;
  EXPECT_EQ(render(write_file(folder.file("a.txt"), "frost")), "");
  EXPECT_EQ(testing::contents(folder.file("a.txt")), "frost");
  EXPECT_FALSE(write_file(folder.file("none/a.txt"), "frost").empty());
  EXPECT_EQ(testing::run_command("ls " + folder.file("") + " | wc -l").out, "1\n");  // nothing is left beside
  EXPECT_FALSE(write_file("/dev/full", std::string(100000, 'x')).empty());
  EXPECT_FALSE(read_file(folder.file("none")).good());
  EXPECT_FALSE(read_file(folder.file("")).good());
}

TEST(Files, ColumnsOfNumbers) {
  testing::TemporaryFolder folder;
  std::string path = folder.write("t.txt", "# a night\n1 2.5, 3\n\n4 5e0 6 # end\n");
  auto all = read_numbers(path, Type::f32(), 0);
  ASSERT_TRUE(all.good()) << render(all.why());
  ASSERT_EQ(all->size(), 24u);
  auto second = read_numbers(path, Type::f32(), 2);
  ASSERT_TRUE(second.good()) << render(second.why());
  float values[2];
  ASSERT_EQ(second->size(), sizeof values);
  std::memcpy(values, second->data(), sizeof values);
  EXPECT_EQ(values[0], 2.5f);
  EXPECT_EQ(values[1], 5.0f);
  auto wrong = read_numbers(path, Type::integer(8), 0);
  ASSERT_EQ(wrong.why().size(), 2u);
  EXPECT_EQ(wrong.why()[0].line, 2u);
  EXPECT_EQ(wrong.why()[0].column, 3u);
  auto raw = read_numbers(folder.write("r.bin", "frost"), Type::integer(16), 0);
  EXPECT_EQ(raw->size(), 5u);
}

// Comments on lines of their own stay above what they stand above, wherever that is.
TEST(Comments, StayWhereTheyStand) {
  const char* text = R"(-- of the module
module winter
layout little

-- of the kinds
kinds orchard {
  -- of a kind
  cell
  -- of a record
  record Reading size 8 {
    -- of its first member
    0 tally: cell,
    -- of its second
    4 dry: cell
    -- before its brace
  }
-- before the kinds' brace
}

-- of the data
data limits align 4 holds i32:
  -- of the first number
  1, 2,
  -- of the third
  3;
  -- of the next piece
  i8: 4, 5

-- of the function
func f(a: i32) -> i32 {
-- of the first label
-- in two lines
enter:
  -- of an instruction
  b = add a, 1
  go out

-- of another label
out:
  return b
-- before the brace
}
-- at the end
)";
  Realm realm;
  auto module = testing::must_read(realm, text);
  EXPECT_EQ(write_text(*module), text);
  Realm packed;
  auto again = load_packed(packed, "winter.porb", write_packed(*module));
  ASSERT_TRUE(again.good()) << render(again.why());
  EXPECT_EQ(write_text(**again), text);
}

// Wherever a comment is put, it is there once afterwards, and a second reading moves it no further.
TEST(Comments, AreNeitherLostNorMovedTwice) {
  const std::string text = testing::contents(PORPHYRY_ROOT "/demo/frostwatch.por");
  std::vector<size_t> lines;
  for (size_t at = text.find('\n'); at + 1 < text.size(); at = text.find('\n', at + 1))
    lines.push_back(at + 1);
  for (size_t k = 0; k < lines.size(); k += 3) {
    std::string with = text;
    with.insert(lines[k], "-- frost is near\n");
    Realm realm, second;
    auto module = testing::must_read(realm, with);
    std::string once = write_text(*module);
    size_t at = once.find("-- frost is near\n");
    ASSERT_NE(at, once.npos) << "line " << k;
    ASSERT_EQ(once.find("-- frost is near\n", at + 1), once.npos) << "line " << k;
    ASSERT_EQ(write_text(*testing::must_read(second, once)), once) << "line " << k;
  }
}

}  // namespace
}  // namespace porphyry
