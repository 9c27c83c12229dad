// The tool as a process: verbs, statuses, messages, files; the demo and the examples.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <sstream>

#include "support/json.h"
#include "support/process.h"

namespace porphyry {
namespace {

using testing::Ran;
using testing::run_command;
using testing::TemporaryFolder;

const std::string demo_folder = PORPHYRY_ROOT "/demo";

Ran tool(const std::string& arguments, const std::string& input = "") {
  std::string in = input.empty() ? " < /dev/null" : " < " + input;
  return testing::run_command(std::string(PORPHYRY_TOOL) + " " + arguments + " 2>&1" + in);
}

const char* small_program = R"(module m
func f(a: i32, p: ptr) -> i32 {
enter:
  s = reserve 4 align 4
  store a, [s]
  b = load i32 [s]
  c = mul b, 3
  store c, [p]
  d = div.s 12:i32, c
  return d
}
)";

TEST(Tool, VerbsDoTheirWork) {
  TemporaryFolder folder;
  std::string file = folder.write("m.por", small_program);
  EXPECT_EQ(tool("check " + file).out, "");
  EXPECT_EQ(tool("check", file).status, 0);  // standard input
  Ran shown = tool("show " + file);
  std::string again = folder.write("again.por", shown.out);
  EXPECT_EQ(tool("show " + again).out, shown.out);
  EXPECT_EQ(tool("show --function f - ", file).out.substr(0, 6), "func f");
  EXPECT_EQ(tool("run " + file + " f 4 zero:8 --on eval").out, "1\n");
  EXPECT_EQ(tool("run " + file + " f 4 zero:8 --on native --memory -O1").out, "1\nzero:8[0]: 0 became 12\n");
  EXPECT_EQ(tool("run " + file + " f -4 zero:8 --on native").out, "-1\n");
  Ran optimized = tool("optimize " + file + " -O1 --steps");
  EXPECT_NE(optimized.out.find("promote  f         7 became 4"), std::string::npos) << optimized.out;
  EXPECT_EQ(optimized.out.find("func f"), std::string::npos);  // the module goes to -o
  EXPECT_EQ(optimized.out.find("reserve"), std::string::npos);
  EXPECT_NE(tool("why " + file).out.find("promote done in f, s: the slot became a value"), std::string::npos);
  EXPECT_EQ(testing::read_json(tool("why --json " + file).out)[0]["pass"], "promote");
  EXPECT_NE(tool("lower " + file).out.find("idiv"), std::string::npos);
  EXPECT_NE(tool("lower --as assembly " + file).out.find(".intel_syntax"), std::string::npos);
  auto listing = testing::read_json(tool("lower --as json " + file).out);
  EXPECT_EQ(listing[0]["blocks"][0]["label"], "enter");
  EXPECT_EQ(tool(fmt::format("lower {} -o {}", file, folder.file("m.s"))).out, "");
  EXPECT_NE(testing::contents(folder.file("m.s")).find(".globl f"), std::string::npos);
}

TEST(Tool, PacksAndMakesPrograms) {
  TemporaryFolder folder;
  std::string file = folder.write("m.por", small_program), packed = folder.file("m.porb");
  EXPECT_EQ(tool(fmt::format("pack {} -o {}", file, packed)).status, 0);
  EXPECT_EQ(testing::contents(packed).substr(0, 4), "PORB");
  EXPECT_EQ(tool("unpack " + packed).out, tool("show " + file).out);
  EXPECT_EQ(tool("run " + packed + " f 4 zero:8").out, "1\n");  // every verb takes either form
  EXPECT_EQ(tool("check " + packed).out, "");
  std::string cut = folder.write("cut.porb", testing::contents(packed).substr(0, 60));
  Ran refused = tool("check " + cut + " 2>&1");
  EXPECT_EQ(refused.status, 1);
  EXPECT_NE(refused.out.find("bytes behind its header"), std::string::npos) << refused.out;
  std::string sample = folder.file("s.por");
  EXPECT_EQ(tool("make-sample --seed 5 -o " + sample).status, 0);
  EXPECT_EQ(tool("check " + sample).out, "");
  EXPECT_EQ(tool("make-sample --seed 5").out, testing::contents(sample));
  EXPECT_EQ(tool("make-sample --seed 5 --as packed").out.substr(0, 4), "PORB");
  EXPECT_EQ(tool("lower " + folder.write("l.por", tool("make-sample --seed 5 --native").out)).status, 0);
  Ran coverage = tool("make-sample --count 400 --coverage");
  EXPECT_NE(coverage.out.find("100.0 % of the"), std::string::npos) << coverage.out;
  EXPECT_EQ(tool("make-sample --count 3 2>&1").status, 2);
  EXPECT_EQ(tool("make-sample --as other 2>&1").status, 2);
  EXPECT_EQ(testing::read_json(tool("operations --json").out)[0]["name"], "add");
  std::string lanes = folder.write("w.por",
                                   "module m\nfunc twice(v: i128[4]) -> i128[4], bool {\na:\n"
                                   "  w = mul v, 36893488147419103232\n  b = any {true, false}:bool[2]\n"
                                   "  return w, b\n}\n");
  Ran wide = tool("run " + lanes + " twice '{1, 2, 3, 4}'");
  EXPECT_EQ(
      wide.out,
      "{36893488147419103232, 73786976294838206464, 110680464442257309696, 147573952589676412928}\ntrue\n");
  Ran native = tool("run " + lanes + " twice '{1, 2, 3, 4}' --on native");
  EXPECT_EQ(native.out, wide.out);
}

struct Fault {
  std::string arguments;
  int status;
  std::string message;
};

TEST(Tool, SaysWhatIsWrongAndReturnsTheRightStatus) {
  TemporaryFolder folder;
  std::string good = folder.write("m.por", small_program),
              bad = folder.write("bad.por", "module m\nfunc f() {\nenter:\n  x = add y, 1\n  go z\n}\n");
  const Fault faults[] = {
      {"", 2, "a verb is missing"},
      {"shw " + good, 2, "there is no verb 'shw'"},
      {"check --loud " + good, 2, "--loud"},
      {"check " + folder.file("none.por"), 1, "cannot read"},
      {"check " + bad, 1, "no value is called 'y' here"},
      {"lower -O7 " + good, 2, "no level is called '-O7'"},
      {"lower -O7 " + good, 2, "expected: -O0, -O1, -O2, -O3, -Os or -Og"},
      {"optimize --pipeline promot " + good, 2, "no pass is called 'promot'"},
      {"optimize -O1 --pipeline fold " + good, 2, "a level and a pipeline are given"},
      {"lower --target z80 " + good, 2, "no target is called 'z80'"},
      {"lower --with sse9 " + good, 2, "x64 has no feature 'sse9'"},
      {"lower --as picture " + good, 2, "there is no form 'picture'"},
      {"lower --as ir --until dusk " + good, 2, "legalization has no step 'dusk'"},
      {"show --as oil " + good, 2, "there is no form 'oil'"},
      {"lower --until lanes " + good, 2, "--until with --as ir: it says where legalization stops"},
      {"lower --function g " + good, 2, "no function with a body is called 'g'"},
      {"lower " + good + " -o " + folder.file("none/x.s"), 1, "cannot write"},
      {"lower " + good + " -o /dev/full", 1, "cannot write"},
      {"run " + good + " g", 2, "no function with a body is called 'g'"},
      {"run " + good + " f 1", 2, "'f' is called with 1 argument"},
      {"run " + good + " f x zero:4", 2, "'x' is not a number of type i32"},
      {"run " + good + " f 1 7", 2, "'7' is not a number of type ptr"},
      {"run " + good + " f 1 file:none.txt:i32", 2, "cannot read 'none.txt'"},
      {"run " + good + " f 1 file:none.txt", 2, "does not say what the file holds"},
      {"run " + good + " f 1 zero:4 --on moon", 2, "nothing runs on 'moon'"},
      {"trace " + good + " f 1 zero:4 --stage raw", 2, "no stage that is traced"},
      {"trace " + good + " f 1 zero:4 --with none", 2, "--with does nothing here"},
      {"run " + good + " f 0 zero:4", 1, "a trap: div.s"},
      {"run " + good + " f 0 zero:4 --on native", 1, "a trap: a division traps"},
      {"run " + good + " f 1 zero:3", 1, "a fault: a store of 4 bytes at offset 0 of 'zero:3', which has 3"},
  };
  for (const Fault& f : faults) {
    Ran r = tool(f.arguments);
    EXPECT_EQ(r.status, f.status) << f.arguments << "\n" << r.out;
    EXPECT_NE(r.out.find(f.message), std::string::npos) << f.arguments << "\n" << r.out;
  }
  auto problems = testing::read_json(tool("check --json " + bad).out);
  ASSERT_EQ(problems.size(), 2u);
  EXPECT_EQ(problems[1]["line"], 5);
}

const char* odd_runs = R"(module m
extern func unused(i32) -> i32
source 1 "night.fml"
func quotient(a: i32, p: ptr) -> i32 {
enter:
  q = div.s 100, a @1:21:9
  store q, [p]
  return q
}
func spin() {
enter:
  go around
around:
  go around
}
)";

