// What programs mean beyond their operations: how runs end, promises, `sole`, `const`, kinds, lives of
// objects, layouts, calls. Each row is a small program and what must come of it.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "porphyry/call/call.h"
#include "support/read.h"

namespace porphyry {
namespace {

using testing::must_read;

struct Row {
  const char* name;
  const char* items;  // of the module, besides f
  const char* body;   // of func f() -> i64
  const char* end;    // a result as text, "trap", or a part of the fault
};

const char* const kinds = R"(kinds orchard {
  cell
  count under cell align 4
  degree under cell align 4
  record Reading size 12 { 0 tally: count, 4 dry: degree, 8 wet: degree }
  record Night size 28 { 0 first: Reading, 16 last: Reading }
}
)";

const Row rows[] = {
    // ---- promises
    {"fits.s holds", "", "  a = add 100:i8, 27 promise fits.s\n  r = widen.s i64 a\n  return r\n", "127"},
    {"fits.s broken", "", "  a = add 100:i8, 28 promise fits.s\n  return 0\n",
     "'add' breaks its promise 'fits.s'"},
    {"fits.u broken", "", "  a = sub 1:i8, 2 promise fits.u\n  return 0\n",
     "'sub' breaks its promise 'fits.u'"},
    {"fits on lanes", "", "  a = mul {2, 90}:i8[2], {3, 2} promise fits.s\n  return 0\n", "'fits.s'"},
    {"lossless", "", "  a = shr.u 5:i32, 1 promise lossless\n  return 0\n", "'lossless'"},
    {"exact division", "", "  a = div.s -7:i64, 2 promise lossless\n  return 0\n", "'lossless'"},
    {"exact float", "", "  a = to_float.s f32 16777217:i32 promise lossless\n  return 0\n", "'lossless'"},
    {"exact float of i128", "", "  a = to_float.u f64 -1:i128 promise lossless\n  return 0\n", "'lossless'"},
    {"nonzero", "", "  a = ctz 0:i32 promise nonzero\n  return 0\n", "'nonzero'"},
    {"bounded", "", "  a = shl 1:i32, 32 promise bounded\n  return 0\n", "'bounded'"},
    {"bounded lane", "", "  a = lane {1, 2}:i8[2], 2 promise bounded\n  return 0\n", "'bounded'"},
    {"separate", "", "  a = or 6:i32, 2 promise separate\n  return 0\n", "'separate'"},
    {"align", "", "  p = reserve 16 align 16\n  q = at [p + 2]\n  store 1:i32, [q] align 4\n  return 0\n",
     "'align 4'"},
    // ---- objects and their lives
    {"past the end", "", "  p = reserve 8\n  store 1:i32, [p + 6]\n  return 0\n",
     "at offset 6 of 'p', which has 8"},
    {"released", "", "  p = reserve 8\n  release p\n  store 1:i32, [p]\n  return 0\n",
     "of 'p' after its life ended"},
    {"released twice", "", "  p = reserve 8\n  release p\n  release p\n  return 0\n", "after its life ended"},
    {"released inside", "", "  p = reserve 8\n  q = at [p + 4]\n  release q\n  return 0\n",
     "not to its start"},
    {"release of data", "data d holds i32: 1\n", "  p = address of d\n  release p\n  return 0\n",
     "no 'reserve' made"},
    {"null", "", "  a = load i32 [null]\n  return 0\n", "no object (null)"},
    {"constant data", "data d const holds i32: 1\n", "  p = address of d\n  fill 0:i8, [p], 4\n  return 0\n",
     "a write into constant 'd'"},
    {"nothing copied", "", "  copy [null], [null], 0\n  fill 1:i8, [null + 7], 0\n  return 5\n", "5"},
    {"overlapping copy", "data d holds i8: 1, 2, 3, 4, 5, 6, 7, 8\n",
     "  p = address of d\n  copy [p + 2], [p], 6\n  r = load i64 [p]\n  return r\n", "433757350076154369"},
    {"copies keep pointers", "data d holds i64: 77\n",
     "  a = address of d\n  p = reserve 8\n  q = reserve 8\n  store a, [p]\n  copy [q], [p], 8\n  b = load "
     "ptr [q]\n"
     "  r = load i64 [b]\n  return r\n",
     "77"},
    {"bits reach revealed objects only", "data d holds i64: 77\n",
     "  r = bits ptr 65552:i64\n  v = load i64 [r]\n  return v\n", "no object"},
    {"bits reveal", "data d holds i64: 77\n",
     "  a = address of d\n  n = bits i64 a\n  m = add n, 0\n  q = bits ptr m\n  r = load i64 [q]\n  return "
     "r\n",
     "77"},
    {"masked lanes touch nothing", "",
     "  p = reserve 4\n  store {7, 9}:i32[2], [p] where {true, false}\n  v = load i32[2] [p] where {true, "
     "false} else 5\n"
     "  a = lane v, 0\n  b = lane v, 1\n  c = mul a, b\n  r = widen.s i64 c\n  return r\n",
     "35"},
    {"masked lanes stay inside", "",
     "  p = reserve 4\n  store {7, 9}:i32[2], [p] where {true, true}\n  return 0\n",
     "at offset 4 of 'p', which has 4"},
    // ---- sole and const
    {"sole kept",
     "func g(p: ptr sole, q: ptr) -> i64 {\na:\n  store 1:i64, [p]\n  store 2:i64, [q + 8]\n  r = load i64 "
     "[p]\n"
     "  return r\n}\n",
     "  p = reserve 16\n  r = call g(p, p)\n  return r\n", "1"},
    {"sole broken",
     "func g(p: ptr sole, q: ptr) -> i64 {\na:\n  store 1:i64, [p]\n  r = load i64 [q]\n  return r\n}\n",
     "  p = reserve 16\n  r = call g(p, p)\n  return r\n", "breaks a promise 'sole'"},
    {"sole broken by a later write",
     "func g(p: ptr sole, q: ptr) -> i64 {\na:\n  r = load i64 [p]\n  store 1:i64, [q]\n"
     "  return r\n}\n",
     "  p = reserve 16\n  store 0:i64, [p]\n  r = call g(p, p)\n  return r\n", "breaks a promise 'sole'"},
    {"sole lets both read",
     "func g(p: ptr sole, q: ptr) -> i64 {\na:\n  x = load i64 [p]\n  y = load i64 [q]\n  r = add x, y\n"
     "  return r\n}\n",
     "  p = reserve 16\n  store 4:i64, [p]\n  r = call g(p, p)\n  return r\n", "8"},
    {"sole passes through memory",
     "func g(p: ptr sole, slot: ptr) -> i64 {\na:\n  store p, [slot]\n  q = load ptr [slot]\n"
     "  store 1:i64, [p]\n  r = load i64 [q]\n  return r\n}\n",
     "  p = reserve 16\n  s = reserve 8\n  r = call g(p, s)\n"
     "  return r\n",
     "1"},
    {"sole ends with the call", "func g(p: ptr sole) {\na:\n  store 1:i64, [p]\n  return\n}\n",
     "  p = reserve 16\n  call g(p)\n  r = load i64 [p]\n  return r\n", "1"},
    {"a stretch of sole", "",
     "  p = reserve 8\n  q = sole p\n  store 3:i64, [q]\n  r = load i64 [p]\n  end q\n  return r\n",
     "breaks a promise 'sole'"},
    {"the stretch ends", "",
     "  p = reserve 8\n  q = sole p\n  store 3:i64, [q]\n  end q\n  r = load i64 [p]\n  return r\n", "3"},
    {"const broken", "func g(p: ptr const) {\na:\n  q = at [p + 8]\n  store 1:i64, [q]\n  return\n}\n",
     "  p = reserve 16\n  call g(p)\n  return 0\n", "through a parameter that is 'const'"},
    {"const lets others write",
     "func g(p: ptr const, q: ptr) -> i64 {\na:\n  store 6:i64, [q]\n  r = load i64 [p]\n  return r\n}\n",
     "  p = reserve 16\n  r = call g(p, p)\n  return r\n", "6"},
    {"early loads may break sole",
     "func g(p: ptr sole, q: ptr) -> i64 {\na:\n  store 1:i64, [p]\n  x = load i64 [q] early\n"
     "  r = load i64 [p]\n  return r\n}\n",
     "  p = reserve 16\n  r = call g(p, p)\n  return r\n", "1"},
    // ---- kinds
    {"kinds overlap upwards", kinds,
     "  p = reserve 12\n  store 9:i32, [p] align 4 as orchard.count\n"
     "  a = load i32 [p] align 1 as orchard.cell\n  r = widen.s i64 a\n  return r\n",
     "9"},
    {"kinds do not overlap", kinds,
     "  p = reserve 12 align 4\n  store 9:i32, [p] as orchard.count\n"
     "  a = load i32 [p] as orchard.degree\n  return 0\n",
     "orchard.degree meets one as orchard.count"},
    {"members apart", kinds,
     "  p = reserve 28 align 4\n  store 9:i32, [p + 4] as orchard.Reading.dry\n"
     "  a = load i32 [p + 4] as orchard.Reading.wet\n  return 0\n",
     "their kinds do not overlap"},
    {"a member in a larger record", kinds,
     "  p = reserve 28 align 4\n  store 9:i32, [p + 24] as orchard.Reading.wet\n"
     "  a = load i32 [p + 24] as orchard.Night.last.wet\n  r = widen.s i64 a\n  return r\n",
     "9"},
    {"two members of the larger record", kinds,
     "  p = reserve 28 align 4\n  store 9:i32, [p + 8] as orchard.Night.first.wet\n"
     "  a = load i32 [p + 8] as orchard.Night.last.wet\n  return 0\n",
     "their kinds do not overlap"},
    {"a member as its kind", kinds,
     "  p = reserve 28 align 4\n  store 9:i32, [p + 4] as orchard.Reading.dry\n"
     "  a = load i32 [p + 4] as orchard.degree\n  r = widen.s i64 a\n  return r\n",
     "9"},
    {"renewed bytes forget", kinds,
     "  p = reserve 12 align 4\n  store 9:i32, [p] as orchard.count\n  renew p, 12\n"
     "  store 1:i32, [p] as orchard.degree\n  return 3\n",
     "3"},
    {"plain accesses overlap all", kinds,
     "  p = reserve 12 align 4\n  store 9:i32, [p] as orchard.count\n  store 2:i32, [p]\n"
     "  a = load i32 [p]\n  r = widen.s i64 a\n  return r\n",
     "2"},
    {"as const of written bytes", kinds,
     "  p = reserve 12 align 4\n  store 9:i32, [p]\n  a = load i32 [p] as const orchard.count\n"
     "  return 0\n",
     "'as const' at offset 0 of 'p', which was written"},
    {"a kind's own align", kinds,
     "  p = reserve 12 align 4\n  a = load i32 [p + 2] as orchard.count\n  return 0\n", "'align 4'"},
    // ---- calls and control
    {"through a pointer", "func g(x: i64) -> i64 {\na:\n  r = mul x, 3\n  return r\n}\n",
     "  p = address of g\n  r = call [p](5:i64) -> i64\n  return r\n", "15"},
    {"with the wrong types", "func g(x: i64) -> i64 {\na:\n  return x\n}\n",
     "  p = address of g\n  r = call [p](5:i32) -> i64\n  return r\n",
     "'g', which is (i64) -> i64, is called as (i32) -> i64"},
    {"through data", "data d holds i32: 1\n", "  p = address of d\n  call [p]()\n  return 0\n",
     "where no function begins"},
    {"return call",
     "func g(n: i64, sum: i64) -> i64 {\na:\n  done = eq n, 0\n  when done go out else more\n\nmore:\n"
     "  m = sub n, 1\n  s = add sum, n\n  return call g(m, s)\n\nout:\n  return sum\n}\n",
     "  return call g(3000000, 0)\n", "4500001500000"},
    {"return call ends frame objects", "func g(p: ptr) -> i64 {\na:\n  r = load i64 [p]\n  return r\n}\n",
     "  p = reserve 8\n  store 1:i64, [p]\n  return call g(p)\n", "after its life ended"},
    {"choose", "", "  choose -2:i8 { 254: wrong, 0: wrong, else: wrong }\n\nwrong:\n  return 1\n", "1"},
    {"choose wide", "",
     "  choose 36893488147419103232:i128 { 0: a, 36893488147419103232: b, else: a }\n\na:\n  return 1\n\n"
     "b:\n  return 2\n",
     "2"},
    {"division in a lane", "", "  a = div.s {4, 1}:i32[2], {2, 0}\n  return 0\n", "trap"},
    {"carries", "",
     "  a, c = add.carry 255:i8, 0, true\n  b, d = add.carry 1:i8, 0, c\n  r = widen.u i64 b\n  return r\n",
     "2"},
    {"bits of lanes", "", "  a = bits i64 {1, 2}:i32[2]\n  return a\n", "8589934593"},
    {"bits of bools", "",
     "  a = bits i4 {true, false, false, true}:bool[4]\n  r = widen.u i64 a\n  return r\n", "9"},
    {"odd widths in memory", "",
     "  p = reserve 3\n  store -1:i24, [p]\n  a = load i17 [p]\n  r = widen.u i64 a\n  return r\n", "131071"},
    {"watch", "", "  watch total = 4:i32\n  return 0\n", "0"},
};

