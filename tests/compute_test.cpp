// What operations compute on integers of odd widths: every pair of operands of 2 to 6 bits against arithmetic
// on plain numbers, and random ones of up to 128 bits against schoolbook arithmetic on their digits.
#include "porphyry/ir/compute.h"

#include <gtest/gtest.h>

#include <functional>
#include <map>
#include <random>

#include "porphyry/ir/words.h"

namespace porphyry {
namespace {

struct Answer {
  int64_t first = 0, second = 0;
  bool trap = false;
};
using Exact = std::function<Answer(int64_t sa, int64_t sb, int64_t ua, int64_t ub, int w)>;

int64_t clamp(int64_t v, int64_t low, int64_t high) { return v < low ? low : v > high ? high : v; }
int64_t least(int w) { return -(int64_t(1) << (w - 1)); }
int64_t greatest(int w) { return (int64_t(1) << (w - 1)) - 1; }
int64_t all(int w) { return (int64_t(1) << w) - 1; }
bool fits_s(int64_t v, int w) { return v >= least(w) && v <= greatest(w); }
bool fits_u(int64_t v, int w) { return v >= 0 && v <= all(w); }
int64_t floor_shift(int64_t v, int64_t by) {
  return v >= 0 ? v >> by : -((-v + (int64_t(1) << by) - 1) >> by);
}

// Each by the numbers that the operands stand for, signed (sa, sb) and unsigned (ua, ub).
const std::map<std::string, Exact> exact = {
    {"add", [](auto a, auto b, auto, auto, int) { return Answer{a + b}; }},
    {"sub", [](auto a, auto b, auto, auto, int) { return Answer{a - b}; }},
    {"mul", [](auto a, auto b, auto, auto, int) { return Answer{a * b}; }},
    {"neg", [](auto a, auto, auto, auto, int) { return Answer{-a}; }},
    {"abs", [](auto a, auto, auto, auto, int) { return Answer{a < 0 ? -a : a}; }},
    {"div.s",
     [](auto a, auto b, auto, auto, int w) {
       return b == 0 || !fits_s(a / b, w) ? Answer{0, 0, true} : Answer{a / b};
     }},
    {"div.u",
     [](auto, auto, auto a, auto b, int) {
       return b == 0 ? Answer{0, 0, true} : Answer{a / b};
     }},
    {"rem.s",
     [](auto a, auto b, auto, auto, int) {
       return b == 0 ? Answer{0, 0, true} : Answer{a % b};
     }},
    {"rem.u",
     [](auto, auto, auto a, auto b, int) {
       return b == 0 ? Answer{0, 0, true} : Answer{a % b};
     }},
    {"min.s", [](auto a, auto b, auto, auto, int) { return Answer{std::min(a, b)}; }},
    {"max.u", [](auto, auto, auto a, auto b, int) { return Answer{std::max(a, b)}; }},
    {"mulhi.s", [](auto a, auto b, auto, auto, int w) { return Answer{floor_shift(a * b, w)}; }},
    {"mulhi.u", [](auto, auto, auto a, auto b, int w) { return Answer{a * b >> w}; }},
    {"add.sat.s",
     [](auto a, auto b, auto, auto, int w) { return Answer{clamp(a + b, least(w), greatest(w))}; }},
    {"add.sat.u", [](auto, auto, auto a, auto b, int w) { return Answer{clamp(a + b, 0, all(w))}; }},
    {"sub.sat.s",
     [](auto a, auto b, auto, auto, int w) { return Answer{clamp(a - b, least(w), greatest(w))}; }},
    {"sub.sat.u", [](auto, auto, auto a, auto b, int w) { return Answer{clamp(a - b, 0, all(w))}; }},
    {"add.over.s",
     [](auto a, auto b, auto, auto, int w) {
       return Answer{a + b, !fits_s(a + b, w)};
     }},
    {"add.over.u",
     [](auto, auto, auto a, auto b, int w) {
       return Answer{a + b, !fits_u(a + b, w)};
     }},
    {"sub.over.s",
     [](auto a, auto b, auto, auto, int w) {
       return Answer{a - b, !fits_s(a - b, w)};
     }},
    {"sub.over.u",
     [](auto, auto, auto a, auto b, int w) {
       return Answer{a - b, !fits_u(a - b, w)};
     }},
    {"mul.over.s",
     [](auto a, auto b, auto, auto, int w) {
       return Answer{a * b, !fits_s(a * b, w)};
     }},
    {"mul.over.u",
     [](auto, auto, auto a, auto b, int w) {
       return Answer{a * b, !fits_u(a * b, w)};
     }},
    {"mul.wide.s",
     [](auto a, auto b, auto, auto, int w) {
       return Answer{a * b, floor_shift(a * b, w)};
     }},
    {"mul.wide.u",
     [](auto, auto, auto a, auto b, int w) {
       return Answer{a * b, a * b >> w};
     }},
    {"shl", [](auto, auto, auto a, auto b, int w) { return Answer{a << b % w}; }},
    {"shr.u", [](auto, auto, auto a, auto b, int w) { return Answer{a >> b % w}; }},
    {"shr.s", [](auto a, auto, auto, auto b, int w) { return Answer{floor_shift(a, b % w)}; }},
    {"rotl", [](auto, auto, auto a, auto b, int w) { return Answer{a << b % w | a >> (w - b % w)}; }},
    {"rotr", [](auto, auto, auto a, auto b, int w) { return Answer{a >> b % w | a << (w - b % w)}; }},
};

TEST(Compute, EveryPairOfSmallOddIntegers) {
  for (auto& [name, answer] : exact) {
    Op op = *operation_named(name);
    for (int w = 2; w <= 6; ++w) {
      Type t = Type::integer(static_cast<unsigned>(w));
      for (int64_t a = 0; a <= all(w); ++a)
        for (int64_t b = 0; b <= all(w); ++b) {
          int64_t sa = a > greatest(w) ? a - all(w) - 1 : a, sb = b > greatest(w) ? b - all(w) - 1 : b;
          Answer meant = answer(sa, sb, a, b, w);
          Bits in[] = {static_cast<Bits>(a), static_cast<Bits>(b)};
          Computed is = compute(op, t, t, {in, info(op).arity()});
          ASSERT_EQ(is.trapped, meant.trap) << name << " i" << w << " " << sa << ", " << sb;
          if (meant.trap) continue;
          ASSERT_EQ(is.bits, static_cast<Bits>(meant.first & all(w)))
              << name << " i" << w << " " << sa << ", " << sb;
          if (info(op).result_count() == 2) {
            ASSERT_EQ(is.second, static_cast<Bits>(meant.second & all(w)))
                << name << " i" << w << " " << sa << ", " << sb;
          }
        }
    }
  }
}

// Promises of overflow hold exactly when the checked operation says so, for every pair; the others by
// definition.
TEST(Compute, PromisesOfEveryPair) {
  for (int w = 2; w <= 6; ++w) {
    Type t = Type::integer(static_cast<unsigned>(w));
    for (int64_t a = 0; a <= all(w); ++a)
      for (int64_t b = 0; b <= all(w); ++b) {
        int64_t sa = a > greatest(w) ? a - all(w) - 1 : a, sb = b > greatest(w) ? b - all(w) - 1 : b;
        Bits in[] = {static_cast<Bits>(a), static_cast<Bits>(b)};
        auto broken = [&](Op op, uint8_t p) {
          return broken_promises(op, p, t, t, {in, info(op).arity()}) == p;
        };
        ASSERT_EQ(broken(Op::Add, promise::fits_s), !fits_s(sa + sb, w));
        ASSERT_EQ(broken(Op::Sub, promise::fits_u), !fits_u(a - b, w));
        ASSERT_EQ(broken(Op::Mul, promise::fits_s), !fits_s(sa * sb, w));
        ASSERT_EQ(broken(Op::Mul, promise::fits_u), !fits_u(a * b, w));
        ASSERT_EQ(broken(Op::Neg, promise::fits_s), !fits_s(-sa, w));
        ASSERT_EQ(broken(Op::Shl, promise::fits_u), !fits_u(a << b % w, w));
        ASSERT_EQ(broken(Op::Shl, promise::fits_s), !fits_s(sa * (int64_t(1) << b % w), w));
        ASSERT_EQ(broken(Op::ShrU, promise::lossless), (a & ((int64_t(1) << b % w) - 1)) != 0);
        ASSERT_EQ(broken(Op::ShrS, promise::bounded), b >= w);
        ASSERT_EQ(broken(Op::Or, promise::separate), (a & b) != 0);
        if (b != 0) {
          ASSERT_EQ(broken(Op::DivU, promise::lossless), a % b != 0);
        }
        ASSERT_EQ(broken(Op::RemS, promise::nonzero), b == 0);
      }
  }
}

// Numbers of up to 256 bits as digits of 16 bits: slow, and nothing like the code under test.
struct Digits {
  uint16_t d[16] = {};