// What a run met, where, and with which status; what has no effect is refused rather than ignored.
TEST(Run, SaysWhereItEndedWhateverItRanOn) {
  TemporaryFolder folder;
  std::string file = folder.write("m.por", odd_runs), ragged = folder.write("ragged.txt", "1 2\n3\n");
  std::string run = "run " + file;
  const Fault faults[] = {
      {run + " quotient 4 zero:4 --on native", 0, "25\n"},  // 'unused' needs no address
      {run + " quotient 0 zero:4 --on eval", 1, "night.fml:21:9"},
      {run + " quotient 0 zero:4 --on native", 1, "in 'quotient' at night.fml:21:9: q = div.s 100, a"},
      {run + " quotient 0 zero:4 --on native --lazy", 1, "in 'quotient' at night.fml:21:9: q = div.s 100, a"},
      {run + " quotient 0 zero:4 --on native --here", 1, "in 'quotient' at night.fml:21:9: q = div.s 100, a"},
      {run + " quotient 0 zero:4 --on sim", 1, "in 'quotient' at night.fml:21:9: q = div.s 100, a"},
      {run + " spin --on native --time-limit 1", 1, "not finished: the run took more than 1 second"},
      {run + " spin --on native --here --time-limit 1", 1, "not finished: the run took more than 1 second"},
      {run + " spin --on sim --step-limit 5000", 1, "more than 5000 instructions, in 'spin'"},
      {run + " spin --on sim", 1, "more than 20000000 instructions, in 'spin'"},
      {run + " quotient 1 file:" + ragged + ":i32:2", 2, "ragged.txt:2:1: this row has 1 column, and no"},
      {run + " quotient 1 file:" + ragged + ":i32:7", 2, "no column 7"},
      {run + " quotient 1 zero:4 --on eval --lazy", 2, "--lazy does nothing here"},
      {run + " quotient 1 zero:4 --on eval --here", 2, "--here does nothing here"},
      {run + " quotient 1 zero:4 --on native --step-limit 5", 2, "--step-limit does nothing here"},
      {run + " quotient 1 zero:4 --on native --stage selected", 2,
       "expected: selected, allocated or encoded, with --on sim"},
      {run + " quotient 1 zero:4 --on sim --time-limit 5", 2, "--time-limit does nothing here"},
  };
  for (const Fault& f : faults) {
    Ran r = tool(f.arguments);
    EXPECT_EQ(r.status, f.status) << f.arguments << "\n" << r.out;
    EXPECT_NE(r.out.find(f.message), std::string::npos) << f.arguments << "\n" << r.out;
  }
}

