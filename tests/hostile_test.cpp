// Input that is not what it should be, for every reader but the IR's own (see text_test.cpp): books,
// pipelines, calls, tours, bytes. What comes back is diagnostics or a result, never a crash.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>
#include <sstream>

#include "book.h"
#include "porphyry/call/tour.h"
#include "porphyry/machine/emit.h"
#include "porphyry/passes/passes.h"
#include "porphyry/render/notes.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using testing::must_read;

// The entries of the real book, as texts.
std::vector<std::string> book_entries() {
  std::istringstream in(testing::contents(PORPHYRY_ROOT "/src/targets/x64/x64.book"));
  std::vector<std::string> out(1);
  for (std::string line; std::getline(in, line);) {
    bool starts = !line.empty() && line[0] != ' ' && line != "becomes" && line.substr(0, 2) != "--";
    if (starts) out.emplace_back();
    out.back() += line + "\n";
  }
  return out;
}

std::string with_changes(std::string text, std::mt19937_64& random) {
  static const std::string words[] = {
      "{",     "}",       "{w}",     ":",     ",",      "=",         "[",  "]",    "each",  "form",
      "means", "becomes", "literal", "where", "regs d", "general",   "32", "-1",   "0x",    "notion",
      "\n  ",  "\n",      "x",       "only",  "unless", "trap when", "go", "open", "store", "load"};
  for (size_t n = 1 + random() % 4; n > 0 && !text.empty(); --n) {
    size_t at = random() % text.size();
    switch (random() % 3) {
      case 0: text.insert(at, " " + words[random() % std::size(words)] + " "); break;
      case 1: text.erase(at, 1 + random() % 12); break;
      default: {  // take one word away
        size_t from = text.rfind(' ', at), to = text.find(' ', at);
        if (from != std::string::npos && to != std::string::npos) text.erase(from, to - from);
      }
    }
  }
  return text;
}

TEST(Hostile, BooksAreRefusedNotSuffered) {
  std::vector<std::string> entries = book_entries();
  ASSERT_GT(entries.size(), 150u);
  std::mt19937_64 random(29);
  size_t refused = 0;
  for (size_t k = 0; k < testing::part_of(1500); ++k) {
    // The settings stay mostly whole, so that what follows is looked at.
    std::string text;
    for (size_t e = 0; e < entries.size(); ++e) {
      bool setting = entries[e].starts_with("book") || entries[e].starts_with("registers") ||
                     entries[e].starts_with("flags") || entries[e].starts_with("features") ||
                     entries[e].starts_with("notion");
      if (!setting && random() % 24 != 0) continue;
      text += random() % (setting ? 40 : 2) == 0 ? with_changes(entries[e], random) : entries[e];
    }
    auto book = bind::read_book(SourceText("hostile.book", text));
    refused += !book.good();
    if (book.good()) {
      EXPECT_FALSE(bind::write_tables(*book, "t").empty()) << text;
      continue;
    }
    for (const Diagnostic& d : book.why()) ASSERT_FALSE(d.message.empty()) << text;
  }
  EXPECT_GT(refused, testing::part_of(500));
}

TEST(Hostile, PipelinesAreReadOrRefused) {
  std::mt19937_64 random(31);
  const char* words[] = {"promote", "fold", "sweep", "until", "stable",        "{",
                         "}",       ";",    "x",     " ",     "until stable {"};
  for (int k = 0; k < 20000; ++k) {
    std::string text;
    for (size_t n = random() % 9; n > 0; --n)
      text += std::string(words[random() % std::size(words)]) + (random() % 2 ? " " : "");
    auto p = read_pipeline(text);
    if (p.good()) {
      ASSERT_EQ(read_pipeline(p->text())->text(), p->text());
    } else {
      ASSERT_FALSE(p.why().empty()) << text;
      render(p.why());
    }
  }
}

TEST(Hostile, CallsNameEveryWrongWord) {
  Realm realm;
  auto module = must_read(realm,
                          "module m\nextern func e() -> i32\nfunc f(a: i8, p: ptr, x: f32, b: bool) -> i32 "
                          "{\nenter:\n  return 1\n}\n");
  auto all_wrong = prepare_call(*module, "f", {"300", "x", "file:a:f32", "2"});
  ASSERT_EQ(all_wrong.why().size(), 4u) << render(all_wrong.why());
  EXPECT_FALSE(prepare_call(*module, "e", {}).good());
  EXPECT_FALSE(prepare_call(*module, "g", {}).good());
  std::mt19937_64 random(37);
  const char* words[] = {"1",
                         "-1",
                         "",
                         "true",
                         "null",
                         "zero:",
                         "zero:8",
                         "zero:8:i16",
                         "zero:8:ptr",
                         "zero:99999999999999",
                         "file:",
                         "file::",
                         "file:a:b:c:d",
                         "file:/dev/null:i8",
                         "file:/dev/null:i8:x",
                         "nan",
                         "inf",
                         "1e400",
                         "0x1p3",
                         "\xff"};
  for (int k = 0; k < 3000; ++k) {
    std::vector<std::string> given;
    for (int n = 0; n < 4; ++n) given.push_back(words[random() % std::size(words)]);
    auto call = prepare_call(*module, "f", given);
    if (!call.good()) {
      ASSERT_FALSE(call.why().empty()) << fmt::format("{}", fmt::join(given, " "));
      continue;
    }
    auto outcome = run_on_evaluator(*module, *call);
    ASSERT_EQ(outcome.results, std::vector<std::string>{"1"});
  }
}

TEST(Hostile, ToursNameTheLine) {
  Realm realm;
  auto module = must_read(realm,
                          "module m\nfunc f(a: i32, p: ptr) -> i32 {\nenter:\n  store a, [p]\n  return "
                          "a\n}\nfunc g(p: ptr) {\nenter:\n  store 7:i32, [p + 4]\n  return\n}\n");
  auto jit = Jit::compile(*module, *native_target());
  auto run = [&](const std::string& text) {
    return run_tour(*module, **jit, *native_target(), SourceText("tour.txt", text), ".");
  };
  auto wrong = run("# nothing\n\na question\nb | f 1\nc | f x zero:4\nd | h\n");
  ASSERT_EQ(wrong.why().size(), 4u) << render(wrong.why());
  for (size_t k = 0; k < 4; ++k) EXPECT_EQ(wrong.why()[k].line, 3 + k);
  auto right = run("what? | f 5 zero:8:i32   # a comment\nand? | g zero:16:i32\n");
  ASSERT_TRUE(right.good()) << render(right.why());
  EXPECT_EQ((*right)[0].answer, "5");
  EXPECT_EQ((*right)[1].answer, "0 7 0 0");
  EXPECT_TRUE((*right)[0].agree && (*right)[1].agree);
  // Both fault or trap alike, each in its way.
  auto faults = run("past the end | f 5 zero:2\n");
  ASSERT_TRUE(faults.good()) << render(faults.why());
  EXPECT_EQ((*faults)[0].evaluated.end, CallOutcome::End::Fault);
}

TEST(Hostile, LongLinesAreShownAroundTheirMark) {
  std::string text = "module m\nfunc f(a: i32) -> i32 {\nenter:\n  b = add a, " + std::string(3000, ' ') +
                     "q\n  return b\n}\n";
  Diagnostics d = testing::problems_of(text);
  ASSERT_EQ(d.size(), 1u);
  EXPECT_EQ(d[0].column, 3014u);
  EXPECT_LE(d[0].excerpt.size(), 200u);
  EXPECT_EQ(d[0].excerpt[d[0].mark], 'q');
}

}  // namespace
}  // namespace porphyry
