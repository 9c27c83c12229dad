// Object files in the hands of the system's tools: its linker, its debugger, its reader of call frames.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <map>
#include <sstream>

#include "porphyry/machine/legalize.h"
#include "porphyry/object/object.h"
#include "porphyry/object/read.h"
#include "porphyry/render/listing.h"
#include "porphyry/sample/sample.h"
#include "porphyry/targets/targets.h"
#include "support/process.h"
#include "support/read.h"

namespace porphyry {
namespace {

using testing::run_command;
using testing::TemporaryFolder;

std::string object_of(const Module& module) {
  auto lowered = machine::lower(module, *native_target(), {.exported = true});
  EXPECT_TRUE(lowered.good()) << render(lowered.why());
  return elf_bytes(make_object(*lowered, *native_target()));
}

// Everything that leaves or enters a module: calls both ways, one with any number of arguments, data on both
// sides, addresses in data, a weak function, a local symbol, a section of its own.
const char* bud = R"(module bud
source 1 "bud.fml"
extern func tell(i64, ptr)
extern func snprintf(ptr, i64, ptr, ...) -> i32
extern data season
data greeting const holds bytes: "%d: %.2f %s\0"
data word const holds bytes: "degrees\0"
data table align 8 holds address: warm, greeting
data line align 8 holds zero: 64
local data count align 8 holds zero: 8
section "orchard" data marked align 8 holds i64: 42
weak func limit() -> i64 {
a:
  return 7
}
section "orchard_code" func apart() -> i64 {
a:
  m = address of marked
  v = load i64 [m]
  return v
}
local func add_up(sum: f64, d: f64) -> f64 {
a:
  s = add sum, d                        @1:20:3
  return s                              @1:21:3
}
func warm(temps: ptr, n: i64, base: f64) -> f64 {
enter:
  go loop(0, 0.0)                       @1:3:1
loop(i: i64, sum: f64):
  t    = load f64 [temps + i*8]         @1:4:5
  d    = sub t, base                    @1:5:5
  sum2 = call add_up(sum, d)            @1:6:5
  i2   = add i, 1                       @1:7:5
  to   = address of line
  p    = address of greeting
  w    = address of word
  j    = narrow i32 i
  x    = call snprintf(to, 64, p, j, sum2, w)  @1:8:3
  c    = address of count
  old  = load i64 [c]
  new  = add old, 1
  store new, [c]                        @1:9:3
  call tell(new, to)                    @1:10:3
  more = lt.s i2, n
  when more go loop(i2, sum2) else out  @1:11:3
out:
  l  = call limit()
  lf = to_float.s f64 l
  s  = address of season
  v  = load f64 [s]
  r1 = add sum2, lf
  r  = add r1, v                        @1:12:3
  return r                              @1:13:3
}
)";

const char* host = R"(#include <cstdint>
#include <cstdio>
#include <stdexcept>
extern "C" {
double warm(const double*, int64_t, double);
int64_t apart();
extern void* table[2];
double season = 100;
void tell(int64_t n, const char* line) {
  std::printf("%ld [%s]\n", (long)n, line);
  if (n == 3) throw std::runtime_error("three");
}
#ifdef STRONG
int64_t limit() { return 1000; }
#endif
}
int main() {
  double t[] = {1.5, 2.5, 4};
  std::printf("%.1f %ld %d\n", warm(t, 2, 0.5), (long)apart(), table[0] == (void*)warm);
  try {
    warm(t, 3, 1);
  } catch (std::exception& e) {
    std::printf("caught %s\n", e.what());
  }
}
)";

const char* told = "1 [0: 1.00 degrees]\n2 [1: 3.00 degrees]\n";
const char* rest = "3 [0: 0.50 degrees]\ncaught three\n";

class Objects : public ::testing::Test {
 protected:
  void SetUp() override {
    Realm realm;
    object_ = folder_.write("bud.o", object_of(*testing::must_read(realm, bud)));
    host_ = folder_.write("host.cpp", host);
  }
  std::string built(const std::string& command) {
    auto made = run_command("cd " + folder_.file("") + " && " + command + " 2>&1");
    EXPECT_EQ(made.status, 0) << made.out;
    EXPECT_EQ(made.out, "");  // no warning either
    return folder_.file("program");
  }
  TemporaryFolder folder_;
  std::string object_, host_;
};