TEST(Run, TheChildEndsWithItsParentAndIsNotBlamedForBeingKilled) {
  TemporaryFolder folder;
  std::string file = folder.write("m.por", odd_runs);
  std::string run = std::string(PORPHYRY_TOOL) + " run " + file + " spin --on native --time-limit 20";
  Ran killed = run_command("(" + run + " 2>&1 & sleep 0.5; pkill -KILL -P $!; wait)");
  EXPECT_NE(killed.out.find("the run was ended from outside, by signal 9"), std::string::npos) << killed.out;
  // Gone, or a zombie that nobody has waited for.
  Ran orphan = run_command(
      "(" + run +
      " >/dev/null 2>&1 & me=$!; sleep 0.5; child=$(pgrep -P $me); kill -KILL $me; "
      "sleep 0.3; test -n \"$child\" && ! grep -q '^State:.[RSD]' /proc/$child/status 2>/dev/null "
      "&& echo gone)");
  EXPECT_NE(orphan.out.find("gone"), std::string::npos) << orphan.out;
}

TEST(Tool, ControlCharactersOfTheInputDoNotReachATerminal) {
  TemporaryFolder folder;
  std::string file = folder.write("m.por", "module m\n\x1b]0;frost\x07 oops\n");
  Ran seen = run_command("script -qec '" PORPHYRY_TOOL " check " + file + "' /dev/null");
  EXPECT_EQ(seen.out.find("\x1b]"), std::string::npos);
  EXPECT_EQ(seen.out.find('\x07'), std::string::npos);
  EXPECT_NE(seen.out.find("\\x1b]0;frost"), std::string::npos) << seen.out;
}