  static Digits of(Bits w) {
    Digits out;
    for (int k = 0; k < 8; ++k) out.d[k] = static_cast<uint16_t>(w >> 16 * k);
    return out;
  }
  Bits bits(int from, int count) const {
    Bits out = 0;
    for (int k = 0; k < count; ++k) out |= Bits(d[(from + k) / 16] >> (from + k) % 16 & 1) << k;
    return out;
  }
  friend Digits operator*(const Digits& a, const Digits& b) {
    Digits out;
    for (int i = 0; i < 8; ++i) {
      uint32_t carry = 0;
      for (int k = 0; k < 8; ++k) {
        carry += uint32_t(out.d[i + k]) + uint32_t(a.d[i]) * b.d[k];
        out.d[i + k] = static_cast<uint16_t>(carry);
        carry >>= 16;
      }
      out.d[i + 8] = static_cast<uint16_t>(carry);
    }
    return out;
  }
};

TEST(Compute, WideIntegersAgainstDigits) {
  std::mt19937_64 random(128);
  for (int round = 0; round < 40000; ++round) {
    int w = 65 + static_cast<int>(random() % 64);
    Type t = Type::integer(static_cast<unsigned>(w));
    Bits mask = mask_of(t.bits());
    auto any = [&] { return (Bits(random()) << 64 | random()) >> random() % 128 & mask; };
    Bits a = any(), b = any(), in[] = {a, b, 0};  // the third is the carry that goes in
    auto one = [&](Op op) { return compute(op, t, t, {in, info(op).arity()}); };
    Digits product = Digits::of(a) * Digits::of(b);
    ASSERT_EQ(one(Op::MulWideU).bits, product.bits(0, w));
    ASSERT_EQ(one(Op::MulWideU).second, product.bits(w, w > 128 ? 0 : w));
    ASSERT_EQ(one(Op::MulOverU).second, product.bits(w, w) != 0);
    // Signed: the high half less what the signs took too much.
    Bits high = product.bits(w, w);
    if (a >> (w - 1)) high -= b;
    if (b >> (w - 1)) high -= a;
    ASSERT_EQ(one(Op::MulHiS).bits, high & mask);
    if (b != 0) {
      Bits q = one(Op::DivU).bits, r = one(Op::RemU).bits;
      ASSERT_LT(r, b);
      ASSERT_EQ((q * b + r) & mask, a);
      ASSERT_EQ((Digits::of(q) * Digits::of(b)).bits(128, 64), 0u);  // the quotient is not one too large
    }
    int by = static_cast<int>(static_cast<unsigned>(b % Bits(w)));
    ASSERT_EQ(one(Op::RotL).bits, by == 0 ? a : ((a << by | a >> (w - by)) & mask));
    int zeros = 0;
    while (zeros < w && !(a >> (w - 1 - zeros) & 1)) ++zeros;
    ASSERT_EQ(one(Op::Clz).bits, static_cast<Bits>(zeros));
    ASSERT_EQ(one(Op::AddCarry).second, ((a + b) & mask) < a);
  }
}

// Lanes compute as their scalars do; reductions go left to right; reinterpreting loses nothing.
TEST(Compute, LanesAreScalarsSideBySide) {
  std::mt19937_64 random(5);
  for (const OperationInfo& op : all_operations()) {
    if (op.layout != Layout::Two || !op.accepts_shape(Shape::Integer) || op.may_trap()) continue;
    for (unsigned w : {3u, 8u, 33u, 128u}) {
      Type t = Type::integer(w).with_lanes(4), types[] = {t, t};
      Type result = op.result == ResultRule::Truth ? Type::boolean().with_lanes(4) : t;
      Bits in[8], out[4];
      for (Bits& v : in) v = (Bits(random()) << 64 | random()) & mask_of(w);
      ASSERT_TRUE(compute_lanes(op.op, types, {&result, 1}, in, out)) << op.name << " " << w;
      for (int k = 0; k < 4; ++k) {
        Bits pair[] = {in[k], in[4 + k]};
        ASSERT_EQ(out[k], compute(op.op, t.element(), result.element(), pair).bits) << op.name << " i" << w;
      }
    }
  }
  for (unsigned w : {2u, 5u, 12u, 32u}) {
    Type lanes = Type::integer(w).with_lanes(4), whole = Type::integer(4 * w);
    Bits in[4], joined, back[4];
    for (Bits& v : in) v = random() & mask_of(w);
    ASSERT_TRUE(compute_lanes(Op::Bits, {&lanes, 1}, {&whole, 1}, in, {&joined, 1}));
    EXPECT_EQ(joined, in[0] | in[1] << w | in[2] << 2 * w | in[3] << 3 * w);
    ASSERT_TRUE(compute_lanes(Op::Bits, {&whole, 1}, {&lanes, 1}, {&joined, 1}, back));
    EXPECT_TRUE(std::equal(in, in + 4, back));
  }
}

}  // namespace
}  // namespace porphyry