std::string outcome(const Row& row, const char* layout) {
  Realm realm;
  auto module = must_read(realm, fmt::format("module m\n{}\n{}\nfunc f() -> i64 {{\nenter:\n{}}}\n", layout,
                                             row.items, row.body));
  if (!module) return "not read";
  auto call = prepare_call(*module, "f", {});
  CallOutcome out = run_on_evaluator(*module, *call, {.frame_limit = 100});
  return out.end == CallOutcome::End::Trap     ? "trap"
         : out.end == CallOutcome::End::Result ? out.results[0]
                                               : out.message;
}

TEST(Meaning, RunsEndAsTheLanguageSays) {
  for (const Row& row : rows) {
    std::string is = outcome(row, "layout little");
    bool is_result = std::isdigit(static_cast<unsigned char>(row.end[0])) || std::string(row.end) == "trap";
    EXPECT_TRUE(is_result ? is == row.end : is.find(row.end) != std::string::npos) << row.name << ": " << is;
  }
}

// A program that shows its byte order, in both.
TEST(Meaning, LayoutsDecideTheOrderOfBytes) {
  const Row word{"", "data d holds i32: 16909060; i24: 1, 2\n",
                 "  p = address of d\n  a = load i8 [p]\n  b = load i8 [p + 6]\n"
                 "  x = widen.u i64 a\n  y = widen.u i64 b\n  z = shl y, 8\n  r = or x, z\n  return r\n",
                 ""};
  EXPECT_EQ(outcome(word, "layout little"), "4");
  EXPECT_EQ(outcome(word, "layout big"), "257");
  const Row lanes{
      "", "",
      "  p = reserve 8\n  store {1, 2}:i16[2], [p]\n  a = load i32 [p]\n  r = widen.u i64 a\n  return r\n",
      ""};
  EXPECT_EQ(outcome(lanes, "layout little"), "131073");
  EXPECT_EQ(outcome(lanes, "layout big"), "65538");
  const Row pointers{"", "data d holds address: d, d\n",
                     "  p = address of d\n  q = load ptr [p + 1*4]\n  same = eq p, q\n"
                     "  r = widen.u i64 same\n  return r\n",
                     ""};
  EXPECT_EQ(outcome(pointers, "layout little pointers 32"), "1");
  EXPECT_EQ(outcome(pointers, "layout big pointers 32"), "1");
}