TEST(Tool, SpeaksInItsOwnWordsAndKnowsWhatItCannotRead) {
  TemporaryFolder folder;
  std::string good = folder.write("m.por", small_program), empty = folder.write("empty.por", "");
  run_command("cd " + folder.file(".") + " && echo frost > note.txt && ar rc shelf.a note.txt");
  const Fault faults[] = {
      {"--version", 0, "porphyry "},
      {"run --help", 0, "usage: porphyry run "},
      {"lower --lod " + good, 2, "'lower' has no option '--lod'\n  expected: "},
      {"run " + good + " f 1 zero:4 --time-limit soon", 2, "expected: --time-limit NUMBER"},
      {"lower " + good + " -o " + folder.file("x.q"), 2, "nothing that is written here ends in '.q'"},
      {"check " + empty, 1, "empty.por' is empty"},
      {"show " + folder.file("shelf.a"), 1, "is an archive"},
  };
  for (const Fault& f : faults) {
    Ran r = tool(f.arguments);
    EXPECT_EQ(r.status, f.status) << f.arguments << "\n" << r.out;
    EXPECT_NE(r.out.find(f.message), std::string::npos) << f.arguments << "\n" << r.out;
  }
  for (const char* verb : {"check", "lower", "optimize", "run", "show", "pack"})
    for (const char* word : {"TEXT", "INT", "FLOAT", "UINT", "OPTIONS"})  // the parser's own
      EXPECT_EQ(tool(std::string(verb) + " --help").out.find(word), std::string::npos) << verb << " " << word;
}