TEST_F(Objects, LinkIntoACxxProgramThatCallsThemAndIsCalled) {
  EXPECT_EQ(run_command(built("g++ host.cpp bud.o -o program")).out,
            told + std::string("110.0 42 1\n") + rest);
  // Another definition takes a weak one's place.
  EXPECT_EQ(run_command(built("g++ -DSTRONG host.cpp bud.o -o program")).out,
            told + std::string("1103.0 42 1\n") + rest);
}

TEST_F(Objects, GoIntoSharedLibraries) {
  std::string program =
      built("g++ -shared bud.o -o libbud.so && g++ host.cpp -L. -lbud -Wl,-rpath,'$ORIGIN' -o program");
  EXPECT_EQ(run_command(program).out, told + std::string("110.0 42 1\n") + rest);
  EXPECT_EQ(run_command("readelf -d " + folder_.file("libbud.so")).out.find("TEXTREL"), std::string::npos);
}

TEST_F(Objects, TheDebuggerStopsStepsAndTracesBack) {
  std::string program = built("g++ -g host.cpp bud.o -o program");
  std::string commands;
  for (const char* c : {"set confirm off", "set style enabled off", "break bud.fml:20", "run", "bt", "finish",
                        "info line", "next", "next", "break tell", "continue", "bt"})
    commands += std::string(" -ex '") + c + "'";
  std::string out = run_command("gdb -nx -batch" + commands + " " + program + " 2>&1").out;
  EXPECT_NE(out.find("add_up () at ./bud.fml:20"), std::string::npos) << out;
  EXPECT_NE(out.find("in warm () at ./bud.fml:6"), std::string::npos) << out;
  EXPECT_NE(out.find("in main () at"), std::string::npos) << out;
  EXPECT_NE(out.find("7\tin ./bud.fml\n8\tin ./bud.fml"), std::string::npos) << out;  // two steps
  EXPECT_NE(out.find("in warm () at ./bud.fml:10"), std::string::npos) << out;        // below tell
}

// Data that the program puts beside zeros is not lost with them.
// What a linker sees of a named symbol: its nature, its section and what that is for, its bytes there.
std::map<std::string, std::string> seen_by_linkers(const std::string& bytes) {
  auto read = read_object("bud.o", bytes);
  EXPECT_TRUE(read.good()) << render(read.why());
  std::map<std::string, std::string> out;
  const ObjectFile& file = read->file;
  for (const ObjectFile::Symbol& s : file.symbols) {
    // A linker has no use for local names that a text cannot spell.
    if (s.name.empty() || s.is_section || s.name == "_GLOBAL_OFFSET_TABLE_")
      continue;  // the assembler's own note
    std::string what = s.is_weak ? "weak" : s.is_local ? "local" : "global";
    if (s.section == ObjectFile::undefined) {
      out[s.name] = what + " from outside";
      continue;
    }
    const ObjectFile::Section& in = file.sections[s.section];
    out[s.name] =
        fmt::format("{}{} of {} bytes in {}{}{}{}: ", what, s.is_function ? " function" : "", s.size, in.name,
                    in.is_code ? ", code" : "", in.writable ? ", writable" : "", in.zeros ? ", zeros" : "");
    if (!in.zeros && !in.is_code) out[s.name] += in.bytes.substr(s.value, s.size);
  }
  return out;
}

// Assembly text is another way to the same object: names, natures, sections, contents.
TEST(ObjectText, BecomesTheSameForALinker) {
  TemporaryFolder folder;
  Realm realm;
  auto module = testing::must_read(realm, bud);
  auto lowered = machine::lower(*module, *native_target(), {.exported = true});
  std::string source = folder.write("bud.s", render_assembly(*lowered, *native_target()));
  auto made = run_command("as " + source + " -o " + folder.file("bud.o") + " 2>&1");
  ASSERT_EQ(made.status, 0) << made.out;
  auto ours = seen_by_linkers(object_of(*module)),
       theirs = seen_by_linkers(testing::contents(folder.file("bud.o")));
  EXPECT_GE(ours.size(), 13u);
  for (const auto& [name, what] : ours) EXPECT_EQ(theirs[name], what) << name;
  for (const auto& [name, what] : theirs) EXPECT_EQ(ours[name], what) << name;
}

