// The packed form: exact both ways, old files, damage and lies.
#include "porphyry/formats/packed.h"

#include <gtest/gtest.h>

#include "porphyry/analyze/verify.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/formats/text.h"
#include "porphyry/ir/pen.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/sample/sample.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using testing::contents;
using testing::must_read;

const std::string language = PORPHYRY_ROOT "/tests/data/language";

std::string resealed(std::string bytes) {
  uint64_t size = bytes.size() - packed_header_bytes,
           sum = packed_checksum(std::string_view(bytes).substr(packed_header_bytes));
  for (unsigned k = 0; k < 8; ++k) {
    bytes[8 + k] = static_cast<char>(size >> 8 * k);
    bytes[16 + k] = static_cast<char>(sum >> 8 * k);
  }
  return bytes;
}

std::string refusal(const std::string& bytes) {
  Realm realm;
  auto module = load_packed(realm, "x.porb", bytes);
  return module.good() ? "" : module.why()[0].message;
}

// The file was written by the first version and is never written again.
TEST(Packed, FilesOfTheFirstVersionKeepLoading) {
  Realm realm;
  auto module = load_packed(realm, "language_v1.porb", contents(language + "_v1.porb"));
  ASSERT_TRUE(module.good()) << render(module.why());
  EXPECT_EQ(write_text(**module), contents(language + ".por"));
}

TEST(Packed, IsExactBothWays) {
  Realm realm;
  std::string packed = write_packed(*must_read(realm, contents(language + ".por")));
  Realm other;
  auto back = load_packed(other, "x.porb", packed);
  ASSERT_TRUE(back.good()) << render(back.why());
  EXPECT_EQ(write_text(**back), contents(language + ".por"));
  EXPECT_EQ(write_packed(**back), packed);
}

TEST(Packed, DamageIsNamed) {
  std::string good = contents(language + "_v1.porb");
  EXPECT_EQ(refusal("frost"), "this is no packed module");
  EXPECT_EQ(refusal(good.substr(0, 20)), "the file ends in its header");
  EXPECT_EQ(refusal(good.substr(0, 300)).substr(0, 12), "the file has");
  std::string flipped = good;
  flipped[400] = static_cast<char>(flipped[400] ^ 1);
  EXPECT_EQ(refusal(flipped), "the file was changed: its checksum is not that of its bytes");
  std::string newer = good;
  newer[4] = 9;
  EXPECT_EQ(refusal(newer), "the file has version 9");
  EXPECT_EQ(refusal(resealed(good.substr(0, 900))).substr(0, 8), "at byte ");
  EXPECT_NE(refusal(resealed(good + "x")).find("goes on behind its end"), std::string::npos);
  // Cut anywhere, with a checksum that is right, it is refused.
  for (size_t at = packed_header_bytes; at < good.size(); at += 7)
    ASSERT_NE(refusal(resealed(good.substr(0, at))), "");
}

// Numbers that promise more than the file holds cost no memory and no time.
TEST(Packed, CountsThatLieAreRefused) {
  std::string huge("\xff\xff\xff\xff\x0f", 5);
  std::string good = contents(language + "_v1.porb");
  for (size_t at = packed_header_bytes; at < good.size(); ++at) {
    std::string lie = good;
    lie.replace(at, 1, huge);
    std::string is = refusal(resealed(lie));
    (void)is;  // most are refused; none may crash, hang or take memory
  }
  std::string empty_names = resealed(good.substr(0, packed_header_bytes) + huge);
  EXPECT_NE(refusal(empty_names).find("4294967295 names do not fit the rest of the file"), std::string::npos);
}

TEST(Hostile, TextOfAnySizeAndDepthIsToldOf) {
  auto problems = [](const std::string& text) {
    Realm realm;
    auto module = load_text(realm, SourceText("hostile.por", text));
    return module.good() ? Diagnostics{} : module.why();
  };
  std::string ten_megabytes = "module m\nfunc f() {\nenter:\n  x = add 1:i32, ";
  ten_megabytes += std::string(10 << 20, '7');
  Diagnostics found = problems(ten_megabytes + "\n  return\n}\n");
  ASSERT_FALSE(found.empty());
  EXPECT_LT(found[0].excerpt.size(), 1000u);
  for (const char* bracket : {"(", "[", "{", "x(", "[p + ", "{1, ", "nan(", "@1:1:1 in ", "@1:1:1 and "}) {
    std::string deep;
    for (int k = 0; k < 100000; ++k) deep += bracket;
    EXPECT_FALSE(
        problems("module m\nfunc f() {\nenter:\n  a = add 1:i32, " + deep + "\n  return\n}\n").empty());
    EXPECT_FALSE(problems("module m\n" + deep).empty()) << bracket;
  }
  // A chain of a hundred thousand positions, kinds or blocks is long, and right or told of.
  std::string positions = "module m\nfunc f() {\nenter:\n  trap @1:1:1";
  for (int k = 0; k < 100000; ++k) positions += " in @1:2:3 and @1:4:5";
  EXPECT_EQ(render(problems(positions + "\n}\n")), "");
  std::string kinds = "module m\nkinds k {\n  k0\n";
  for (int k = 1; k < 100000; ++k)
    kinds += "  k" + std::to_string(k) + " under k" + std::to_string(k - 1) + "\n";
  found = problems(kinds + "}\n");
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].message, "kind 'k64' lies deeper than 64 kinds");
  // Mistakes without end are told up to a thousand.
  std::string wrong = "module m\nfunc f() {\nenter:\n";
  for (int k = 0; k < 200000; ++k) wrong += "  oops\n";
  EXPECT_LE(problems(wrong + "}\n").size(), 1002u);
}