TEST(Demo, AnswersAreWhatTheReadingsSay) {
  Ran r = tool("demo --no-colour");
  EXPECT_EQ(r.status, 0) << r.out;
  EXPECT_NE(r.out.find("27 kernels, 27 of them the same on both"), std::string::npos) << r.out;
  // Computed here, from the same files, in another language's arithmetic.
  std::ifstream night(demo_folder + "/night.txt"), frame(demo_folder + "/frame.txt");
  std::string line;
  std::vector<float> temps;
  while (std::getline(night, line)) {
    std::istringstream fields(line);
    float minute, dry;
    if (fields >> minute >> dry) temps.push_back(dry);
  }
  ASSERT_EQ(temps.size(), 96u);
  std::vector<unsigned> bytes;
  while (std::getline(frame, line)) {
    std::istringstream fields(line);
    for (unsigned b; fields >> b;) bytes.push_back(b);
  }
  ASSERT_EQ(bytes.size(), 144u);
  float cold = 0;
  size_t coldest = 0;
  unsigned a = 0, b = 0;
  for (size_t k = 0; k < temps.size(); ++k) {
    cold += std::max(2.5f - temps[k], 0.0f);
    if (temps[k] < temps[coldest]) coldest = k;
  }
  for (unsigned v : bytes) a = (a + v) % 255, b = (b + a) % 255;
  int ringing = 0, streak = 0, alarm = 0;
  for (float t : temps) {
    streak = (t < 0.0f) != (ringing == 1) ? streak + 1 : 0;
    if (streak >= (ringing ? 2 : 3)) ringing ^= 1, streak = 0;
    alarm += ringing;
  }
  std::string chill_at_native = fmt::format("{}\n", cold * 10.0f);
  auto run = [&](const std::string& call) {
    return testing::run_command(fmt::format("cd {} && {} run frostwatch.por {} --on native 2>&1", demo_folder,
                                            PORPHYRY_TOOL, call))
        .out;
  };
  EXPECT_EQ(run("chill file:night.txt:f32:2 96 2.5 10.0"), chill_at_native);
  EXPECT_EQ(run("coldest file:night.txt:f32:2 96"), fmt::format("{}\n", coldest));
  EXPECT_EQ(run("coldest file:night.txt:f32:2 0"), "-1\n");
  EXPECT_EQ(run("checksum file:frame.txt:i8 144"), fmt::format("{}\n", b << 8 | a));
  EXPECT_EQ(run("alarm file:night.txt:f32:2 96 0.0 zero:96"), fmt::format("{}\n", alarm));
  // Unpacked samples are temperatures again.
  std::string unpacked = run("unpack file:frame.txt:i8 zero:192 48 --memory");
  unsigned sample = static_cast<unsigned>((temps[0] + 40) * 32 + 0.5f);
  EXPECT_NE(
      unpacked.find(fmt::format("zero:192[0]: 0 became {}\n", static_cast<int>(static_cast<int8_t>(sample)))),
      std::string::npos)
      << unpacked;
  std::string counted = run("histogram file:night.txt:f32:2 96 -5.0 zero:64:i32 16 --memory");
  int degree[16] = {};
  for (float t : temps) ++degree[std::clamp(static_cast<int>(std::floor(t + 5.0f)), 0, 15)];
  for (int k = 0; k < 16; ++k)
    if (degree[k]) {
      EXPECT_NE(counted.find(fmt::format("[{}]: 0 became {}\n", k, degree[k])), std::string::npos) << counted;
    }
}

TEST(Tool, TakesManyInputsAtOnce) {
  TemporaryFolder folder;
  run_command("mkdir " + folder.file("out"));
  std::string files;
  for (int k = 0; k < 12; ++k) {
    Ran made =
        tool(fmt::format("make-sample --native --seed {} -o {}/night{}.por", k + 1, folder.file("."), k));
    ASSERT_EQ(made.status, 0) << made.out;
    files += fmt::format(" {}", folder.file(fmt::format("night{}.por", k)));
  }
  Ran all = tool("lower --as object" + files + " -o " + folder.file("out"));
  EXPECT_EQ(all.status, 0) << all.out;
  for (int k = 0; k < 12; ++k) {  // the same bytes as one by one
    ASSERT_EQ(
        tool(fmt::format("lower {} -o {}", folder.file(fmt::format("night{}.por", k)), folder.file("one.o")))
            .status,
        0);
    EXPECT_EQ(testing::contents(folder.file("one.o")),
              testing::contents(folder.file(fmt::format("out/night{}.o", k))))
        << k;
  }
  EXPECT_EQ(tool("show " + folder.file("one.o")).status, 0);
  // One that is wrong does not keep the others back; all are told, in the order of inputs.
  folder.write("night3.por", "module night\nfunc f( {\n");
  folder.write("night7.por", "modul night\n");
  run_command("rm " + folder.file("out/*"));
  all = tool("lower" + files + " --as object -o " + folder.file("out"));
  EXPECT_EQ(all.status, 1);
  EXPECT_LT(all.out.find("night3.por"), all.out.find("night7.por"));
  EXPECT_EQ(run_command("ls " + folder.file("out") + " | wc -l").out, "10\n");
  // Calls that cannot be meant.
  for (const std::string& call :
       {"lower" + files + " --as object", "lower" + files + " -o " + folder.file("none"), "pack" + files,
        "lower " + folder.file("night1.por") + " " + folder.file("night1.por") + " -o " +
            folder.file("out")}) {
    Ran r = tool(call);
    EXPECT_EQ(r.status, 2) << call << "\n" << r.out;
    EXPECT_EQ(std::count(r.out.begin(), r.out.end(), '\n'), 2) << r.out;
  }
}

