// Whether the books leave nothing of the language uncovered, for any set of their features: every operation
// at every type, with constants on either side, and every other form, is lowered.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "porphyry/formats/text.h"
#include "porphyry/machine/lower.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/sample/cases.h"
#include "support/measure.h"
#include "support/targets.h"

namespace porphyry {
namespace {

std::vector<Type> types() {
  std::vector<Type> out = {Type::f32(), Type::f64()};
  for (unsigned bits : {2, 7, 8, 13, 16, 24, 32, 33, 63, 64, 65, 100, 128})
    out.push_back(Type::integer(bits));
  for (unsigned lanes : {2, 3, 4, 17})
    for (Type t : {Type::integer(8), Type::integer(16), Type::integer(32), Type::integer(64), Type::f32(),
                   Type::f64()})
      out.push_back(t.with_lanes(lanes));
  return out;
}

// What is not an operation on values: memory, control flow, constants, calls, bools, pointers.
std::string other_forms(const MemoryLayout& layout) {
  const std::string index = Type::integer(layout.pointer_bits).name();
  std::string out =
      fmt::format("module forms\nlayout {} pointers {}\nextern func far({}) -> i64\n",
                  layout.order == ByteOrder::Big ? "big" : "little", layout.pointer_bits, index);
  out += "data post holds i64: 1\n";
  size_t n = 0;
  auto add = [&](const std::string& header, const std::string& body) {
    out += fmt::format("func form{}{} {{\nenter:\n{}}}\n", n++, header, body);
  };
  for (const char* t : {"bool", "i7", "i8", "i16", "i24", "i32", "i64", "i128", "f32", "f64", "ptr", "f32[4]",
                        "i8[16]", "i64[3]", "bool[8]"}) {
    add(fmt::format("(p: ptr, i: {}) -> {}", index, t),
        fmt::format("  v = load {} [p]\n  w = load {} [p + i*4 + 12]\n  x = load {} [p + i*24 - 8] "
                    "volatile\n  store w, [p]\n  store v, [p + i*8]\n  return x\n",
                    t, t, t));
    add(fmt::format("(a: {0}, b: {0}, c: bool) -> {0}, bool", t),
        fmt::format("  when c go left(a) else right\nleft(x: {0}):\n  go right\nright:\n  same = eq c, "
                    "true\n  when same go last(a) else last(b)\nlast(y: {0}):\n  return y, same\n",
                    t));
  }
  for (const char* t : {"i8", "i32", "i64", "i128"})
    add(fmt::format("(x: {}) -> {}", t, t),
        "  choose x {\n    0: a,\n    3: b,\n    9: a,\n    else: c\n  }\na:\n  return 1\nb:\n  return "
        "2\nc:\n  return 3\n");
  for (const char* op : {"and", "or", "xor", "eq", "ne"})
    add("(a: bool, b: bool) -> bool", fmt::format("  c = {} a, b\n  return c\n", op));
  for (const char* op : {"eq", "ne", "lt.u", "ge.u"})
    add("(a: ptr, b: ptr) -> bool", fmt::format("  c = {} a, b\n  return c\n", op));
  add("(a: bool, b: bool, c: bool) -> i32, bool",
      "  d = not a\n  e = pick d, b, c\n  w = widen.u i32 e\n  return w, d\n");
  add("(p: ptr, q: ptr, n: " + index + ")",
      "  copy [p], [q], n\n  copy [p], [q], 37\n  fill 3:i8, [p], n\n  fill 0:i8, [p], 100\n  return\n");
  add(fmt::format("(p: ptr, n: {0}) -> i64, ptr, i64", index),
      fmt::format("  r = reserve 48 align 16\n  store n, [r + 8]\n  a = address of post\n  b = at [p + n*8 + "
                  "5]\n  x = bits {0} b\n  y = call far(x)\n  z = call [p](y) -> i64\n  return z, a, y\n",
                  index));
  add(fmt::format("(n: {}) -> i64", index), "  return call far(n)\n");
  add("()", "  trap\n");
  add("() -> f32, f64, i8, i64, ptr", "  return 0.0, -2.5, -1, 0x123456789abcdef0, null\n");
  return out;
}

class WholeBooks : public ::testing::TestWithParam<std::string> {};

TEST_P(WholeBooks, LeaveNothingUncovered) {
  const machine::Target& target = testing::target(GetParam());
  auto check = [&](const Module& module, machine::Features features) {
    auto lowered = machine::lower(module, target, {.features = features});
    if (lowered.good()) return;
    std::string with;
    for (size_t k = 0; k < target.features.size(); ++k)
      if (features >> k & 1) with += " " + std::string(target.features[k]);
    ADD_FAILURE() << render(lowered.why()) << "uncovered with" << (with.empty() ? " no features" : with);
  };
  // None, each alone, all: a rule asks for one of them, or none.
  std::vector<machine::Features> sets = {0, (machine::Features(1) << target.features.size()) - 1};
  for (size_t k = 0; k < target.features.size(); k += testing::checked_part)
    sets.push_back(machine::Features(1) << k);
  for (machine::Features features : sets) {
    for (int constant : {-1, 0, 1})
      for (size_t k = 0; Type t : types()) {
        if (testing::checked_part > 1 && k++ % 3 != static_cast<size_t>(constant + 1)) continue;
        Realm realm;
        unsigned bits = t.is_integer() ? t.bits() : 32;
        Type other = Type::integer(bits == 64 ? 16 : bits < 64 ? bits * 2 : 8).with_lanes(t.lanes());
        auto cases = module_of_cases(realm, operation_cases(t, other), constant);
        cases->layout = target.layout;
        check(*cases, features);
      }
    Realm realm;
    auto module = load_text(realm, SourceText("forms.por", other_forms(target.layout)));
    ASSERT_TRUE(module.good()) << render(module.why());
    check(**module, features);
  }
}

INSTANTIATE_TEST_SUITE_P(All, WholeBooks, ::testing::ValuesIn(testing::target_names()),
                         testing::as_test_name);

}  // namespace
}  // namespace porphyry