TEST(Verify, BrokenKindsAreNamed) {
  struct Mistake {
    const char* kinds;
    const char* access;
    const char* message;
  };
  const Mistake mistakes[] = {
      {"  a under b\n", "", "no kind is called 'b' here"},
      {"  a under b\n  b under c\n  c under a\n", "", "is above itself"},
      {"  a\n  a\n", "", "a second kind or record is called 'a'"},
      {"  a\n  record R size 8 { 0 x: a, 0 y: a }\n", "", "members 'x' and 'y' of 'R' overlap"},
      {"  a\n  record Q size 8 { 0 x: a }\n  record R size 16 { 0 q: Q, 4 y: a }\n", "",
       "members 'q' and 'y' of 'R' overlap"},
      {"  a\n  record R size 8 { 8 x: a }\n", "", "member 'x' reaches past the 8 bytes of 'R'"},
      {"  a\n  record R size 8 { 0 x: a, 4 x: a }\n", "", "two members of 'R' are called 'x'"},
      {"  a\n  record R size 8 { 0 x: nothing }\n", "", "no kind or record is called 'nothing' here"},
      {"  record R size 8 { 0 x: R }\n", "", "record 'R' contains itself"},
      {"  a align 3\n", "", "this alignment is not a power of two"},
      {"  a\n  record R size 8 { 0 x: a, 4 y: a }\n", "  v = load i64 [p] as k.R.x\n",
       "an access of 8 bytes is wider than its member 'k.R.x'"},
      {"  a\n  record R size 8 { 0 x: a }\n", "  v = load i32 [p] as k.R.z\n",
       "names no member: 'R' has none called 'z'"},
      {"  a\n  record R size 8 { 0 x: a }\n", "  v = load i32 [p] as k.R\n", "this path ends at a record"},
      {"  a\n", "  v = load i32 [p] as k.b\n", "nothing in 'k' is called 'b'"},
      {"  a\n", "  v = load i32 [p] as l.a\n", "no kinds are called 'l'"},
      {"  a\n", "  v = load i32 [p] promise fits.s\n", "'load' cannot promise fits.s"},
      {"  a\n", "  v = add 1:i32, 2 permit reorder\n", "permit reorder means nothing here"},
      {"  a\n", "  store 1:i32, [p] as const k.a\n", "a store writes what 'as const' says nobody writes"},
      {"  a\n", "  end p\n", "this ends what no 'sole' began"},
      {"  a\n", "  v = bytes.reverse 1:i12\n", "'bytes.reverse' does not take i12 here"},
      {"  a\n", "  v = shuffle {1, 2}:i8[2], {3, 4}, {0, 4}\n", "there is no lane 4 in two of i8[2]"},
      {"  a\n", "  store {true, true}:bool[2], [p] where {true, true}\n", "cannot be masked"},
      {"  a\n", "  v = call [p](1) -> i32\n", "the type of this number is not known"},
      {"  a\n", "  choose 1:i8 { 0: enter2, 256: enter2, else: enter2 }\n\nenter2:\n",
       "'256' is not a number of type i8"},
      {"  a\n", "  choose 1:i8 { 255: enter2, -1: enter2, else: enter2 }\n\nenter2:\n",
       "a second case for -1"},
      {"  a\n", "  choose 1:i8 { 0: enter2 }\n\nenter2:\n", "what other values do"},
  };
  for (const Mistake& m : mistakes) {
    Realm realm;
    std::string text = std::string("module m\nkinds k {\n") + m.kinds + "}\nfunc f(p: ptr) {\nenter:\n" +
                       m.access + "  return\n}\n";
    auto module = load_text(realm, SourceText("kinds.por", text));
    ASSERT_FALSE(module.good()) << text;
    std::string all = render(module.why());
    EXPECT_NE(all.find(m.message), std::string::npos) << text << all;
    for (const Diagnostic& d : module.why()) EXPECT_GT(d.line, 0u) << all;
  }
}

// Built modules can be wrong in ways that no text can.
TEST(Verify, BuiltKindsAndNamesAreChecked) {
  Realm realm;
  Module module(realm, "m");
  KindTree tree = module.kinds.add_tree(realm.name("k"));
  module.kinds.add_kind({realm.name("a"), tree, Kind(7)});
  module.kinds.add_record({realm.name("R"), tree, 8, {{0, realm.name("x"), {}, Record(9)}}});
  Symbol s = module.add_function("f", {{Type::integer(32)}, {}});
  Function& f = module.function(s);
  Pen pen(module, f);
  pen.at_end(f.add_block(realm.name("enter")));
  for (int k = 0; k < 2; ++k) f.set_name(pen.add(f.parameters()[0], f.parameters()[0]), realm.name("twice"));
  pen.return_values({});
  std::string all = render(verify(module));
  for (const char* part : {"the kind above 'a' is not there", "member 'x' of 'R' is of no kind that is there",
                           "two values are called 'twice'"})
    EXPECT_NE(all.find(part), std::string::npos) << part << "\n" << all;
}

}  // namespace
}  // namespace porphyry