TEST(Tool, TellsHowFarItIsOnATerminalWhenItTakesLong) {
  TemporaryFolder folder;
  run_command("mkdir " + folder.file("out") + "; mkfifo " + folder.file("late.por"));
  std::string early = folder.write("early.por", small_program);
  // One input comes late.
  auto lower = [&](const std::string& wait, const std::string& terminal, const std::string& end) {
    std::string command = PORPHYRY_TOOL " lower --as object " + early + " " + folder.file("late.por") +
                          " -o " + folder.file("out");
    return run_command("(" + wait + "; cat " + early + " > " + folder.file("late.por") + ") & " + terminal +
                       command + end);
  };
  const std::string screen = folder.file("screen");
  Ran seen = lower("for k in $(seq 200); do grep -qs '1 of 2 files' " + screen + " && break; sleep 0.1; done",
                   "script -qefc '", "' " + screen);
  EXPECT_EQ(seen.status, 0) << seen.out;
  EXPECT_NE(seen.out.find("\r1 of 2 files"), std::string::npos) << seen.out;
  EXPECT_TRUE(seen.out.ends_with("\r\x1b[K")) << seen.out;  // it goes again
  EXPECT_EQ(lower("sleep 1.5", "", " 2>&1").out, "");       // no terminal, no line
  EXPECT_EQ(testing::contents(folder.file("out/early.o")), testing::contents(folder.file("out/late.o")));
}

TEST(Tool, AFullDiskLeavesNothingHalfWritten) {
  TemporaryFolder folder;
  std::string file = demo_folder + "/frostwatch.por";
  Ran full = tool("lower " + file + " --as object -o /dev/full");
  EXPECT_EQ(full.status, 1);
  EXPECT_NE(full.out.find("cannot write '/dev/full': No space left on device"), std::string::npos)
      << full.out;
  EXPECT_EQ(run_command(PORPHYRY_TOOL " lower " + file + " --as object > /dev/full 2>&1").status, 1);
  folder.write("old.o", "as it was");
  // A limit on the size of files stands for a disk that fills up on the way.
  Ran limited = run_command("ulimit -f 1; trap '' XFSZ; " PORPHYRY_TOOL " lower " + file + " -o " +
                            folder.file("old.o") + " 2>&1");
  EXPECT_EQ(limited.status, 1) << limited.out;
  EXPECT_EQ(testing::contents(folder.file("old.o")), "as it was");
  EXPECT_EQ(run_command("ls -A " + folder.file(".")).out, "old.o\n");
}

// Times differ from run to run, and with them the width of their columns.
std::string without_times(const std::string& line) {
  std::string out;
  std::istringstream words(line);
  std::vector<std::string> all;
  for (std::string word; words >> word;) all.push_back(word);
  for (size_t k = 0; k < all.size(); ++k) {
    const std::string unit = k + 1 < all.size() ? all[k + 1] : "";
    out += (unit == "us" || unit == "%" || unit == "ns" || unit == "s" || all[k].starts_with("±") ? "N"
                                                                                                  : all[k]) +
           " ";
  }
  return out;
}

