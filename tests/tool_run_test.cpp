// What the tool shows of runs and of what it lowers: runs at every stage with their traces, steps
// of legalization, pictures of graphs, objects read back.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <cmath>
#include <map>
#include <tuple>

#include "support/json.h"
#include "support/process.h"

namespace porphyry {
namespace {

using testing::Ran;
using testing::TemporaryFolder;

// Standard output and standard error apart.
struct Shown {
  int status = -1;
  std::string out, errors;
};

Shown tool(const TemporaryFolder& folder, const std::string& arguments) {
  std::string errors = folder.file("errors");
  Ran r =
      testing::run_command(std::string(PORPHYRY_TOOL) + " " + arguments + " 2>" + errors + " < /dev/null");
  return {r.status, r.out, testing::contents(errors)};
}

// Counts the nights of frost in a file of temperatures, and how cold it was.
const char* nights = R"(module nights
func frosts(p: ptr, n: i64) -> i32, i64 {
enter:
  go night(0, 0, 0)
night(k: i64, count: i32, sum: i64):
  t     = load i16 [p + k*2]
  cold  = lt.s t, 0
  one   = widen.u i32 cold
  more  = add count, one
  wide  = widen.s i64 t
  total = add sum, wide
  next  = add k, 1
  again = lt.s next, n
  when again go night(next, more, total) else done
done:
  return more, total
}
)";
const std::vector<int> temperatures = {3, -1, 0, -12, 7, -2, 5, -30000, 12};

TEST(ToolRun, EveryStageGivesWhatTheEvaluatorGives) {
  TemporaryFolder folder;
  std::string file = folder.write("n.por", nights), numbers;
  for (int t : temperatures) numbers += std::to_string(t) + "\n";
  std::string call = file + " frosts file:" + folder.write("t.txt", numbers) + ":i16 9";
  Shown meant = tool(folder, "run " + call + " --on eval");
  EXPECT_EQ(meant.out, "4\n-29988\n");
  for (const char* how : {"native", "native --lazy", "native --here", "sim", "sim --stage selected",
                          "sim --stage allocated", "sim --stage encoded", "sim --stage selected --seed 77"})
    for (const char* level : {" -O0", " -O1", " -O0 --with none"}) {
      Shown is = tool(folder, "run " + call + " --on " + how + level);
      EXPECT_EQ(is.out, meant.out) << how << level;
      EXPECT_EQ(is.status, 0) << how << level;
    }
}

TEST(ToolRun, TracesOfCodeHoldTheValuesOfTheProgram) {
  TemporaryFolder folder;
  std::string file = folder.write("n.por", nights), numbers;
  for (int t : temperatures) numbers += std::to_string(t) + "\n";
  std::map<std::string, std::vector<long>> should;
  long count = 0, sum = 0;
  for (size_t k = 0; k < temperatures.size(); ++k) {
    count += temperatures[k] < 0, sum += temperatures[k];
    should["more"].push_back(count), should["total"].push_back(sum);
    should["next"].push_back(static_cast<long>(k) + 1);
  }
  for (const char* stage : {"selected", "allocated", "encoded"}) {
    auto traced = testing::read_json(tool(folder, "trace --json " + file +
                                                      " frosts file:" + folder.write("t.txt", numbers) +
                                                      ":i16 9 --stage " + stage)
                                         .out);
    EXPECT_EQ(traced["ends"], "4, -29988");
    std::map<std::string, std::vector<long>> seen;
    for (const auto& line : traced["lines"])
      for (const auto& w : line["writes"])
        if (should.contains(w["value"])) {
          std::string text = w["lanes"][0]["decimal"];  // "4294967295 (-1)"
          if (size_t sign = text.find('('); sign != text.npos) text = text.substr(sign + 1);
          seen[w["value"]].push_back(std::stol(text));
        }
    EXPECT_EQ(seen, should) << stage;
  }
}

TEST(ToolRun, TracesOfBytesAreTheListingInTheOrderOfTheRun) {
  TemporaryFolder folder;
  std::string file = folder.write("n.por", nights);
  auto listing = testing::read_json(tool(folder, "lower --as json " + file).out);
  std::map<unsigned, std::string> at;  // texts by offset
  std::map<unsigned, unsigned> sizes;
  for (const auto& block : listing[0]["blocks"])
    for (const auto& line : block["lines"]) {
      at[line["offset"]] = line["text"];
      sizes[line["offset"]] = static_cast<unsigned>(line["bytes"].get<std::string>().size() + 1) / 3;
    }
  std::string numbers;
  for (int t : temperatures) numbers += std::to_string(t) + "\n";
  auto traced = testing::read_json(tool(folder, "trace --json " + file + " frosts file:" +
                                                    folder.write("t.txt", numbers) + ":i16 9 --stage encoded")
                                       .out);
  unsigned expected = 0;
  size_t jumps = 0, steps = 0;
  for (const auto& line : traced["lines"]) {
    const std::string block = line["block"];  // "+ 001c"
    const auto offset = static_cast<unsigned>(std::stoul(block.substr(2), nullptr, 16));
    EXPECT_EQ(line["text"], at[offset]) << block;
    if (steps++ && offset != expected) ++jumps;
    expected = offset + sizes[offset];
  }
  EXPECT_GE(jumps, temperatures.size() - 1);  // once around for each night
  EXPECT_GT(steps, 8 * temperatures.size());
  EXPECT_EQ(traced["steps"], steps);
}

TEST(ToolRun, EndsOfSimulatedRunsAreToldLikeTheProcessors) {
  TemporaryFolder folder;
  std::string file = folder.write("e.por",
                                  "module e\nfunc f(a: i32, p: ptr) -> i32 {\nenter:\n  b = div.s a, 2\n"
                                  "  c = div.s 12:i32, b\n  store c, [p]\n  d = load i32 [p]\n  return d\n}\n"
                                  "func forever() {\nenter:\n  go enter2\nenter2:\n  go enter2\n}\n");
  struct Case {
    const char *call, *message;
  };
  for (const char* stage : {"selected", "allocated", "encoded"}) {
    for (const Case& c : {Case{"f 1 zero:4", "trap"},
                          {"f 4 null", "may not touch"},
                          {"forever --step-limit 1000", "more than 1000 instructions"}}) {
      Shown is = tool(folder, fmt::format("run {} {} --on sim --stage {}", file, c.call, stage));
      EXPECT_EQ(is.status, 1) << stage << c.call;
      EXPECT_NE((is.out + is.errors).find(c.message), std::string::npos) << stage << is.out << is.errors;
    }
    EXPECT_EQ(tool(folder, fmt::format("run {} f 4 zero:4 --on sim --stage {} --memory", file, stage)).out,
              "6\nzero:4[0]: 0 became 6\n");
  }
  EXPECT_EQ(tool(folder, "run " + file + " f 4 zero:4 --on sim --stage dusk").status, 2);
  EXPECT_EQ(tool(folder, "run " + file + " f 4 zero:4 --on eval --here").status, 2);
}

TEST(ToolRun, ExternalMathematicsIsTheHosts) {
  TemporaryFolder folder;
  std::string file = folder.write("m.por",
                                  "module m\nextern func exp(f64) -> f64\nextern func pow(f64, f64) -> "
                                  "f64\nfunc f(x: f64) -> f64 {\nenter:\n"
                                  "  a = call exp(x)\n  b = call pow(a, 0.5)\n  return b\n}\n");
  Shown by_evaluator = tool(folder, "run " + file + " f 3.0"),
        native = tool(folder, "run " + file + " f 3.0 --on native");
  EXPECT_EQ(by_evaluator.status, 0) << by_evaluator.errors;
  EXPECT_EQ(by_evaluator.out, native.out);
  EXPECT_EQ(std::stod(native.out), std::pow(std::exp(3.0), 0.5));
}

TEST(ToolShow, GraphsAreDrawnInEveryForm) {
  TemporaryFolder folder;
  std::string file = folder.write("n.por", nights), png = folder.file("n.png");
  std::string dot = tool(folder, "show --as dot " + file).out;
  EXPECT_TRUE(dot.starts_with("digraph"));
  std::string svg = tool(folder, "show --as svg --function frosts " + file).out;
  for (const char* label : {"enter", "night", "done"}) {
    EXPECT_NE(dot.find(label), std::string::npos);
    EXPECT_NE(svg.find(label), std::string::npos);
  }
  EXPECT_EQ(tool(folder, "show --as png " + file + " -o " + png).status, 0);
  std::string picture = testing::contents(png);
  EXPECT_EQ(picture.substr(0, 8), "\x89PNG\r\n\x1a\n");
  auto side = [&](size_t at) {
    unsigned v = 0;
    for (size_t k = 0; k < 4; ++k) v = v << 8 | static_cast<unsigned char>(picture[at + k]);
    return v;
  };
  EXPECT_TRUE(side(16) > 100 && side(20) > 100) << side(16) << " by " << side(20);
  std::string two = folder.write("two.por", std::string(nights) + "func g() {\na:\n  return\n}\n");
  Shown which = tool(folder, "show --as dot " + two);
  EXPECT_EQ(which.status, 2);
  EXPECT_NE(which.errors.find("--function with frosts or g"), std::string::npos) << which.errors;
}

TEST(ToolShow, EachStepOfLegalizationIsAProgramThatRuns) {
  TemporaryFolder folder;
  std::string file = folder.write("s.por", R"(module s
func f(p: ptr, a: i32) -> i64 {
enter:
  w = widen.s i40 a
  x = mul w, 1000000:i40
  h = shr.s x, 16
  n = narrow i32 h
  v = load i32[4] [p]
  u = add v, v
  s = sum u
  watch total = s
  cold = lt.s a, 0
  choose a { 4: four, 9: nine, else: rest }
four:
  go end(s)
nine:
  b = rotl s, 3
  when cold go rest else end(b)
lost:
  go end(1)
rest:
  fill 7, [p], 20
  z = load i32 [p + 16]
  go end(z)
end(q: i32):
  t = add q, n
  m = pick cold, t, 0
  o = max.s m, t
  wide = widen.s i64 o
  return wide
}
)");
  std::string data = "file:" + folder.write("t.txt", "1 2 3 4 5 6\n") + ":i32",
              before = tool(folder, "show " + file).out;
  const std::pair<int, const char*> calls[] = {{4, "81\n"}, {9, "297\n"}, {-5, "117900986\n"}};
  std::string changed;
  for (const char* step : {"reach", "marks", "passing", "branches", "spans", "lanes", "widths", "operations",
                           "edges", "beside"}) {
    Shown is = tool(folder, fmt::format("lower --as ir --until {} {}", step, file));
    ASSERT_EQ(is.status, 0) << step << is.errors;
    std::string legal = folder.write("legal.por", is.out);
    EXPECT_EQ(tool(folder, "check " + legal).errors, "") << step;
    for (auto [argument, result] : calls)
      EXPECT_EQ(tool(folder, fmt::format("run {} f {} {}", legal, data, argument)).out, result)
          << step << is.out;
    if (is.out != before) changed += std::string(step) + " ";
    before = is.out;
  }
  EXPECT_EQ(changed, "reach marks branches spans lanes widths edges beside ");
  std::string one = tool(folder, "lower --as ir --function f --until reach " + file).out;
  EXPECT_TRUE(one.starts_with("func f")) << one;
}

TEST(ToolShow, ObjectsAreReadBackAsTheyWereListed) {
  TemporaryFolder folder;
  std::string file = folder.write("n.por", std::string(nights) +
                                               "func g(a: i32) -> i32 {\nb:\n  c = mul a, 5\n"
                                               "  return c\n}\n");
  std::string object = folder.file("n.o");
  ASSERT_EQ(tool(folder, "lower " + file + " -o " + object).status, 0);
  auto texts = [](const std::string& json, const std::string& function) {
    std::vector<std::string> out;
    for (const auto& f : testing::read_json(json))
      if (f["name"] == function)
        for (const auto& block : f["blocks"])
          for (const auto& line : block["lines"]) {
            std::string text = line["text"];  // jumps name blocks here and addresses there
            out.push_back(line["bytes"].get<std::string>() + " " + text.substr(0, text.find(' ')));
          }
    return out;
  };
  std::string made = tool(folder, "lower --as json " + file).out,
              read = tool(folder, "show --as json " + object).out;
  for (const char* f : {"frosts", "g"}) {
    EXPECT_EQ(texts(read, f), texts(made, f));
    EXPECT_FALSE(texts(read, f).empty());
  }
  std::string one = tool(folder, "show " + object + " --function g").out;
  EXPECT_NE(one.find("lea eax, [rdi + rdi*4]"), std::string::npos) << one;
  EXPECT_EQ(one.find("frosts"), std::string::npos);
  Shown wrong = tool(folder, "show " + object + " --function h");
  EXPECT_EQ(wrong.status, 2);
  EXPECT_NE(wrong.errors.find("frosts or g"), std::string::npos) << wrong.errors;
  EXPECT_EQ(tool(folder, "show --as dot " + object).status, 2);
  std::string other = testing::contents(object);
  other[18] = 8;  // another machine
  Shown foreign = tool(folder, "show " + folder.write("other.o", other));
  EXPECT_EQ(foreign.status, 1);
  EXPECT_NE(foreign.errors.find("another processor"), std::string::npos) << foreign.errors;
}

TEST(ToolShow, SectionsThatWouldBeCodeAndWritableAreRefused) {
  TemporaryFolder folder;
  std::string file = folder.write("w.por",
                                  "module w\nsection \"both\" func f() {\na:\n  return\n}\n"
                                  "section \"both\" data d holds i32: 1\n");
  for (const char* name : {"w.o", "w.s"}) {
    Shown is = tool(folder, "lower " + file + " -o " + folder.file(name));
    EXPECT_EQ(is.status, 1);
    EXPECT_NE(is.errors.find("section 'both' is for code, 'f'"), std::string::npos) << is.errors;
    EXPECT_EQ(testing::run_command("ls " + folder.file(name) + " 2>/dev/null").out, "");
  }
  EXPECT_EQ(tool(folder, "lower " + file).status, 0);  // a listing has no sections
}

TEST(ToolShow, NotesAreThoseOfOneFunctionWhenAsked) {
  TemporaryFolder folder;
  std::string slot = "  s = reserve 4 align 4\n  store a, [s]\n  r = load i32 [s]\n  return r\n}\n";
  std::string file = folder.write(
      "w.por", "module w\nfunc f(a: i32) -> i32 {\ne:\n" + slot + "func g(a: i32) -> i32 {\ne:\n" + slot);
  std::string all = tool(folder, "why " + file).out, one = tool(folder, "why --function g " + file).out;
  EXPECT_NE(all.find("in f,"), std::string::npos) << all;
  EXPECT_EQ(one.find("in f,"), std::string::npos) << one;
  EXPECT_NE(one.find("promote done in g, s"), std::string::npos) << one;
}

// A record of a run of the alarm: 96 readings, of which two turn it over. What comes into a block leaves it.
TEST(Records, TellHowOftenEdgesWereTakenAndWhenTheyAreStale) {
  TemporaryFolder folder;
  const std::string demo = PORPHYRY_ROOT "/demo/", record = folder.file("night.record");
  const std::string call =
      "run " + demo + "frostwatch.por alarm file:" + demo + "night.txt:f32:2 96 0.0 zero:96";
  Shown ran = tool(folder, call + " --record " + record);
  ASSERT_EQ(ran.status, 0) << ran.errors;
  std::string shown = tool(folder, "show " + demo + "frostwatch.por --recorded " + record).out;
  for (const char* part : {"when more 96 go reading else done 1", "when full 2 go switch else keep 94"})
    EXPECT_NE(shown.find(part), shown.npos) << part;
  // A program with weights is the same program, and its own record fits it again, also when it was lowered
  // with.
  std::string weighted = folder.write("weighted.por", shown);
  Shown again = tool(folder, "optimize " + weighted + " -O2 --recorded " + record);
  EXPECT_EQ(again.status, 0);
  EXPECT_EQ(again.errors, "");
  EXPECT_NE(again.out.find(" else "), again.out.npos);
  // Another number, another place, another object in the source make it another function.
  for (auto [was, is] : {std::pair("run1  = add run, 1", "run1  = add run, 2"),
                         {"[wait + 4]", "[wait + 0]"},
                         {"address of patience", "address of hops"}}) {
    std::string other = shown;
    size_t at = other.find(was);
    ASSERT_NE(at, other.npos);
    std::string changed = folder.write("changed.por", other.replace(at, std::string(was).size(), is));
    Shown stale = tool(folder, "lower " + changed + " --recorded " + record + " -o " + folder.file("x.o"));
    EXPECT_EQ(stale.status, 0) << stale.errors;
    EXPECT_NE(stale.errors.find("the record is stale: 'alarm' has changed since"), stale.errors.npos)
        << is << stale.errors;
  }
  for (auto [arguments, status, message] :
       {std::tuple(call + " --record " + record + " -O2", 2, "a record tells of the program as it is read"),
        {call + " --record " + record + " --on native", 2, "--record does nothing here"},
        {"show " + demo + "ledger.por --recorded " + demo + "night.txt", 1, "this is no record of a run"},
        {"show " + demo + "ledger.por --recorded " +
             folder.write("w", "porphyry record 1\n12 2 1 f\nzz 0 f\n"),
         1, ":3:1: this line tells of no function"},
        {"show " + demo + "ledger.por --recorded " + folder.file("none"), 1, "none"}}) {
    Shown wrong = tool(folder, arguments);
    EXPECT_EQ(wrong.status, status) << arguments;
    EXPECT_NE(wrong.errors.find(message), wrong.errors.npos) << wrong.errors;
    EXPECT_EQ(wrong.out, "") << arguments;
  }
}

}  // namespace
}  // namespace porphyry