TEST(Meaning, ExternalFunctionsAreHeldToWhatIsDeclared) {
  Realm realm;
  auto module = must_read(realm, R"(module m
extern func take(i64) -> ptr allocates, returns
extern func give(ptr) frees
extern func peek(ptr) -> i64 reads

func f() -> i64 {
enter:
  p = call take(8)
  store 5:i64, [p]
  r = call peek(p)
  call give(p)
  x = load i64 [p]
  return r
}
)");
  Evaluator e(*module);
  bool lies = false;
  e.provide(module->find("take"), [&](HostCall& c) {
    if (lies) return false;
    c.results[0] = c.allocate(c.arguments[0].bits);
    return true;
  });
  e.provide(module->find("give"), [](HostCall&) { return true; });
  bool writes = false;
  e.provide(module->find("peek"), [&](HostCall& c) {
    if (writes) c.write(c.arguments[0], 8);
    auto bytes = c.read(c.arguments[0], 8);
    c.results[0].bits = bytes.empty() ? 0 : bytes[0];
    return c.read(c.arguments[0], 9).empty();
  });
  EXPECT_EQ(e.call(module->find("f"), {}).message, "a load of 'allocated bytes' after its life ended");
  writes = true;
  EXPECT_EQ(e.call(module->find("f"), {}).message, "in 'peek': it writes memory, and is declared not to");
  lies = true;
  EXPECT_EQ(e.call(module->find("f"), {}).message, "'take' traps, and is declared to return");
}

TEST(Meaning, PermitsMakeResultsArbitrary) {
  const Row row{"", "",
                "  z = div 0.0:f64, 0.0\n  a = add z, 1.0 permit nonan\n  r = bits i64 a\n  return r\n", ""};
  Realm realm;
  auto module = must_read(realm, fmt::format("module m\nfunc f() -> i64 {{\nenter:\n{}}}\n", row.body));
  std::set<std::string> seen;
  for (uint64_t seed : {1, 2, 3}) {
    auto call = prepare_call(*module, "f", {});
    seen.insert(run_on_evaluator(*module, *call, {.seed = seed}).results[0]);
  }
  EXPECT_GT(seen.size(), 1u);
}

}  // namespace
}  // namespace porphyry
