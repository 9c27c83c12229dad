// Every instruction on numbers, against C++ on this processor: evaluator, processor, both with passes.
#include <fmt/format.h>

#include <bit>
#include <cmath>
#include <functional>
#include <limits>

#include "support/wasm_build.h"
#include "support/wasm_run.h"

namespace porphyry {
namespace {

using namespace testing;
using namespace testing::wasm_text;
using Bits64 = std::optional<uint64_t>;  // nothing: a trap

struct NumberCase {
  std::string code;
  char from, to;
  unsigned operands;
  std::function<Bits64(uint64_t, uint64_t)> is;
};

float f(uint64_t b) { return std::bit_cast<float>(static_cast<uint32_t>(b)); }
double d(uint64_t b) { return std::bit_cast<double>(b); }
uint64_t bits(float x) { return std::bit_cast<uint32_t>(x); }
uint64_t bits(double x) { return std::bit_cast<uint64_t>(x); }

// An integer of a width, from the low bits.
template <class T, class F>
NumberCase whole(unsigned code, unsigned operands, F is) {
  using S = std::make_signed_t<T>;
  char t = sizeof(T) == 4 ? 'i' : 'l';
  return {op(code), t, t, operands, [is](uint64_t a, uint64_t b) -> Bits64 {
            std::optional<T> r =
                is(static_cast<T>(a), static_cast<T>(b), static_cast<S>(a), static_cast<S>(b));
            return r ? Bits64(*r) : Bits64();
          }};
}
template <class T, class F>
NumberCase compared(unsigned code, F is) {
  NumberCase out =
      whole<T>(code, 2, [is](T a, T b, auto x, auto y) -> std::optional<T> { return is(a, b, x, y); });
  out.to = 'i';
  return out;
}

template <class T>
void add_whole(std::vector<NumberCase>& all, unsigned compare, unsigned compute) {
  using S = std::make_signed_t<T>;
  using O = std::optional<T>;
  constexpr unsigned w = 8 * sizeof(T);
  all.push_back({op(compare), sizeof(T) == 4 ? 'i' : 'l', 'i', 1,
                 [](uint64_t a, uint64_t) -> Bits64 { return static_cast<T>(a) == 0; }});
  all.push_back(compared<T>(compare + 1, [](T a, T b, S, S) { return a == b; }));
  all.push_back(compared<T>(compare + 2, [](T a, T b, S, S) { return a != b; }));
  all.push_back(compared<T>(compare + 3, [](T, T, S x, S y) { return x < y; }));
  all.push_back(compared<T>(compare + 4, [](T a, T b, S, S) { return a < b; }));
  all.push_back(compared<T>(compare + 5, [](T, T, S x, S y) { return x > y; }));
  all.push_back(compared<T>(compare + 6, [](T a, T b, S, S) { return a > b; }));
  all.push_back(compared<T>(compare + 7, [](T, T, S x, S y) { return x <= y; }));
  all.push_back(compared<T>(compare + 8, [](T a, T b, S, S) { return a <= b; }));
  all.push_back(compared<T>(compare + 9, [](T, T, S x, S y) { return x >= y; }));
  all.push_back(compared<T>(compare + 10, [](T a, T b, S, S) { return a >= b; }));
  auto one = [&](unsigned k, auto is) { all.push_back(whole<T>(compute + k, k < 3 ? 1 : 2, is)); };
  one(0, [](T a, T, S, S) -> O { return std::countl_zero(a); });
  one(1, [](T a, T, S, S) -> O { return std::countr_zero(a); });
  one(2, [](T a, T, S, S) -> O { return std::popcount(a); });
  one(3, [](T a, T b, S, S) -> O { return a + b; });
  one(4, [](T a, T b, S, S) -> O { return a - b; });
  one(5, [](T a, T b, S, S) -> O { return a * b; });
  one(6, [](T, T, S x, S y) -> O {
    return y == 0 || (y == -1 && x == std::numeric_limits<S>::min()) ? O() : O(x / y);
  });
  one(7, [](T a, T b, S, S) -> O { return b == 0 ? O() : O(a / b); });
  one(8, [](T, T, S x, S y) -> O { return y == 0 ? O() : O(y == -1 ? 0 : x % y); });
  one(9, [](T a, T b, S, S) -> O { return b == 0 ? O() : O(a % b); });
  one(10, [](T a, T b, S, S) -> O { return a & b; });
  one(11, [](T a, T b, S, S) -> O { return a | b; });
  one(12, [](T a, T b, S, S) -> O { return a ^ b; });
  one(13, [](T a, T b, S, S) -> O { return a << (b % w); });
  one(14, [](T, T b, S x, S) -> O { return x >> (b % w); });
  one(15, [](T a, T b, S, S) -> O { return a >> (b % w); });
  one(16, [](T a, T b, S, S) -> O { return std::rotl(a, static_cast<int>(b % w)); });
  one(17, [](T a, T b, S, S) -> O { return std::rotr(a, static_cast<int>(b % w)); });
}

template <class T>
T of(uint64_t b) {
  if constexpr (sizeof(T) == 4)
    return f(b);
  else
    return d(b);
}

// Minimum and maximum of the standard: NaN wins, and -0 is below 0.
template <class T>
T least(T a, T b) {
  if (std::isnan(a) || std::isnan(b)) return std::numeric_limits<T>::quiet_NaN();
  return a == b ? (std::signbit(a) ? a : b) : std::min(a, b);
}
template <class T>
T most(T a, T b) {
  if (std::isnan(a) || std::isnan(b)) return std::numeric_limits<T>::quiet_NaN();
  return a == b ? (std::signbit(a) ? b : a) : std::max(a, b);
}

template <class T>
void add_real(std::vector<NumberCase>& all, unsigned compare, unsigned compute) {
  char t = sizeof(T) == 4 ? 'f' : 'd';
  auto test = [&](unsigned k, auto is) {
    all.push_back({op(compare + k), t, 'i', 2,
                   [is](uint64_t a, uint64_t b) -> Bits64 { return is(of<T>(a), of<T>(b)); }});
  };
  test(0, [](T a, T b) { return a == b; });
  test(1, [](T a, T b) { return a != b; });
  test(2, [](T a, T b) { return a < b; });
  test(3, [](T a, T b) { return a > b; });
  test(4, [](T a, T b) { return a <= b; });
  test(5, [](T a, T b) { return a >= b; });
  auto one = [&](unsigned k, auto is) {
    all.push_back({op(compute + k), t, t, k < 7 ? 1u : 2u,
                   [is](uint64_t a, uint64_t b) -> Bits64 { return bits(is(of<T>(a), of<T>(b))); }});
  };
  one(0, [](T a, T) { return std::fabs(a); });
  one(1, [](T a, T) { return -a; });
  one(2, [](T a, T) { return std::ceil(a); });
  one(3, [](T a, T) { return std::floor(a); });
  one(4, [](T a, T) { return std::trunc(a); });
  one(5, [](T a, T) { return std::nearbyint(a); });
  one(6, [](T a, T) { return std::sqrt(a); });
  one(7, [](T a, T b) { return a + b; });
  one(8, [](T a, T b) { return a - b; });
  one(9, [](T a, T b) { return a * b; });
  one(10, [](T a, T b) { return a / b; });
  one(11, least<T>);
  one(12, most<T>);
  one(13, [](T a, T b) { return std::copysign(a, b); });
}

// To an integer: what lies outside traps, or becomes the nearest that there is.
template <class To, class From>
Bits64 truncated(From x, bool saturates) {
  using U = std::make_unsigned_t<To>;
  if (std::isnan(x)) return saturates ? Bits64(0) : Bits64();
  long double t = std::trunc(static_cast<long double>(x));
  long double low = std::numeric_limits<To>::min(), high = std::numeric_limits<To>::max();
  if (t < low) return saturates ? Bits64(static_cast<U>(std::numeric_limits<To>::min())) : Bits64();
  if (t > high) return saturates ? Bits64(static_cast<U>(std::numeric_limits<To>::max())) : Bits64();
  return static_cast<U>(static_cast<To>(t));
}

template <class To>
void add_truncations(std::vector<NumberCase>& all, unsigned plain, unsigned saturating, char to) {
  auto add = [&](unsigned k, char from, auto convert) {
    for (bool saturates : {false, true})
      all.push_back({saturates ? prefixed(saturating + k) : op(plain + k), from, to, 1,
                     [convert, saturates](uint64_t a, uint64_t) { return convert(a, saturates); }});
  };
  using S = std::make_signed_t<To>;
  add(0, 'f', [](uint64_t a, bool s) { return truncated<S>(f(a), s); });
  add(1, 'f', [](uint64_t a, bool s) { return truncated<To>(f(a), s); });
  add(2, 'd', [](uint64_t a, bool s) { return truncated<S>(d(a), s); });
  add(3, 'd', [](uint64_t a, bool s) { return truncated<To>(d(a), s); });
}

void add_conversions(std::vector<NumberCase>& all) {
  auto add = [&](unsigned code, char from, char to, std::function<uint64_t(uint64_t)> is) {
    all.push_back({op(code), from, to, 1, [is](uint64_t a, uint64_t) -> Bits64 { return is(a); }});
  };
  auto s = [](uint64_t a) { return static_cast<int32_t>(a); };
  auto u = [](uint64_t a) { return static_cast<uint32_t>(a); };
  add(0xa7, 'l', 'i', [=](uint64_t a) { return u(a); });
  add(0xac, 'i', 'l', [=](uint64_t a) { return static_cast<uint64_t>(int64_t(s(a))); });
  add(0xad, 'i', 'l', [=](uint64_t a) { return u(a); });
  add(0xb2, 'i', 'f', [=](uint64_t a) { return bits(static_cast<float>(s(a))); });
  add(0xb3, 'i', 'f', [=](uint64_t a) { return bits(static_cast<float>(u(a))); });
  add(0xb4, 'l', 'f', [=](uint64_t a) { return bits(static_cast<float>(static_cast<int64_t>(a))); });
  add(0xb5, 'l', 'f', [=](uint64_t a) { return bits(static_cast<float>(a)); });
  add(0xb6, 'd', 'f', [=](uint64_t a) { return bits(static_cast<float>(d(a))); });
  add(0xb7, 'i', 'd', [=](uint64_t a) { return bits(static_cast<double>(s(a))); });
  add(0xb8, 'i', 'd', [=](uint64_t a) { return bits(static_cast<double>(u(a))); });
  add(0xb9, 'l', 'd', [=](uint64_t a) { return bits(static_cast<double>(static_cast<int64_t>(a))); });
  add(0xba, 'l', 'd', [=](uint64_t a) { return bits(static_cast<double>(a)); });
  add(0xbb, 'f', 'd', [=](uint64_t a) { return bits(static_cast<double>(f(a))); });
  add(0xbc, 'f', 'i', [=](uint64_t a) { return u(a); });
  add(0xbd, 'd', 'l', [=](uint64_t a) { return a; });
  add(0xbe, 'i', 'f', [=](uint64_t a) { return u(a); });
  add(0xbf, 'l', 'd', [=](uint64_t a) { return a; });
  add(0xc0, 'i', 'i', [=](uint64_t a) { return u(static_cast<uint64_t>(static_cast<int8_t>(a))); });
  add(0xc1, 'i', 'i', [=](uint64_t a) { return u(static_cast<uint64_t>(static_cast<int16_t>(a))); });
  add(0xc2, 'l', 'l', [=](uint64_t a) { return static_cast<uint64_t>(static_cast<int8_t>(a)); });
  add(0xc3, 'l', 'l', [=](uint64_t a) { return static_cast<uint64_t>(static_cast<int16_t>(a)); });
  add(0xc4, 'l', 'l', [=](uint64_t a) { return static_cast<uint64_t>(int64_t(s(a))); });
}

std::vector<NumberCase> all_cases() {
  std::vector<NumberCase> all;
  add_whole<uint32_t>(all, 0x45, 0x67);
  add_whole<uint64_t>(all, 0x50, 0x79);
  add_real<float>(all, 0x5b, 0x8b);
  add_real<double>(all, 0x61, 0x99);
  add_truncations<uint32_t>(all, 0xa8, 0, 'i');
  add_truncations<uint64_t>(all, 0xae, 4, 'l');
  add_conversions(all);
  return all;
}

std::vector<uint64_t> edges(char type) {
  std::vector<uint64_t> out;
  const double reals[] = {0.0,
                          -0.0,
                          0.5,
                          -0.5,
                          1.5,
                          2.5,
                          -1.0,
                          3.75,
                          1e10,
                          -1e10,
                          2147483647.0,
                          2147483648.0,
                          -2147483648.0,
                          -2147483649.0,
                          4294967295.0,
                          4294967296.0,
                          9223372036854775807.0,
                          -9223372036854775808.0,
                          18446744073709551615.0,
                          1e300,
                          -0.999,
                          INFINITY,
                          -INFINITY,
                          NAN};
  if (type == 'f') {
    for (double x : reals) out.push_back(bits(static_cast<float>(x)));
    for (uint64_t b : {0x4effffffu, 0x4f7fffffu, 0xcf000000u, 0xcf000001u, 0x5effffffu, 1u, 0x7fa00000u})
      out.push_back(b);
  } else if (type == 'd') {
    for (double x : reals) out.push_back(bits(x));
    for (double x : {2147483647.9, -2147483648.9, 4294967295.9}) out.push_back(bits(x));
    for (uint64_t b : {0x43dfffffffffffffu, 0x43efffffffffffffu, 0xc3e0000000000001u, uint64_t(1)})
      out.push_back(b);
  } else {
    for (uint64_t b : {uint64_t(0),
                       uint64_t(1),
                       uint64_t(2),
                       uint64_t(7),
                       uint64_t(31),
                       uint64_t(32),
                       uint64_t(63),
                       uint64_t(64),
                       uint64_t(0x7f),
                       uint64_t(0x80),
                       uint64_t(0xffff),
                       uint64_t(0x8000),
                       uint64_t(0x7fffffff),
                       uint64_t(0x80000000),
                       uint64_t(0xffffffff),
                       uint64_t(0x100000000),
                       ~uint64_t(0),
                       uint64_t(1) << 63,
                       (uint64_t(1) << 63) - 1,
                       uint64_t(0x0123456789abcdef)})
      out.push_back(type == 'i' ? b & 0xffffffff : b);
  }
  return out;
}

bool same(uint64_t a, uint64_t b, char type) {
  if (type == 'f' && std::isnan(f(a)) && std::isnan(f(b))) return true;
  if (type == 'd' && std::isnan(d(a)) && std::isnan(d(b))) return true;
  return a == b;
}

TEST(WasmNumbers, AreWhatTheStandardSays) {
  std::vector<NumberCase> all = all_cases();
  WasmModule m;
  for (size_t k = 0; k < all.size(); ++k) {
    const NumberCase& c = all[k];
    uint32_t t = m.type(std::string(c.operands, c.from), std::string(1, c.to));
    m.exported(std::to_string(k), m.function(t, "", get(0) + (c.operands == 2 ? get(1) : "") + c.code));
  }
  for (const Engine& e : engines) {
    auto instance = instance_of(e, m.bytes());
    ASSERT_TRUE(instance.good()) << render(instance.why());
    size_t wrong = 0;
    for (size_t k = 0; k < all.size() && wrong < 10; ++k)
      for (uint64_t a : edges(all[k].from))
        for (uint64_t b : all[k].operands == 2 ? edges(all[k].from) : std::vector<uint64_t>{0}) {
          const Datum given[] = {{a}, {b}};
          wasm::CallResult run =
              (*instance)->call_function(static_cast<uint32_t>(k), std::span(given, all[k].operands));
          Bits64 should = all[k].is(a, b);
          bool good = should ? run.end == wasm::CallResult::End::Result &&
                                   same(run.results[0].bits, *should, all[k].to)
                             : run.end == wasm::CallResult::End::Trap;
          if (good || ++wrong > 10) continue;
          ADD_FAILURE() << e.name << ": " << wasm::instruction_name(all[k].code, 0)
                        << fmt::format(" {:#x}, {:#x}: {} instead of {}", a, b, outcome(run),
                                       should ? fmt::format("{:#x}", *should) : "a trap");
        }
  }
}

}  // namespace
}  // namespace porphyry
