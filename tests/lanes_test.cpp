// Lanes: all pairs of bytes through every operation in whole registers, and which instructions programs with
// lanes become.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cstring>
#include <map>
#include <optional>
#include <random>

#include "porphyry/ir/compute.h"
#include "porphyry/jit/jit.h"
#include "porphyry/machine/emit.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/read.h"
#include "support/targets.h"

namespace porphyry {
namespace {

using namespace machine;
using testing::target;

using Kernel = void(void*, void*, void*, int64_t);

// `body` computes r: i8[16] from a and b, sixteen pairs at a time.
std::string kernel_of(const std::string& body) {
  return "module m\nfunc f(p: ptr, q: ptr, out: ptr, n: i64) {\nenter:\n  go loop(0)\nloop(i: i64):\n"
         "  a = load i8[16] [p + i]\n  b = load i8[16] [q + i]\n" +
         body +
         "  store r, [out + i]\n  i2 = add i, 16\n  more = lt.s i2, n\n  when more go loop(i2) else done\n"
         "done:\n  return\n}\n";
}

// Runs it over all pairs, with and without features, and compares with `meant` for each.
template <class Meant>
void check_all_pairs(const std::string& what, const std::string& body, Meant meant) {
  std::vector<uint8_t> a(65536), b(65536), out(65536);
  for (size_t k = 0; k < a.size(); ++k) a[k] = static_cast<uint8_t>(k), b[k] = static_cast<uint8_t>(k >> 8);
  Realm realm;
  auto module = testing::must_read(realm, kernel_of(body));
  for (Features features : {Features(0), target().usual_features}) {
    auto jit = Jit::compile(*module, target(), {.features = features, .check_allocation = true});
    ASSERT_TRUE(jit.good()) << what << render(jit.why());
    (*(*jit)->function<Kernel>("f"))(a.data(), b.data(), out.data(), 65536);
    for (size_t k = 0; k < out.size(); ++k)
      ASSERT_EQ(out[k], meant(a[k], b[k])) << what << " of " << int(a[k]) << " and " << int(b[k]);
  }
}

TEST(Lanes, AllPairsOfBytesComputeTheSameAsScalars) {
  const Type i8 = Type::integer(8);
  for (const OperationInfo& row : all_operations()) {
    bool truth = row.result == ResultRule::Truth;
    if (row.layout > Layout::Two || !row.accepts_shape(Shape::Integer) || row.may_trap()) continue;
    bool one = row.layout == Layout::One;
    std::string apply = fmt::format("  {} = {} a{}\n", truth ? "c" : "r", row.name, one ? "" : ", b");
    if (truth) apply += "  r = pick c, a, b\n";
    check_all_pairs(std::string(row.name), apply, [&](uint8_t x, uint8_t y) {
      Bits in[] = {x, y};
      Computed c = compute(row.op, i8, truth ? Type::boolean() : i8, {in, one ? 1u : 2u});
      return truth ? (c.bits ? x : y) : static_cast<uint8_t>(c.bits);
    });
    if (HasFatalFailure()) return;
  }
}

TEST(Lanes, BytesShiftByConstantsAndByOneAmountForAll) {
  const Type i8 = Type::integer(8);
  for (Op op : {Op::Shl, Op::ShrU, Op::ShrS, Op::RotL, Op::RotR})
    for (unsigned by : {0u, 1u, 3u, 4u, 7u, 8u, 13u}) {
      auto meant = [&](uint8_t x, uint8_t) {
        Bits in[] = {x, by};
        return static_cast<uint8_t>(compute(op, i8, i8, in).bits);
      };
      std::string name(info(op).name);
      check_all_pairs(name, fmt::format("  r = {} a, {}\n", name, by), meant);
      check_all_pairs(name,
                      fmt::format("  k = and n, 0\n  l = add k, {}\n  m = narrow i8 l\n  s = splat i8[16] m\n"
                                  "  r = {} a, s\n",
                                  by, name),
                      meant);
      // By way of twice as wide lanes.
      check_all_pairs(name,
                      fmt::format("  w = widen.s i16[16] a\n  v = shl w, {}\n  x = shr.s v, {}\n"
                                  "  r = narrow i8[16] x\n",
                                  by % 8, by % 8),
                      [](uint8_t x, uint8_t) { return x; });
      if (HasFatalFailure()) return;
    }
}

TEST(Lanes, MasksGoFromOneWidthToAnother) {
  // A comparison of wide lanes decides about narrow ones, and the other way round; of both at once.
  for (const char* wide : {"i16", "i32", "i64"})
    check_all_pairs(wide,
                    fmt::format("  x = widen.s {0}[16] a\n  y = widen.s {0}[16] b\n  c = lt.s x, y\n"
                                "  u = pick c, a, b\n  d = gt.u a, b\n  z = pick d, x, y\n"
                                "  v = narrow i8[16] z\n  e = xor c, d\n  r = pick e, u, v\n",
                                wide),
                    [](uint8_t x, uint8_t y) {
                      bool c = int8_t(x)<int8_t(y), d = x> y;
                      return c != d ? (c ? x : y) : (d ? x : y);
                    });
}

// How often each instruction comes up in a function's code.
std::map<std::string, unsigned> instructions_of(const std::string& parameters, const std::string& body) {
  Realm realm;
  auto module =
      testing::must_read(realm, "module m\nfunc f(" + parameters + ") {\nenter:\n" + body + "  return\n}\n");
  auto lowered = lower(*module, target());
  EXPECT_TRUE(lowered.good()) << render(lowered.why());
  std::map<std::string, unsigned> out;
  std::span<const uint8_t> bytes = lowered->functions[0].bytes;
  for (PlainInstruction i; uint8_t size = target().decode(target(), bytes, i); bytes = bytes.subspan(size))
    ++out[std::string(target().form(i.form).name)];
  EXPECT_TRUE(bytes.empty()) << bytes.size() << " bytes are not described in " << body;
  return out;
}

struct Row {
  const char* what;
  const char* body;  // p and q are pointers, n: i32, x: f32
  std::vector<std::pair<const char*, unsigned>> wanted;
  unsigned at_most;  // instructions in all, but moves and the return
};
const Row rows[] = {
    {"a register of words",
     "  a = load i32[4] [p]\n  b = load i32[4] [q]\n  c = add a, b\n  store c, [p]\n",
     {{"paddd", 1}, {"movups", 3}},
     4},
    {"two registers",
     "  a = load f32[8] [p]\n  b = mul a, a\n  store b, [q]\n",
     {{"mulps", 2}, {"movups", 4}},
     6},
    {"half a register",
     "  a = load f32[2] [p]\n  b = add a, a\n  store b, [q]\n",
     {{"addps", 1}, {"movsd", 1}},
     4},
    {"a register and a half", "  a = load i16[12] [p]\n  b = mul a, a\n  store b, [q]\n", {{"pmullw", 2}}, 8},
    {"larger by comparison",
     "  a = load f32[4] [p]\n  c = gt a, 0.0\n  b = pick c, a, 0.0\n  store b, [q]\n",
     {{"cmpltps", 1}, {"pand", 1}, {"pandn", 0}},
     5},
    {"a constant from the pool",
     "  a = load i16[8] [p]\n  b = mul a, {1, 2, 3, 4, 5, 6, 7, 8}\n  store b, [q]\n",
     {{"pmullw", 1}},
     3},
    {"one amount for all",
     "  a = load i32[4] [p]\n  s = splat i32[4] n\n  b = shl a, s\n  store b, [q]\n",
     {{"pslld.by", 1}},
     5},
    {"bytes widen",
     "  a = load i8[16] [p]\n  b = widen.u i16[16] a\n  store b, [q]\n",
     {{"punpcklbw", 1}, {"punpckhbw", 1}},
     6},
    {"lanes in another order",
     "  a = load i32[4] [p]\n  b = shuffle a, a, {3, 2, 1, 0}\n  store b, [q]\n",
     {{"pshufd", 1}},
     3},
    {"lanes of two",
     "  a = load i8[16] [p]\n  b = load i8[16] [q]\n"
     "  c = shuffle a, b, {31, 0, 30, 1, 29, 2, 28, 3, 27, 4, 26, 5, 25, 6, 24, 7}\n  store c, [q]\n",
     {{"pshufb", 2}, {"por", 1}},
     6},
    {"any",
     "  a = load i32[4] [p]\n  c = lt.s a, 0\n  d = any c\n  w = widen.u i8 d\n  store w, [q]\n",
     {{"pcmpgtd", 1}, {"movq.out", 1}},
     9},
    {"a sum in any order",
     "  a = load f32[8] [p]\n  s = sum a permit reorder\n  store s, [q]\n",
     {{"addps", 3}},
     8},
    {"a sum of words",
     "  a = load i32[8] [p]\n  s = sum a\n  store s, [q]\n",
     {{"paddd", 3}, {"movd.out", 1}},
     9},
    {"whole numbers of floats and back",
     "  a = load f32[4] [p]\n  b = to_int.s i32[4] a\n"
     "  c = to_float.s f32[4] b\n  store c, [q]\n",
     {{"cvttps2dq", 1}, {"cvtdq2ps", 1}},
     9},
    {"wider and narrower floats",
     "  a = load f32[4] [p]\n  b = widen f64[4] a\n  c = sqrt b\n"
     "  d = narrow f32[4] c\n  store d, [q]\n",
     {{"cvtps2pd", 2}, {"sqrtpd", 2}, {"cvtpd2ps", 2}},
     10},
    {"what no instruction does goes lane by lane",
     "  a = load i32[4] [p]\n  b = popcount a\n  store b, [q]\n",
     {{"popcnt.32", 4}},
     14},
    {"wide products of lower halves",
     "  a = load i64[2] [p]\n  b = load i64[2] [q]\n  c = and a, 0xffffffff\n  d = and b, 0xffffffff\n"
     "  e = mul c, d\n  store e, [q]\n",
     {{"pmuludq", 1}, {"pand", 0}},
     4},
    {"wide products of lanes that widen",
     "  a = load i32[4] [p]\n  b = load i32[4] [q]\n  c = shuffle a, a, {1, 3}\n  d = shuffle b, b, {0, 2}\n"
     "  e = widen.u i64[2] c\n  f = widen.u i64[2] d\n  g = mul e, f\n  store g, [q]\n",
     {{"pmuludq", 1}, {"psrlq", 1}, {"pshufd", 0}, {"punpckldq", 0}},
     5},
    {"wide products with signs",
     "  a = load i32[4] [p]\n  b = load i32[4] [q]\n  c = shuffle a, a, {2, 3}\n  d = shuffle b, b, {2, 3}\n"
     "  e = widen.s i64[2] c\n  f = widen.s i64[2] d\n  g = mul e, f\n  store g, [q]\n",
     {{"pmuldq", 1}, {"pshufd", 2}, {"pcmpgtd", 0}},
     6},
    {"at least zero",
     "  a = load f32[4] [p]\n  b = max a, 0.0\n  store b, [q]\n",
     {{"xorps.same", 1}, {"addps", 1}, {"maxps", 1}},
     5},
    {"between two numbers",
     "  a = load f64 [p]\n  b = max a, -1.0\n  c = min b, 2.5\n  store c, [q]\n",
     {{"addsd", 2}, {"maxsd", 1}, {"minsd", 1}},
     8},
    {"products of bytes",
     "  a = load i8[16] [p]\n  b = load i8[16] [q]\n  c = mul a, b\n  store c, [q]\n",
     {{"pmullw", 2}},
     9},
    {"bits of bytes",
     "  a = load i8[16] [p]\n  b = popcount a\n  store b, [q]\n",
     {{"popcnt.32", 0}, {"paddb", 2}, {"psubb", 1}},
     13},
    {"shifts of bytes by amounts of their own",
     "  a = load i8[16] [p]\n  b = load i8[16] [q]\n  c = shl a, b\n  store c, [q]\n",
     {{"pcmpgtb", 3}},
     36},
    {"upper halves of products",
     "  a = load i32[4] [p]\n  b = load i32[4] [q]\n  c = mulhi.u a, b\n  store c, [q]\n",
     {{"pmuludq", 2}},
     10},
    {"signs of wide lanes, shifted",
     "  a = load i64[2] [p]\n  b = shr.s a, 5\n  store b, [q]\n",
     {{"psrlq", 1}, {"psubq", 1}},
     5},
    {"the larger of wide lanes",
     "  a = load i64[2] [p]\n  b = load i64[2] [q]\n  c = max.s a, b\n  store c, [q]\n",
     {{"pcmpgtq", 1}},
     7},
    {"floats of unsigned numbers",
     "  a = load i32[4] [p]\n  b = to_float.u f32[4] a\n  store b, [q]\n",
     {{"cvtdq2ps", 2}},
     8},
    {"a rotation by whole bytes",
     "  a = load i64[2] [p]\n  b = rotl a, 32\n  c = rotl b, 16\n  store c, [q]\n",
     {{"pshufd", 1}, {"pshufb", 1}, {"por", 0}},
     4},
    {"halves of two, given byte by byte",
     "  a = load i8[16] [p]\n  b = load i8[16] [q]\n"
     "  c = shuffle a, b, {8, 9, 10, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23}\n  store c, [q]\n",
     {{"shufpd", 1}, {"pshufb", 0}},
     4},
    {"wide products",
     "  a = load i64[2] [p]\n  b = load i64[2] [q]\n  c = mul a, b\n  store c, [q]\n",
     {{"pmuludq", 3}, {"imul.64", 0}},
     11}};

TEST(Lanes, BecomeTheInstructionsForThem) {
  for (const Row& row : rows) {
    auto is = instructions_of("p: ptr, q: ptr, n: i32, x: f32", row.body);
    unsigned all = 0;
    std::string list;
    for (const auto& [name, count] : is) {
      bool moves = name == "movaps" || name == "ret" || name.starts_with("mov.");
      if (!moves) all += count;
      list += fmt::format(" {} {}", count, name);
    }
    for (auto [name, count] : row.wanted)
      EXPECT_EQ(is[name], count) << row.what << ": " << name << " in" << list;
    EXPECT_LE(all, row.at_most) << row.what << ":" << list;
  }
}

// Numbers at which something changes, and others.
std::vector<uint64_t> numbers_for(unsigned width) {
  std::vector<uint64_t> out;
  std::mt19937_64 random(width);
  for (unsigned k = 0; k < width; k += 1 + width / 16)
    for (uint64_t off : {0, 1, -1}) out.push_back((uint64_t(1) << k) + off);
  for (int k = 0; k < 20; ++k) out.push_back(random());
  for (int k = 0; k < 12; ++k) out.push_back(random() % (2 * width));  // amounts
  while (out.size() % 8) out.push_back(~uint64_t(0));
  return out;
}

// Each operation on registers full of i16, i32 and i64, from all pairs of such numbers; shifts by constants,
// too.
TEST(Lanes, WiderOnesComputeTheSameAsScalars) {
  struct Case {
    Op op;
    Type t;
    bool truth;
    std::optional<unsigned> by;
  };
  std::vector<Case> cases;
  std::string text = "module m\n";
  auto add = [&](const OperationInfo& row, Type t, std::optional<unsigned> by) {
    const bool truth = row.result == ResultRule::Truth, one = row.layout == Layout::One;
    const std::string second = one ? "" : by ? fmt::format(", {}", *by) : ", b";
    const std::string lanes = t.with_lanes(128 / t.bits()).name();
    text += fmt::format(
        "func f{0}(p: ptr, q: ptr, out: ptr) {{\na:\n  a = load {1} [p]\n  b = load {1} [q]\n"
        "  {2} = {3} a{4}\n{5}  store r, [out]\n  return\n}}\n",
        cases.size(), lanes, truth ? "c" : "r", row.name, second, truth ? "  r = pick c, a, b\n" : "");
    cases.push_back({row.op, t, truth, by});
  };
  for (unsigned width : {16u, 32u, 64u})
    for (const OperationInfo& row : all_operations()) {
      if (row.layout > Layout::Two || !row.accepts_shape(Shape::Integer) || row.may_trap()) continue;
      add(row, Type::integer(width), {});
      if (row.name.starts_with("sh") || row.name.starts_with("rot"))
        for (unsigned by : {1u, 8u, width / 2, width - 1}) add(row, Type::integer(width), by);
    }
  Realm realm;
  auto module = testing::must_read(realm, text);
  for (Features features : {Features(0), target().usual_features}) {
    auto jit = Jit::compile(*module, target(), {.features = features, .check_allocation = true});
    ASSERT_TRUE(jit.good()) << render(jit.why());
    for (size_t k = 0; k < cases.size(); ++k) {
      const Case& c = cases[k];
      auto f = *(*jit)->function<void(const void*, const void*, void*)>(fmt::format("f{}", k));
      const unsigned bytes = c.t.bits() / 8, lanes = 16 / bytes;
      const std::vector<uint64_t> all = numbers_for(c.t.bits());
      auto fill = [&](uint8_t* to, size_t from, size_t step) {
        for (unsigned j = 0; j < lanes; ++j)
          std::memcpy(to + j * bytes, &all[(from + j * step) % all.size()], bytes);
      };
      for (size_t x = 0; x < all.size(); x += lanes)
        for (size_t y = 0; y < all.size(); ++y) {
          uint8_t a[16], b[16], out[16];
          fill(a, x, 1), fill(b, y, 3);
          f(a, b, out);
          for (unsigned j = 0; j < lanes; ++j) {
            uint64_t u = 0, v = 0, is = 0;
            std::memcpy(&u, a + j * bytes, bytes), std::memcpy(&v, b + j * bytes, bytes);
            std::memcpy(&is, out + j * bytes, bytes);
            const Bits in[] = {u, c.by ? *c.by : v};
            const bool one = info(c.op).layout == Layout::One;
            const Computed meant = compute(c.op, c.t, c.truth ? Type::boolean() : c.t, {in, one ? 1u : 2u});
            ASSERT_EQ(is, c.truth ? (meant.bits ? u : v) : static_cast<uint64_t>(meant.bits))
                << info(c.op).name << " of " << c.t.name() << ' ' << u << ' ' << v;
          }
        }
    }
  }
}

// Runs of neighbours from one or two registers, in any order.
TEST(Lanes, NeighboursMoveTogether) {
  std::mt19937_64 random(7);
  for (uint64_t round = 0; round < testing::part_of(400); ++round) {
    const char* element[] = {"i8", "i16", "i32", "f32", "i64", "f64"};
    const unsigned bytes_of[] = {1, 2, 4, 4, 8, 8}, kind = random() % 6, bytes = bytes_of[kind],
                   lanes = 16 / bytes, run = 1u << random() % (1 + unsigned(std::countr_zero(lanes)));
    const bool of_one = random() % 2;
    std::vector<unsigned> order;
    while (order.size() < lanes) {
      const unsigned first = random() % (of_one ? lanes / run : 2 * lanes / run) * run;
      for (unsigned k = 0; k < run; ++k) order.push_back(first + k);
    }
    Realm realm;
    auto module = testing::must_read(
        realm, fmt::format(
                   "module m\nfunc f(p: ptr, q: ptr, out: ptr) {{\na:\n  a = load {0}[{1}] [p]\n"
                   "  b = load {0}[{1}] [q]\n  r = shuffle a, {2}, {{{3}}}\n  store r, [out]\n  return\n}}\n",
                   element[kind], lanes, of_one ? "a" : "b", fmt::join(order, ", ")));
    for (Features features : {Features(0), target().usual_features}) {
      auto jit = Jit::compile(*module, target(), {.features = features, .check_allocation = true});
      ASSERT_TRUE(jit.good()) << render(jit.why());
      uint8_t in[32], out[16];
      for (uint8_t& b : in) b = static_cast<uint8_t>(random());
      (*(*jit)->function<void(const void*, const void*, void*)>("f"))(in, in + 16, out);
      for (unsigned k = 0; k < lanes; ++k)
        ASSERT_EQ(std::memcmp(out + k * bytes, in + order[k] * bytes, bytes), 0)
            << element[kind] << " {" << fmt::format("{}", fmt::join(order, ", ")) << "}, lane " << k;
    }
  }
}

TEST(Lanes, UnsignedNumbersBecomeTheFloatsNearestToThem) {
  Realm realm;
  auto module = testing::must_read(
      realm,
      "module m\nfunc f(p: ptr, out: ptr) {\na:\n  a = load i32[4] [p]\n  r = to_float.u f32[4] a\n"
      "  store r, [out]\n  return\n}\n");
  auto jit = Jit::compile(*module, target(), {.check_allocation = true});
  ASSERT_TRUE(jit.good()) << render(jit.why());
  auto f = *(*jit)->function<void(const void*, void*)>("f");
  std::mt19937_64 random(3);
  for (size_t round = 0; round < 1'000'000; ++round) {
    uint32_t in[4];
    float out[4];
    // Few bits between zeros or ones lie in the middle of two floats, or beside that.
    for (uint32_t& x : in) {
      x = static_cast<uint32_t>(random()) << random() % 32 >> random() % 32;
      if (random() % 2) x = ~x;
    }
    f(in, out);
    for (int k = 0; k < 4; ++k) ASSERT_EQ(out[k], static_cast<float>(in[k])) << in[k];
  }
}

// Operands of all kinds of which halves of lanes may be known, in pairs.
TEST(Lanes, WideProductsAreThoseOfScalars) {
  const std::vector<std::string> kinds = {
      "  {0} = add {1}, 0\n",
      "  {0} = and {1}, 0xffffffff\n",
      "  {0} = and {1}, 0x1ffffffff\n",
      "  {0} = shr.u {1}, 32\n",
      "  {0} = shr.u {1}, 31\n",
      "  h{0} = narrow i32[2] {1}\n  {0} = widen.u i64[2] h{0}\n",
      "  h{0} = narrow i32[2] {1}\n  {0} = widen.s i64[2] h{0}\n",
      "  w{0} = bits i32[4] {1}\n  h{0} = shuffle w{0}, w{0}, {{1, 3}}\n  {0} = widen.s i64[2] h{0}\n",
      "  w{0} = bits i32[4] {1}\n  h{0} = shuffle w{0}, w{0}, {{2, 3}}\n  {0} = widen.u i64[2] h{0}\n",
      "  w{0} = bits i32[4] {1}\n  h{0} = shuffle w{0}, w{0}, {{3, 0}}\n  {0} = widen.s i64[2] h{0}\n",
      "  h{0} = narrow i16[2] {1}\n  {0} = widen.s i64[2] h{0}\n",
      "  {0} = and {1}, {{0xffffffff, 0xffffffffff}}\n",
      "  z{0} = and {1}, 0\n  {0} = or z{0}, {{0xfffffffffffffff9, 0x7fffffff}}\n",
      "  z{0} = and {1}, 0\n  {0} = or z{0}, {{0xffffffff80000000, 0x80000000}}\n"};
  std::string text = "module m\n";
  for (size_t a = 0; a < kinds.size(); ++a)
    for (size_t b = 0; b < kinds.size(); ++b)
      text += fmt::format(
          "func f{}_{}(p: ptr, q: ptr, out: ptr) {{\nenter:\n  x = load i64[2] [p]\n"
          "  y = load i64[2] [q]\n{}{}  r = mul a, b\n  store a, [out]\n  store b, [out + 16]\n"
          "  store r, [out + 32]\n  return\n}}\n",
          a, b, fmt::format(fmt::runtime(kinds[a]), "a", "x"), fmt::format(fmt::runtime(kinds[b]), "b", "y"));
  Realm realm;
  auto module = testing::must_read(realm, text);
  const uint64_t edges[] = {0,          1,           0x7fffffff,         0x80000000,
                            0xffffffff, 0x100000000, 0x123456789abcdef0, ~uint64_t(0)};
  for (Features features : {Features(0), target().usual_features}) {
    auto jit = Jit::compile(*module, target(), {.features = features, .check_allocation = true});
    ASSERT_TRUE(jit.good()) << render(jit.why());
    for (size_t a = 0; a < kinds.size(); ++a)
      for (size_t b = 0; b < kinds.size(); ++b) {
        auto f = *(*jit)->function<void(const void*, const void*, void*)>(fmt::format("f{}_{}", a, b));
        for (uint64_t x : edges)
          for (uint64_t y : edges) {
            const uint64_t p[2] = {x, ~x * 0x9e3779b97f4a7c15}, q[2] = {y, y ^ 0x8000000180000001};
            uint64_t out[6];
            f(p, q, out);
            for (int k : {0, 1})
              ASSERT_EQ(out[4 + k], out[k] * out[2 + k]) << a << ' ' << b << ' ' << x << ' ' << y;
          }
      }
  }
}

}  // namespace
}  // namespace porphyry