// Whether text is what is shown, where "…" stands for any lines.
bool is_shown(const std::string& text, const std::string& shown) {
  auto lines = [](const std::string& all) {
    std::vector<std::string> out;
    std::istringstream in(all);
    for (std::string line; std::getline(in, line);) out.push_back(without_times(line));
    return out;
  };
  const auto real = lines(text), wanted = lines(shown);
  size_t at = 0;
  bool any = false;
  for (const std::string& w : wanted) {
    if (w == "… ") {
      any = true;
      continue;
    }
    while (any && at < real.size() && real[at] != w) ++at;
    if (at == real.size() || real[at] != w) return false;
    ++at, any = false;
  }
  return any || at == real.size();
}

// Each command that the README shows, in a copy of demo/ and one after the other, prints what stands there;
// where nothing stands, it only has to succeed.
TEST(Readme, EachCommandRunsAndPrintsWhatItShows) {
  TemporaryFolder folder;
  run_command("cp " + demo_folder + "/* " + folder.file(".") + " && mkdir " + folder.file("bin") +
              " && ln -s " + PORPHYRY_TOOL + " " + folder.file("bin/porphyry"));
  std::istringstream readme(testing::contents(PORPHYRY_ROOT "/README.md"));
  struct Step {
    std::string command, shown, debugger;
  };
  std::vector<Step> steps;
  bool inside = false;
  for (std::string line; std::getline(readme, line);) {
    if (line.starts_with("```")) {
      inside = false;
    } else if (line.starts_with("$ ")) {
      steps.push_back({line.substr(2), "", ""});
      inside = true;
    } else if (inside && line.starts_with("(gdb) ")) {
      steps.back().debugger += " -ex '" + line.substr(6) + "'";
    } else if (inside) {
      steps.back().shown += line + "\n";
    }
  }
  EXPECT_GE(steps.size(), 14u);
  for (Step& s : steps) {
    if (s.command.starts_with("gdb ")) s.command = "gdb -batch" + s.debugger + s.command.substr(3);
    Ran r = run_command("cd " + folder.file(".") + " && PATH=$PWD/bin:$PATH && { " + s.command +
                        "; } 2>&1 < /dev/null");
    if (s.shown.empty()) {
      EXPECT_EQ(r.status, 0) << s.command << "\n" << r.out;
    } else {
      EXPECT_TRUE(is_shown(r.out, s.shown)) << s.command << "\n" << r.out << "instead of\n" << s.shown;
    }
  }
}

TEST(Examples, DoWhatTheySay) {
  TemporaryFolder folder;
  std::string example = PORPHYRY_EXAMPLES "/example_add_two_integers ";
  Ran made = testing::run_command(example + folder.file("add.por") + " 2>&1");
  EXPECT_EQ(made.status, 0);
  EXPECT_EQ(made.out, testing::contents(folder.file("add.por")));
  EXPECT_EQ(tool("run " + folder.file("add.por") + " add 2 40 --on native").out, "42\n");
  Ran refused = testing::run_command(example + folder.file("none/add.por") + " 2>&1 >/dev/null");
  EXPECT_EQ(refused.status, 1);
  EXPECT_NE(refused.out.find("cannot write"), std::string::npos);
  Ran called = testing::run_command(PORPHYRY_EXAMPLES "/example_call_compiled");
  EXPECT_EQ(called.status, 0);
  EXPECT_NE(called.out.find("use 2430 liters"), std::string::npos);
  Ran instance = testing::run_command(PORPHYRY_EXAMPLES "/example_call_webassembly");
  EXPECT_EQ(instance.status, 0);
  EXPECT_NE(instance.out.find("the lowest of the night: -1.25 degrees"), std::string::npos);
}

}  // namespace
}  // namespace porphyry
