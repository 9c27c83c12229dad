// Every instruction on 128 bits, against C++ lane by lane: evaluator, processor, both with passes.
#include <fmt/format.h>

#include <array>
#include <bit>
#include <cmath>
#include <cstring>
#include <functional>
#include <random>
#include <set>

#include "support/measure.h"
#include "support/wasm_build.h"
#include "support/wasm_run.h"

namespace porphyry {
namespace {

using namespace testing;
using namespace testing::wasm_text;

using V = std::array<uint8_t, 16>;

template <class T>
std::array<T, 16 / sizeof(T)> lanes(const V& v) {
  return std::bit_cast<std::array<T, 16 / sizeof(T)>>(v);
}
template <class T, size_t n>
V packed(const std::array<T, n>& l) {
  static_assert(sizeof(T) * n == 16);
  return std::bit_cast<V>(l);
}

struct LaneCase {
  unsigned code;
  std::string immediates;
  std::string from, to;                    // types of operands and of the result
  std::function<V(V, V, V, uint64_t)> is;  // a scalar result in the low bytes
};
std::vector<LaneCase> cases;

// Lane by lane on T, giving R of the same width.
template <class T, class F>
void two(unsigned code, F f) {
  cases.push_back({code, "", "vv", "v", [f](V a, V b, V, uint64_t) {
                     auto x = lanes<T>(a), y = lanes<T>(b);
                     for (size_t k = 0; k < x.size(); ++k) x[k] = static_cast<T>(f(x[k], y[k]));
                     return packed(x);
                   }});
}
template <class T, class F>
void one(unsigned code, F f) {
  cases.push_back({code, "", "v", "v", [f](V a, V, V, uint64_t) {
                     auto x = lanes<T>(a);
                     for (T& v : x) v = static_cast<T>(f(v));
                     return packed(x);
                   }});
}
template <class T, class F>
void compare(unsigned code, F f) {
  cases.push_back({code, "", "vv", "v", [f](V a, V b, V, uint64_t) {
                     auto x = lanes<T>(a), y = lanes<T>(b);
                     V out{};
                     for (size_t k = 0; k < x.size(); ++k)
                       std::memset(out.data() + k * sizeof(T), f(x[k], y[k]) ? 0xff : 0, sizeof(T));
                     return out;
                   }});
}
template <class T>
T saturated(int64_t v) {
  return static_cast<T>(std::clamp<int64_t>(v, std::numeric_limits<T>::min(), std::numeric_limits<T>::max()));
}

// What integers of all widths have. S, U: with and without sign; b: the first code of the arithmetic.
template <class S>
void integers(unsigned b) {
  using U = std::make_unsigned_t<S>;
  constexpr unsigned w = 8 * sizeof(S);
  one<U>(b, [](U x) { return static_cast<S>(x) < 0 ? U(0) - x : x; });
  one<U>(b + 1, [](U x) { return U(0) - x; });
  cases.push_back({b + 3, "", "v", "i", [](V a, V, V, uint64_t) {
                     V out{1};
                     for (U x : lanes<U>(a)) out[0] &= x != 0;
                     return out;
                   }});
  cases.push_back({b + 4, "", "v", "i", [](V a, V, V, uint64_t) {
                     uint32_t bits = 0;
                     auto x = lanes<S>(a);
                     for (size_t k = 0; k < x.size(); ++k) bits |= uint32_t(x[k] < 0) << k;
                     return packed(std::array<uint32_t, 4>{bits});
                   }});
  for (unsigned k = 0; k < 3; ++k)
    cases.push_back({b + 11 + k, "", "vi", "v", [k](V a, V, V, uint64_t n) {
                       auto x = lanes<U>(a);
                       for (U& v : x)
                         v = static_cast<U>(k == 0   ? v << (n % w)
                                            : k == 1 ? static_cast<U>(static_cast<S>(v) >> (n % w))
                                                     : v >> (n % w));
                       return packed(x);
                     }});
  two<U>(b + 14, [](U x, U y) { return x + y; });
  two<U>(b + 17, [](U x, U y) { return x - y; });
  if constexpr (w > 8) two<U>(b + 21, [](U x, U y) { return static_cast<U>(uint64_t(x) * y); });
  if constexpr (w < 64) {
    two<S>(b + 22, [](S x, S y) { return std::min(x, y); });
    two<U>(b + 23, [](U x, U y) { return std::min(x, y); });
    two<S>(b + 24, [](S x, S y) { return std::max(x, y); });
    two<U>(b + 25, [](U x, U y) { return std::max(x, y); });
  }
}

// Of 8 and 16 bits: what saturates, averages, narrowings from twice the width.
template <class S, class Wide>
void narrow_integers(unsigned b) {
  using U = std::make_unsigned_t<S>;
  two<S>(b + 15, [](S x, S y) { return saturated<S>(int64_t(x) + y); });
  two<U>(b + 16, [](U x, U y) { return saturated<U>(int64_t(x) + y); });
  two<S>(b + 18, [](S x, S y) { return saturated<S>(int64_t(x) - y); });
  two<U>(b + 19, [](U x, U y) { return saturated<U>(int64_t(x) - y); });
  two<U>(b + 27, [](U x, U y) { return (uint32_t(x) + y + 1) / 2; });
  auto narrow = [&]<class To>(unsigned code, To) {
    cases.push_back({code, "", "vv", "v", [](V a, V c, V, uint64_t) {
                       std::array<To, 16 / sizeof(To)> out;
                       auto x = lanes<Wide>(a), y = lanes<Wide>(c);
                       for (size_t k = 0; k < x.size(); ++k)
                         out[k] = saturated<To>(x[k]), out[k + x.size()] = saturated<To>(y[k]);
                       return packed(out);
                     }});
  };
  narrow(b + 5, S()), narrow(b + 6, U());
}

// From T, half as wide: halves widened, products of halves, sums of pairs.
template <class T, class Wide>
void widened(unsigned extend, unsigned multiply, unsigned pairs) {
  constexpr size_t n = 16 / sizeof(Wide);
  for (unsigned high : {0u, 1u}) {
    cases.push_back({extend + high, "", "v", "v", [high](V a, V, V, uint64_t) {
                       std::array<Wide, n> out;
                       for (size_t k = 0; k < n; ++k) out[k] = lanes<T>(a)[k + high * n];
                       return packed(out);
                     }});
    cases.push_back({multiply + high, "", "vv", "v", [high](V a, V b, V, uint64_t) {
                       std::array<Wide, n> out;
                       for (size_t k = 0; k < n; ++k)
                         out[k] = static_cast<Wide>(
                             static_cast<std::make_unsigned_t<Wide>>(Wide(lanes<T>(a)[k + high * n])) *
                             static_cast<std::make_unsigned_t<Wide>>(Wide(lanes<T>(b)[k + high * n])));
                       return packed(out);
                     }});
  }
  if (pairs)
    cases.push_back({pairs, "", "v", "v", [](V a, V, V, uint64_t) {
                       std::array<Wide, n> out;
                       for (size_t k = 0; k < n; ++k)
                         out[k] = static_cast<Wide>(lanes<T>(a)[2 * k] + lanes<T>(a)[2 * k + 1]);
                       return packed(out);
                     }});
}

template <class T>
void reals(unsigned compares, unsigned b, std::array<unsigned, 4> rounds) {
  compare<T>(compares, [](T x, T y) { return x == y; });
  compare<T>(compares + 1, [](T x, T y) { return x != y; });
  compare<T>(compares + 2, [](T x, T y) { return x < y; });
  compare<T>(compares + 3, [](T x, T y) { return x > y; });
  compare<T>(compares + 4, [](T x, T y) { return x <= y; });
  compare<T>(compares + 5, [](T x, T y) { return x >= y; });
  one<T>(b, [](T x) { return std::fabs(x); });
  one<T>(b + 1, [](T x) { return -x; });
  one<T>(b + 3, [](T x) { return std::sqrt(x); });
  two<T>(b + 4, [](T x, T y) { return x + y; });
  two<T>(b + 5, [](T x, T y) { return x - y; });
  two<T>(b + 6, [](T x, T y) { return x * y; });
  two<T>(b + 7, [](T x, T y) { return x / y; });
  two<T>(b + 8, [](T x, T y) {
    return std::isnan(x) || std::isnan(y) ? T(NAN) : x == y ? (std::signbit(x) ? x : y) : std::min(x, y);
  });
  two<T>(b + 9, [](T x, T y) {
    return std::isnan(x) || std::isnan(y) ? T(NAN) : x == y ? (std::signbit(x) ? y : x) : std::max(x, y);
  });
  two<T>(b + 10, [](T x, T y) { return y < x ? y : x; });
  two<T>(b + 11, [](T x, T y) { return x < y ? y : x; });
  one<T>(rounds[0], [](T x) { return std::ceil(x); });
  one<T>(rounds[1], [](T x) { return std::floor(x); });
  one<T>(rounds[2], [](T x) { return std::trunc(x); });
  one<T>(rounds[3], [](T x) { return std::nearbyint(x); });
}

template <class To, class From>
To truncated(From x) {
  if (std::isnan(x)) return 0;
  double t = std::trunc(double(x)), low = std::numeric_limits<To>::min(),
         high = std::numeric_limits<To>::max();
  return static_cast<To>(std::clamp(t, low, high));
}

void conversions() {
  using F = float;
  auto add = [](unsigned code, auto f) {
    cases.push_back({code, "", "v", "v", [f](V a, V, V, uint64_t) { return f(a); }});
  };
  add(248, [](V a) {
    auto x = lanes<F>(a);
    return packed(std::array<int32_t, 4>{truncated<int32_t>(x[0]), truncated<int32_t>(x[1]),
                                         truncated<int32_t>(x[2]), truncated<int32_t>(x[3])});
  });
  add(249, [](V a) {
    auto x = lanes<F>(a);
    return packed(std::array<uint32_t, 4>{truncated<uint32_t>(x[0]), truncated<uint32_t>(x[1]),
                                          truncated<uint32_t>(x[2]), truncated<uint32_t>(x[3])});
  });
  add(250, [](V a) {
    auto x = lanes<int32_t>(a);
    return packed(std::array<F, 4>{F(x[0]), F(x[1]), F(x[2]), F(x[3])});
  });
  add(251, [](V a) {
    auto x = lanes<uint32_t>(a);
    return packed(std::array<F, 4>{F(x[0]), F(x[1]), F(x[2]), F(x[3])});
  });
  add(252, [](V a) {
    auto x = lanes<double>(a);
    return packed(std::array<int32_t, 4>{truncated<int32_t>(x[0]), truncated<int32_t>(x[1])});
  });
  add(253, [](V a) {
    auto x = lanes<double>(a);
    return packed(std::array<uint32_t, 4>{truncated<uint32_t>(x[0]), truncated<uint32_t>(x[1])});
  });
  add(254, [](V a) {
    auto x = lanes<int32_t>(a);
    return packed(std::array<double, 2>{double(x[0]), double(x[1])});
  });
  add(255, [](V a) {
    auto x = lanes<uint32_t>(a);
    return packed(std::array<double, 2>{double(x[0]), double(x[1])});
  });
  add(94, [](V a) {
    auto x = lanes<double>(a);
    return packed(std::array<F, 4>{F(x[0]), F(x[1])});
  });
  add(95, [](V a) {
    auto x = lanes<F>(a);
    return packed(std::array<double, 2>{x[0], x[1]});
  });
}

template <class T>
void single_lanes(unsigned splat, unsigned extract, unsigned replace, char t, bool without_sign) {
  constexpr size_t n = 16 / sizeof(T);
  cases.push_back({splat, "", std::string(1, t), "v", [](V, V, V, uint64_t s) {
                     std::array<T, n> out;
                     T v;
                     std::memcpy(&v, &s, sizeof v);
                     out.fill(v);
                     return packed(out);
                   }});
  for (uint8_t k : {uint8_t(0), uint8_t(n - 1)}) {
    auto taken = [k](V a, auto as) {
      auto v = static_cast<decltype(as)>(lanes<T>(a)[k]);
      V out{};
      std::memcpy(out.data(), &v, sizeof v);
      return out;
    };
    if constexpr (sizeof(T) < 4) {
      cases.push_back(
          {extract, op(k), "v", "i", [taken](V a, V, V, uint64_t) { return taken(a, int32_t()); }});
      if (without_sign)
        cases.push_back({extract + 1, op(k), "v", "i", [k](V a, V, V, uint64_t) {
                           return packed(
                               std::array<uint32_t, 4>{static_cast<std::make_unsigned_t<T>>(lanes<T>(a)[k])});
                         }});
    } else {
      cases.push_back(
          {extract, op(k), "v", std::string(1, t), [taken](V a, V, V, uint64_t) { return taken(a, T()); }});
    }
    cases.push_back({replace, op(k), std::string("v") + t, "v", [k](V a, V, V, uint64_t s) {
                       auto x = lanes<T>(a);
                       std::memcpy(&x[k], &s, sizeof(T));
                       return packed(x);
                     }});
  }
}

template <class S>
void integer_compares(unsigned code) {
  using U = std::make_unsigned_t<S>;
  bool wide = sizeof(S) == 8;  // these have no comparisons without a sign
  compare<S>(code, [](S x, S y) { return x == y; });
  compare<S>(code + 1, [](S x, S y) { return x != y; });
  unsigned step = wide ? 1 : 2, k = code + 2;
  compare<S>(k, [](S x, S y) { return x < y; });
  compare<S>(k + step, [](S x, S y) { return x > y; });
  compare<S>(k + 2 * step, [](S x, S y) { return x <= y; });
  compare<S>(k + 3 * step, [](S x, S y) { return x >= y; });
  if (wide) return;
  compare<U>(k + 1, [](U x, U y) { return x < y; });
  compare<U>(k + 3, [](U x, U y) { return x > y; });
  compare<U>(k + 5, [](U x, U y) { return x <= y; });
  compare<U>(k + 7, [](U x, U y) { return x >= y; });
}

void whole_bits() {
  using U = uint64_t;
  one<U>(77, [](U x) { return ~x; });
  two<U>(78, [](U x, U y) { return x & y; });
  two<U>(79, [](U x, U y) { return x & ~y; });
  two<U>(80, [](U x, U y) { return x | y; });
  two<U>(81, [](U x, U y) { return x ^ y; });
  cases.push_back({82, "", "vvv", "v", [](V a, V b, V c, uint64_t) {
                     for (size_t k = 0; k < 16; ++k)
                       a[k] = static_cast<uint8_t>((a[k] & c[k]) | (b[k] & ~c[k]));
                     return a;
                   }});
  cases.push_back({83, "", "v", "i", [](V a, V, V, uint64_t) { return V{a != V{}}; }});
  one<uint8_t>(98, [](uint8_t x) { return std::popcount(x); });
  std::string picks;
  for (unsigned k = 0; k < 16; ++k) picks += op((k * 7 + 3) % 32);
  cases.push_back({13, picks, "vv", "v", [picks](V a, V b, V, uint64_t) {
                     V out;
                     for (size_t k = 0; k < 16; ++k)
                       out[k] = picks[k] < 16 ? a[static_cast<size_t>(picks[k])]
                                              : b[static_cast<size_t>(picks[k]) - 16];
                     return out;
                   }});
  cases.push_back({14, "", "vv", "v", [](V a, V b, V, uint64_t) {
                     for (uint8_t& n : b) n = n < 16 ? a[n] : 0;
                     return b;
                   }});
  two<int16_t>(130, [](int16_t x, int16_t y) { return saturated<int16_t>((int64_t(x) * y + 0x4000) >> 15); });
  cases.push_back({186, "", "vv", "v", [](V a, V b, V, uint64_t) {
                     std::array<uint32_t, 4> out;
                     auto x = lanes<int16_t>(a), y = lanes<int16_t>(b);
                     for (size_t k = 0; k < 4; ++k)
                       out[k] = static_cast<uint32_t>(x[2 * k] * y[2 * k]) +
                                static_cast<uint32_t>(x[2 * k + 1] * y[2 * k + 1]);
                     return packed(out);
                   }});
}

void fill_cases() {
  if (!cases.empty()) return;
  integers<int8_t>(96), integers<int16_t>(128), integers<int32_t>(160), integers<int64_t>(192);
  narrow_integers<int8_t, int16_t>(96), narrow_integers<int16_t, int32_t>(128);
  widened<int8_t, int16_t>(135, 156, 124), widened<uint8_t, uint16_t>(137, 158, 125);
  widened<int16_t, int32_t>(167, 188, 126), widened<uint16_t, uint32_t>(169, 190, 127);
  widened<int32_t, int64_t>(199, 220, 0), widened<uint32_t, uint64_t>(201, 222, 0);
  reals<float>(65, 224, {103, 104, 105, 106}), reals<double>(71, 236, {116, 117, 122, 148});
  integer_compares<int8_t>(35), integer_compares<int16_t>(45), integer_compares<int32_t>(55),
      integer_compares<int64_t>(214);
  single_lanes<int8_t>(15, 21, 23, 'i', true), single_lanes<int16_t>(16, 24, 26, 'i', true);
  single_lanes<int32_t>(17, 27, 28, 'i', false), single_lanes<int64_t>(18, 29, 30, 'l', false);
  single_lanes<float>(19, 31, 32, 'f', false), single_lanes<double>(20, 33, 34, 'd', false);
  conversions();
  whole_bits();
}

// Bits of any kind, and among them numbers at the edges of every type.
V random_lanes(std::mt19937_64& random) {
  V out;
  for (uint8_t& b : out) b = static_cast<uint8_t>(random());
  static const float edges[] = {0.0f,          -0.0f,    1.5f,      -2.5f, 2147483648.0f, -2147483649.0f,
                                4294967296.0f, INFINITY, -INFINITY, NAN,   0.5f,          3e9f};
  if (random() % 3 == 0)
    for (size_t k = 0; k < 4; ++k) std::memcpy(out.data() + 4 * k, &edges[random() % std::size(edges)], 4);
  if (random() % 4 == 0)
    for (size_t k = 0; k < 2; ++k) {
      double d = edges[random() % std::size(edges)];
      std::memcpy(out.data() + 8 * k, &d, 8);
    }
  if (random() % 4 == 0)
    for (uint8_t& b : out) b = std::array<uint8_t, 6>{0, 1, 0x7f, 0x80, 0xff, 15}[random() % 6];
  return out;
}

Datum datum(const V& v) {
  auto l = lanes<uint64_t>(v);
  return {l[0], l[1]};
}

// NaNs may have any bits, in the lanes of the floats that an instruction gives.
bool same(const V& a, const V& b, unsigned code) {
  bool f32 = (code >= 103 && code <= 106) || (code >= 224 && code <= 235) || code == 94 || code == 250 ||
             code == 251;
  bool f64 = code == 116 || code == 117 || code == 122 || code == 148 || (code >= 236 && code <= 247) ||
             code == 95 || code == 254 || code == 255;
  if (a == b) return true;
  auto alike = [&]<class T>(T) {
    for (size_t k = 0; k < 16 / sizeof(T); ++k)
      if (T x = lanes<T>(a)[k], y = lanes<T>(b)[k];
          std::memcmp(&x, &y, sizeof x) != 0 && !(std::isnan(x) && std::isnan(y)))
        return false;
    return true;
  };
  return f32 ? alike(float()) : f64 && alike(double());
}

// Of 236 instructions 22 reach memory, and one is a constant.
TEST(WasmLanes, AllAreTried) {
  fill_cases();
  std::set<unsigned> tried;
  for (const LaneCase& c : cases) tried.insert(c.code);
  EXPECT_EQ(tried.size(), 236u - 23);
  for (unsigned code : tried) EXPECT_NE(wasm::instruction_name(op(0xfd) + uleb(code), 0), "") << code;
}

TEST(WasmLanes, AreWhatTheStandardSays) {
  fill_cases();
  WasmModule m;
  for (size_t k = 0; k < cases.size(); ++k) {
    const LaneCase& c = cases[k];
    std::string code;
    for (uint32_t p = 0; p < c.from.size(); ++p) code += get(p);
    uint32_t t = m.type(c.from, c.to);
    m.exported(std::to_string(k), m.function(t, "", code + op(0xfd) + uleb(c.code) + c.immediates));
  }
  for (const Engine& e : engines) {
    auto instance = instance_of(e, m.bytes());
    ASSERT_TRUE(instance.good()) << render(instance.why());
    size_t wrong = 0;
    for (size_t k = 0; k < cases.size() && wrong < 10; ++k) {
      const LaneCase& c = cases[k];
      std::mt19937_64 random(k);
      for (size_t round = 0; round < testing::part_of(40); ++round) {
        V given[3] = {random_lanes(random), random_lanes(random), random_lanes(random)};
        uint64_t scalar = random();
        std::vector<Datum> arguments;
        for (size_t p = 0; p < c.from.size(); ++p)
          arguments.push_back(
              c.from[p] == 'v' ? datum(given[p])
                               : Datum{c.from[p] == 'i' || c.from[p] == 'f' ? scalar & 0xffffffff : scalar});
        wasm::CallResult run = (*instance)->call_function(static_cast<uint32_t>(k), arguments);
        V should = c.is(given[0], given[1], given[2], scalar), is{};
        if (run.end == wasm::CallResult::End::Result)
          is = packed(std::array<uint64_t, 2>{run.results[0].bits, run.results[0].high});
        if (c.to != "v")
          std::fill(should.begin() + (c.to == "l" || c.to == "d" ? 8 : 4), should.end(), uint8_t(0));
        if (run.end == wasm::CallResult::End::Result && same(is, should, c.code)) continue;
        if (++wrong <= 10)
          ADD_FAILURE() << e.name << ": " << wasm::instruction_name(op(0xfd) + uleb(c.code), 0)
                        << fmt::format(" of {:02x} | {:02x}: {:02x} instead of {:02x} {}",
                                       fmt::join(given[0], ""), fmt::join(given[1], ""), fmt::join(is, ""),
                                       fmt::join(should, ""), run.message);
        break;
      }
    }
  }
}

// Accesses to memory: every lane of every width, at the end of the memory, outside of it.
TEST(WasmLanes, ReachMemory) {
  auto access = [](unsigned code, std::string_view lane = "") {
    return op(0xfd) + uleb(code) + uleb(0) + uleb(2) + std::string(lane);
  };
  const V bytes = {0x80, 0x91, 0xa2, 0xb3, 0xc4, 0xd5, 0xe6, 0xf7, 8, 9, 10, 11, 12, 13, 14, 15};
  WasmModule m;
  m.memory(1);
  m.data(2, std::string(bytes.begin(), bytes.end()));
  uint32_t loads = m.type("i", "v"), with_lane = m.type("iv", "v");
  for (unsigned code : {0u, 1u, 2u, 3u, 4u, 5u, 6u, 7u, 8u, 9u, 10u, 92u, 93u})
    m.exported(std::to_string(code), m.function(loads, "", get(0) + access(code)));
  for (unsigned code : {84u, 85u, 86u, 87u})
    m.exported(std::to_string(code), m.function(with_lane, "", get(0) + get(1) + access(code, op(1))));
  for (unsigned code : {88u, 89u, 90u, 91u, 11u})
    m.exported(std::to_string(code),
               m.function(with_lane, "",
                          get(0) + get(1) + access(code, code == 11 ? "" : op(1)) + i32(0) + access(0)));
  auto extended = [&]<class T, class W>(T, W) {
    std::array<W, 16 / sizeof(W)> out;
    for (size_t k = 0; k < out.size(); ++k) out[k] = lanes<T>(bytes)[k];
    return packed(out);
  };
  auto filled = [&](size_t n) {
    V out;
    for (size_t k = 0; k < 16; ++k) out[k] = bytes[k % n];
    return out;
  };
  auto first = [&](size_t n) {
    V out{};
    std::copy_n(bytes.begin(), n, out.begin());
    return out;
  };
  V ones;
  ones.fill(0x11);
  auto in_lane = [&](size_t n) {
    V out = ones;
    std::copy_n(bytes.begin(), n, out.begin() + static_cast<ptrdiff_t>(n));
    return out;
  };
  auto stored = [&](size_t n) {
    V out = bytes;
    std::copy_n(ones.begin(), n, out.begin());
    return out;
  };
  const std::pair<unsigned, V> rows[] = {{0, bytes},
                                         {1, extended(int8_t(), int16_t())},
                                         {2, extended(uint8_t(), uint16_t())},
                                         {3, extended(int16_t(), int32_t())},
                                         {4, extended(uint16_t(), uint32_t())},
                                         {5, extended(int32_t(), int64_t())},
                                         {6, extended(uint32_t(), uint64_t())},
                                         {7, filled(1)},
                                         {8, filled(2)},
                                         {9, filled(4)},
                                         {10, filled(8)},
                                         {92, first(4)},
                                         {93, first(8)},
                                         {84, in_lane(1)},
                                         {85, in_lane(2)},
                                         {86, in_lane(4)},
                                         {87, in_lane(8)},
                                         {88, stored(1)},
                                         {89, stored(2)},
                                         {90, stored(4)},
                                         {91, stored(8)},
                                         {11, ones}};
  for (const Engine& e : engines)
    for (const auto& [code, should] : rows) {
      auto instance = instance_of(e, m.bytes());
      ASSERT_TRUE(instance.good()) << render(instance.why());
      bool lane = code >= 84 && code <= 91;
      const Datum given[] = {{0}, datum(ones)}, outside[] = {{65534}, datum(ones)};
      size_t count = lane || code == 11 ? 2 : 1;
      wasm::CallResult run = (*instance)->call(std::to_string(code), std::span(given, count));
      ASSERT_EQ(run.end, wasm::CallResult::End::Result) << run.message;
      EXPECT_EQ(packed(std::array<uint64_t, 2>{run.results[0].bits, run.results[0].high}), should)
          << e.name << " " << code;
      run = (*instance)->call(std::to_string(code), std::span(outside, count));
      EXPECT_EQ(run.end, wasm::CallResult::End::Trap) << e.name << " " << code;
      EXPECT_TRUE(run.message.starts_with("an access outside of the memory (v128.")) << run.message;
    }
}

}  // namespace
}  // namespace porphyry
