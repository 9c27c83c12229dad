// The IR by itself: tables, uses, order, edges; what operations compute, against another way to compute it.
#include <fenv.h>
#include <gtest/gtest.h>

#include <cmath>
#include <map>
#include <random>

#include "porphyry/ir/clone.h"
#include "porphyry/ir/compute.h"
#include "porphyry/ir/pen.h"
#include "porphyry/print/print.h"
#include "porphyry/sample/sample.h"
#include "support/read.h"

namespace porphyry {
namespace {

using types::i8, types::i32, types::i64;

// Every use that the operands and edges name is in its value's list, once, and nothing else is.
void check_uses(const Function& f) {
  std::map<uint32_t, size_t> expected;
  auto count = [&](Value v) {
    if (v.exists()) ++expected[v.index];
  };
  for (Block b : f.blocks())
    for (Instruction i : f.instructions(b)) {
      for (Value v : f.operands(i)) count(v);
      for (Edge e : f.edges(i))
        for (Value v : f.arguments(e)) count(v);
    }
  for (size_t v = 0; v < f.value_limit(); ++v) {
    size_t found = 0;
    for (Slot s : f.uses(Value(v))) {
      ASSERT_EQ(f.value(s), Value(v));
      auto use = f.use(s);
      ASSERT_TRUE(f.alive(use.user)) << "v" << v << " is used by what is erased";
      ++found;
    }
    ASSERT_EQ(found, expected[static_cast<uint32_t>(v)]) << "value " << v;
  }
}

// Edges into a block are those that blocks write, and the order of instructions is what "comes before" says.
void check_structure(const Function& f) {
  std::map<uint32_t, size_t> into;
  for (Block b : f.blocks()) {
    for (Instruction i : f.instructions(b)) {
      ASSERT_EQ(f.block(i), b);
      if (Instruction n = f.next(i); n.exists()) {
        ASSERT_EQ(f.previous(n), i);
        ASSERT_TRUE(f.comes_before(i, n));
      }
      for (Edge e : f.edges(i)) {
        ASSERT_EQ(f.from(e), b);
        ++into[f.to(e).index];
      }
    }
  }
  for (Block b : f.blocks()) {
    Instruction last = f.last(b);
    size_t ways = last.exists() ? f.edge_count(last) : 0;
    ASSERT_EQ(f.edges(b).size(), ways);
    for (size_t k = 0; k < ways; ++k) ASSERT_EQ(f.edges(b)[k], f.edge(last, k));
    size_t found = 0;
    for (Edge e : f.edges_into(b)) {
      ASSERT_EQ(f.to(e), b);
      ++found;
    }
    ASSERT_EQ(found, into[b.index]);
  }
}

TEST(Function, KeepsUsesOrderAndEdgesThroughRandomEdits) {
  for (uint64_t seed = 1; seed <= 60; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
    Function& f = program.module->function(program.main);
    std::mt19937_64 random(seed);
    check_structure(f);
    check_uses(f);
    Pen pen(*program.module, f);
    std::vector<Instruction> own;
    for (int edit = 0; edit < 300; ++edit) {
      Value v(random() % f.value_limit());
      switch (random() % 5) {
        case 0: {  // insert somewhere
          Instruction at(random() % f.instruction_limit());
          if (!f.alive(at)) break;
          Value c = f.constant(i32, random() % 8);
          own.push_back(f.definition(pen.before(at).add(c, c)));
          break;
        }
        case 1:  // redirect uses to a constant
          if (!f.is_constant(v) && !f.type(v).is_pointer()) f.replace_uses(v, f.constant(f.type(v), 1));
          break;
        case 2: {  // erase one of our own
          if (own.empty()) break;
          Instruction i = own[random() % own.size()];
          if (f.alive(i) && !f.has_uses(f.result(i))) f.erase(i);
          break;
        }
        case 3: {  // cut a block in two, put two together
          Block b(random() % f.block_limit());
          if (!own.empty() && f.alive(own.back())) f.split(f.block(own.back()), own.back());
          if (f.alive(b)) f.merge_with_next(b);
          break;
        }
        default: {  // add a parameter with its arguments, or take one away
          Block b(random() % f.block_limit());
          if (!f.alive(b) || b == f.entry()) break;
          if (random() % 2) {
            f.add_parameter(b, i8);
            for (Edge e : f.edges_into(b)) f.add_argument(e, f.constant(i8, 3));
          } else if (size_t n = f.parameters(b).size()) {
            size_t k = random() % n;
            if (f.type(f.parameters(b)[k]).is_pointer()) break;
            f.replace_uses(f.parameters(b)[k], f.constant(f.type(f.parameters(b)[k]), 0));
            f.erase_parameter(b, k);
          }
        }
      }
    }
    check_structure(f);
    check_uses(f);
    auto copy = clone(*program.module);
    EXPECT_EQ(write_text(*copy), write_text(*program.module));
    EXPECT_EQ(render(verify(*copy)), "");
  }
}

TEST(Function, InsertionAlwaysFindsRoom) {
  Realm realm;
  Module module(realm);
  Function& f = module.function(module.add_function("f", {}));
  Pen pen(module, f);
  Block b = f.add_block();
  pen.at_end(b).return_values({});
  Value one = f.constant(i32, 1);
  for (int k = 0; k < 5000; ++k) pen.before(f.last(b)).add(one, one);           // always at the same place
  for (int k = 0; k < 5000; ++k) pen.before(f.next(f.first(b))).add(one, one);  // and near the front
  check_structure(f);
}

// What a module says it holds grows with what is put in, and shrinks to that when room is given back.
TEST(Module, CountsItsMemory) {
  Realm realm;
  Module module(realm);
  size_t last = module.bytes();
  for (int k = 0; k < 20; ++k) {
    Function& f = module.function(module.add_function("f" + std::to_string(k), {{i32}, {i32}}));
    Pen pen(module, f);
    pen.at_end(f.add_block());
    Value v = f.parameters()[0];
    for (int n = 0; n < 300; ++n) v = pen.add(v, f.constant(i32, static_cast<Bits>(n)));
    pen.return_values({v});
    // An instruction, a value, two uses: at least their rows.
    EXPECT_GT(module.bytes(), last + 300 * 60);
    last = module.bytes();
  }
  std::string before = write_text(module);
  module.compact();
  EXPECT_LT(module.bytes(), last);
  EXPECT_GT(module.bytes(), size_t(20 * 300 * 60));
  EXPECT_EQ(write_text(module), before);
  module.rename(module.find("f3"), realm.name("renamed"));
  EXPECT_FALSE(module.find("f3").exists());
  EXPECT_EQ(module.symbol_name(module.find("renamed")), "renamed");
}

TEST(Verify, NamesWhatIsWrongWithABuiltModule) {
  Realm realm;
  Module module(realm);
  Symbol s = module.add_function("f", {{i32, Type::f32()}, {i32}});
  Function& f = module.function(s);
  Pen pen(module, f);
  Block a = f.add_block(realm.name("a")), b = f.add_block(realm.name("b")), c = f.add_block(realm.name("c"));
  f.add_parameter(c, i64);
  pen.at_end(a).write(Op::Add, {f.parameters()[0], f.parameters()[1]});
  pen.when(pen.truth(true), b, {}, c, {});
  pen.at_end(b);
  Value late = pen.add(f.parameters()[0], f.parameters()[0]);
  pen.go(c, {f.parameters()[0]});
  pen.at_end(c).return_values({late});
  Diagnostics found = verify(module);
  std::string all = render(found);
  for (const char* part : {"the operands of 'add' differ: i32 and f32", "'c' is given 0 arguments",
                           "argument 1 of 'c' is i32", "is not defined on every way to this line"})
    EXPECT_NE(all.find(part), std::string::npos) << part << "\n" << all;
  EXPECT_EQ(found.size(), 4u) << all;
  EXPECT_NE(found[0].excerpt.find("add"), std::string::npos);
}

// ---- compute ----------------------------------------------------------------------------------------------

uint64_t value_of(Op op, Type t, Type r, std::initializer_list<uint64_t> arguments) {
  std::vector<Bits> words(arguments.begin(), arguments.end());
  return static_cast<uint64_t>(compute(op, t, r, words).bits);
}

// 8-bit operations over all operands, against plain arithmetic in wider types.
TEST(Compute, BytesOfAllValuesAreWhatWideArithmeticSays) {
  for (int a = -128; a < 128; ++a)
    for (int b = -128; b < 128; ++b) {
      uint64_t x = static_cast<uint8_t>(a), y = static_cast<uint8_t>(b);
      int ua = static_cast<int>(x), ub = static_cast<int>(y), n = ub % 8;
      auto is = [&](Op op, int should) {
        ASSERT_EQ(value_of(op, i8, i8, {x, y}), static_cast<uint8_t>(should))
            << info(op).name << " " << a << " " << b;
      };
      auto truth = [&](Op op, bool should) {
        ASSERT_EQ(value_of(op, i8, Type::boolean(), {x, y}), should) << info(op).name << " " << a << " " << b;
      };
      is(Op::Add, a + b), is(Op::Sub, a - b), is(Op::Mul, a * b), is(Op::And, ua & ub), is(Op::Or, ua | ub),
          is(Op::Xor, ua ^ ub);
      is(Op::MinS, std::min(a, b)), is(Op::MaxS, std::max(a, b)), is(Op::MinU, std::min(ua, ub)),
          is(Op::MaxU, std::max(ua, ub));
      is(Op::MulHiS, a * b >> 8), is(Op::MulHiU, ua * ub >> 8);
      is(Op::Shl, ua << n), is(Op::ShrU, ua >> n), is(Op::ShrS, a >> n),
          is(Op::RotL, ua << n | ua >> (8 - n)), is(Op::RotR, ua >> n | ua << (8 - n));
      truth(Op::LtS, a < b), truth(Op::LeS, a <= b), truth(Op::GtU, ua > ub), truth(Op::GeU, ua >= ub),
          truth(Op::Eq, a == b), truth(Op::Ne, a != b);
      Bits operands[2] = {x, y};
      EXPECT_EQ(compute(Op::DivS, i8, i8, operands).trapped, b == 0 || (a == -128 && b == -1));
      EXPECT_EQ(compute(Op::RemU, i8, i8, operands).trapped, b == 0);
      if (b != 0) {
        if (a != -128 || b != -1) is(Op::DivS, a / b);
        is(Op::DivU, ua / ub), is(Op::RemU, ua % ub), is(Op::RemS, a % b);
      }
    }
  for (unsigned v = 0; v < 256; ++v) {
    int zeros = 0, trailing = 0, ones = 0;
    uint64_t reversed = 0;
    while (zeros < 8 && !(v >> (7 - zeros) & 1)) ++zeros;
    while (trailing < 8 && !(v >> trailing & 1)) ++trailing;
    for (int k = 0; k < 8; ++k) ones += v >> k & 1, reversed |= uint64_t(v >> k & 1) << (7 - k);
    EXPECT_EQ(value_of(Op::Clz, i8, i8, {v}), uint64_t(zeros));
    EXPECT_EQ(value_of(Op::Ctz, i8, i8, {v}), uint64_t(trailing));
    EXPECT_EQ(value_of(Op::Popcount, i8, i8, {v}), uint64_t(ones));
    EXPECT_EQ(value_of(Op::ReverseBits, i8, i8, {v}), reversed);
    EXPECT_EQ(value_of(Op::Neg, i8, i8, {v}), uint8_t(0 - v));
    EXPECT_EQ(value_of(Op::WidenS, i8, i32, {v}), uint32_t(int32_t(int8_t(v))));
  }
}

// 64 and 128 bits share one text of code: what fits both must agree.
TEST(Compute, WideIntegersAgreeWithNarrowOnes) {
  std::mt19937_64 random(9);
  const Type i128 = Type::integer(128);
  for (int k = 0; k < 20000; ++k) {
    uint64_t a = random() >> random() % 64, b = random() >> random() % 64;
    Bits wide[2] = {a, b};
    EXPECT_EQ(compute(Op::Mul, i128, i128, wide).bits >> 64, value_of(Op::MulHiU, i64, i64, {a, b}));
    Bits signed_operands[2] = {static_cast<Bits>(static_cast<__int128>(int64_t(a))),
                               static_cast<Bits>(static_cast<__int128>(int64_t(b)))};
    EXPECT_EQ(uint64_t(compute(Op::Mul, i128, i128, signed_operands).bits >> 64),
              value_of(Op::MulHiS, i64, i64, {a, b}));
    for (Op op : {Op::DivU, Op::RemU, Op::MinU, Op::And})
      if (b) {
        EXPECT_EQ(compute(op, i128, i128, wide).bits, value_of(op, i64, i64, {a, b}));
      }
    EXPECT_EQ(uint64_t(compute(Op::ReverseBytes, i128, i128, wide).bits >> 64),
              value_of(Op::ReverseBytes, i64, i64, {a}));
  }
}

TEST(Compute, FloatsFollowTheStandard) {
  auto f = [](float v) { return uint64_t(std::bit_cast<uint32_t>(v)); };
  auto d = [](double v) { return std::bit_cast<uint64_t>(v); };
  const Type f32 = Type::f32(), f64 = Type::f64();
  float nan = std::nanf(""), inf = INFINITY;
  EXPECT_EQ(value_of(Op::Min, f32, f32, {f(-0.0f), f(0.0f)}), f(-0.0f));
  EXPECT_EQ(value_of(Op::Min, f32, f32, {f(0.0f), f(-0.0f)}), f(-0.0f));
  EXPECT_EQ(value_of(Op::Max, f32, f32, {f(-0.0f), f(0.0f)}), f(0.0f));
  EXPECT_TRUE(std::isnan(std::bit_cast<float>(uint32_t(value_of(Op::Max, f32, f32, {f(nan), f(1.0f)})))));
  EXPECT_EQ(value_of(Op::Round, f64, f64, {d(2.5)}), d(2.0));
  EXPECT_EQ(value_of(Op::Round, f64, f64, {d(-3.5)}), d(-4.0));
  EXPECT_EQ(value_of(Op::ToIntS, f32, i8, {f(1000.0f)}), 127u);
  EXPECT_EQ(value_of(Op::ToIntS, f32, i8, {f(-inf)}), 128u);
  EXPECT_EQ(value_of(Op::ToIntS, f32, i64, {f(nan)}), 0u);
  EXPECT_EQ(value_of(Op::ToIntU, f64, i8, {d(-0.9)}), 0u);
  EXPECT_EQ(value_of(Op::ToIntU, f64, i64, {d(1e300)}), ~uint64_t(0));
  EXPECT_EQ(value_of(Op::ToFloatU, i64, f32, {~uint64_t(0)}), f(18446744073709551616.0f));
  EXPECT_EQ(value_of(Op::ToFloatS, i64, f64, {~uint64_t(0)}), d(-1.0));
  EXPECT_EQ(value_of(Op::CopySign, f32, f32, {0x7fc00001, f(-1.0f)}), 0xffc00001u);
  EXPECT_EQ(value_of(Op::Neg, f32, f32, {0x7f800001}), 0xff800001u);  // a signalling NaN keeps its bits
  EXPECT_EQ(value_of(Op::Lt, f32, Type::boolean(), {f(nan), f(1.0f)}), 0u);
  EXPECT_EQ(value_of(Op::Ne, f32, Type::boolean(), {f(nan), f(nan)}), 1u);
  EXPECT_EQ(value_of(Op::Unordered, f64, Type::boolean(), {d(1.0), d(NAN)}), 1u);
}

}  // namespace
}  // namespace porphyry