TEST(ObjectText, SectionsAreForCodeOrForDataThatIsWritten) {
  auto problems = [](const std::string& data) {
    Realm realm;
    auto module =
        testing::must_read(realm, "module m\nsection \"winter\" func f() {\na:\n  return\n}\n" + data);
    return render(object_problems(*module, *native_target()));
  };
  EXPECT_EQ(problems("section \"winter\" data d const holds i32: 1\n"), "");
  EXPECT_EQ(problems("section \"spring\" data d holds i32: 1\n"), "");
  // Where things go that say nothing, too.
  EXPECT_NE(problems("section \".text\" data d holds i32: 1\nfunc g() {\na:\n  return\n}\n"), "");
  EXPECT_NE(problems("data d holds i32: 1\nsection \".data\" func g() {\na:\n  return\n}\n"), "");
  std::string both =
      problems("section \"winter\" data d holds i32: 1\nsection \"winter\" data e holds zero: 8\n");
  for (const char* part :
       {"section 'winter' is for code, 'f', and for data that is written, 'd'", "is written, 'e'"})
    EXPECT_NE(both.find(part), std::string::npos) << both;
}

// Assembled text serves as the object does: exceptions pass through its frames, a shared library of it reads
// and exports its own data.
TEST_F(Objects, TextLinksAndUnwindsAsWell) {
  Realm realm;
  auto lowered = machine::lower(*testing::must_read(realm, bud), *native_target(), {.exported = true});
  folder_.write("text.s", render_assembly(*lowered, *native_target()));
  EXPECT_EQ(run_command(built("as text.s -o text.o && g++ host.cpp text.o -o program")).out,
            told + std::string("110.0 42 1\n") + rest);
  EXPECT_EQ(run_command(built("g++ -shared text.o -o libtext.so && g++ host.cpp -L. -ltext "
                              "-Wl,-rpath,'$ORIGIN' -o program"))
                .out,
            told + std::string("110.0 42 1\n") + rest);
}

// A name that a library exports is one thing in the whole process: the program's definition of data wins, and
// the address of a function is the same wherever it is taken.
TEST_F(Objects, AnExportedNameIsOneThingInTheWholeProcess) {
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
data gd holds i32: 5
func raise(by: i32) -> i32 {
enter:
  p  = address of gd
  v  = load i32 [p]
  v2 = add v, by
  store v2, [p]
  return v2
}
func where() -> ptr {
enter:
  p = address of raise
  return p
}
)");
  const char* program = R"(#include <cstdio>
extern "C" { int raise(int); int (*where())(int);
#ifdef OWN
int gd = 70;
#else
extern int gd;
#endif
}
int main() { int r = raise(2); std::printf("%d %d %d\n", r, gd, where() == raise); }
)";
  folder_.write("main.cpp", program);
  folder_.write("one.o", object_of(*module));
  auto lowered = machine::lower(*module, *native_target(), {.exported = true});
  folder_.write("two.s", render_assembly(*lowered, *native_target()));
  for (const char* part : {"one.o", "two.s"})
    for (const char* way : {"", "-fPIE -pie", "-fno-pie -no-pie"}) {
      std::string library = std::string("g++ -shared ") + part + " -o libm1.so && g++ main.cpp " + way;
      EXPECT_EQ(run_command(built(library + " -L. -lm1 -Wl,-rpath,'$ORIGIN' -o program")).out, "7 7 1\n")
          << part << way;
      EXPECT_EQ(run_command(built(library + " -DOWN -L. -lm1 -Wl,-rpath,'$ORIGIN' -o program")).out,
                "72 72 1\n")
          << part << way;
    }
}

// A function stands where the first of its lines does, not at the unit's first line, however its instructions
// are ordered.
TEST(ObjectLines, AFunctionIsDeclaredAtItsOwnLine) {
  TemporaryFolder folder;
  Realm realm;
  auto module = testing::must_read(realm, R"(module m
source 1 "a.fml"
func f(a: i32) -> i32 {
enter:
  b = add a, 1   @1:9:3
  c = mul b, b   @1:7:3
  return c       @1:10:3
}
func g(a: i32) -> i32 {
enter:
  r = call f(a)  @1:21:3
  return r       @1:22:3
}
)");
  std::string file = folder.write("m.o", object_of(*module));
  EXPECT_EQ(run_command("readelf --debug-dump=info " + file +
                        " | grep -E 'DW_AT_decl_line' | sed 's/.*: //' | tr -d ' ' | tr '\\n' ' '")
                .out,
            "7 21 ");
}

TEST_F(Objects, ZerosMakeRoomForOtherData) {
  Realm realm;
  auto module = testing::must_read(realm,
                                   "module m\ndata a align 8 holds zero: 24\nsection \".bss\" data b align 8 "
                                   "holds i64: 5\ndata c align 16 holds zero: 8\n");
  auto lowered = machine::lower(*module, *native_target(), {.exported = true});
  ASSERT_TRUE(lowered.good()) << render(lowered.why());
  ObjectFile object = make_object(*lowered, *native_target());
  const ObjectFile::Section& s = object.sections[0];
  EXPECT_EQ(s.name, ".bss");
  EXPECT_FALSE(s.zeros);
  ASSERT_EQ(s.bytes.size(), 40u);
  EXPECT_EQ(s.bytes[24], 5);
  EXPECT_EQ(object.symbols[2].value, 32u);
}

// How far the caller's frame is at each instruction, by the reader of the system's tools and by counting what
// the instructions themselves do to the stack pointer.
TEST_F(Objects, CallFramesAreRightAtEveryInstruction) {
  size_t checked = 0;
  for (uint64_t seed = 40; seed < 48; ++seed) {
    Realm realm;
    Sample program = make_sample(realm, {.seed = seed, .layout = MemoryLayout{}});
    auto lowered = machine::lower(*program.module, *native_target());
    ASSERT_TRUE(lowered.good()) << render(lowered.why());
    std::string file =
        folder_.write("s.o", elf_bytes(make_object(*lowered, *native_target(), {.lines = false})));
    // Linked where addresses are real, so that each entry finds its function.
    auto made = run_command("ld -r " + file + " -o " + file + ".r 2>&1");
    ASSERT_EQ(made.status, 0) << made.out;
    std::istringstream rows(run_command("readelf --debug-dump=frames-interp -w " + file + ".r 2>&1").out);
    std::map<uint64_t, long> theirs;  // from an offset in the code on
    for (std::string line; std::getline(rows, line);) {
      unsigned long at = 0;
      long distance = 0;
      // A function that leaves the stack pointer alone has no rows.
      if (size_t pc = line.find(" pc="); pc != line.npos)
        theirs[std::stoul(line.substr(pc + 4, 16), nullptr, 16)] = 8;
      if (std::sscanf(line.c_str(), "%16lx rsp+%ld", &at, &distance) == 2) theirs[at] = distance;
    }
    uint64_t start = 0;
    for (const machine::CompiledFunction& f : lowered->functions) {
      start = (start + 15) / 16 * 16;
      long distance = 8, body = -1;
      for (const machine::EmittedLine& l : f.lines) {
        std::string text = spell(*native_target(), instruction_at(*native_target(), f, l));
        bool frame = l.role == machine::Role::Frame;
        if (!frame && body < 0) body = distance;
        auto row = theirs.upper_bound(start + l.offset);
        ASSERT_NE(row, theirs.begin());
        ASSERT_EQ(std::prev(row)->second, distance) << f.name << " at " << l.offset << ": " << text;
        ++checked;
        long n = 0;
        if (frame && text.starts_with("push")) distance += 8;
        if (frame && text.starts_with("pop")) distance -= 8;
        if (frame && std::sscanf(text.c_str(), "sub rsp, %ld", &n) == 1) distance += n;
        if (frame && std::sscanf(text.c_str(), "add rsp, %ld", &n) == 1) distance -= n;
        if (!frame && distance == 8) distance = body;  // behind the way out stands body again
      }
      start += f.bytes.size();
    }
  }
  EXPECT_GT(checked, 3000u);
}

}  // namespace
}  // namespace porphyry
