// Object files of the host compiler, read by us: against the system's object dumper, and damaged.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <map>
#include <random>
#include <sstream>

#include "porphyry/object/read.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/targets/targets.h"
#include "support/measure.h"
#include "support/process.h"

namespace porphyry {
namespace {

using machine::FunctionListing;
using testing::run_command;
using testing::TemporaryFolder;

// What the dumper says of each instruction: offset and bytes, by function.
std::map<std::string, std::vector<std::pair<uint64_t, size_t>>> dumped(const std::string& file) {
  std::map<std::string, std::vector<std::pair<uint64_t, size_t>>> out;
  std::istringstream lines(run_command("objdump -dw --insn-width=16 " + file).out);
  std::string function;
  uint64_t start = 0;
  for (std::string line; std::getline(lines, line);) {
    if (line.ends_with(">:")) {
      start = std::stoull(line, nullptr, 16);
      function = line.substr(line.find('<') + 1);
      function.resize(function.size() - 2);
      continue;
    }
    size_t colon = line.find(":\t"), end = line.find('\t', colon + 2);
    if (function.empty() || colon == line.npos) continue;
    std::istringstream bytes(line.substr(colon + 2, end == line.npos ? line.npos : end - colon - 2));
    size_t count = 0;
    for (std::string byte; bytes >> byte;) ++count;
    out[function].push_back({std::stoull(line, nullptr, 16) - start, count});
  }
  return out;
}

TEST(ReadObjects, TheHostCompilersCodeIsDescribedInstructionByInstruction) {
  TemporaryFolder folder;
  for (const char* level : {"-O0", "-O1", "-O2", "-O3", "-O3 -msse4.1 -g", "-O3 -march=haswell"}) {
    std::string file = folder.file("twins.o");
    ASSERT_EQ(
        run_command(fmt::format("g++ -std=c++20 {} -c {}/bench/twins.cpp -o {}", level, PORPHYRY_ROOT, file))
            .status,
        0);
    auto object = read_object("twins.o", testing::contents(file));
    ASSERT_TRUE(object.good()) << level;
    ObjectListing all = list_object(*object, *native_target());
    auto theirs = dumped(file);
    size_t compared = 0;
    for (const FunctionListing& f : all.functions) {
      if (!theirs.contains(f.name)) continue;
      size_t k = 0;
      const auto& rows = theirs[f.name];
      for (const auto& b : f.blocks)
        for (const auto& line : b.lines) {
          ASSERT_LT(k, rows.size()) << f.name;
          ASSERT_EQ(line.offset, rows[k].first) << level << ", " << f.name;
          ASSERT_EQ(line.bytes.size(), rows[k].second) << level << ", " << f.name << ": " << line.text;
          ++k, ++compared;
        }
      EXPECT_LE(rows.size() - k, 3u) << f.name;  // what is left are fillers behind the function
    }
    EXPECT_GT(compared, 400u) << level;
    // Wider lanes are not in the book yet: their lengths are.
    if (std::string(level).find("haswell") != std::string::npos) {
      EXPECT_LT(all.described, all.instructions);
      EXPECT_GT(all.bytes_not_described, 0u);
    } else {
      EXPECT_GE(all.described * 100, all.instructions * 98) << level;
    }
  }
}

TEST(ReadObjects, NamesLinesAndLoopsAreShown) {
  TemporaryFolder folder;
  std::string source = folder.write("watch.cpp", R"(extern "C" int ring(int);
extern "C" const int limit[4];
namespace frost {
int watch(const int* t, int n) {
  int alarms = 0;
  for (int i = 0; i < n; ++i)
    for (int k = 0; k < 4; ++k)
      if (t[i] < limit[k]) alarms += ring(k);
  return alarms;
}
}
)");
  std::string file = folder.file("watch.o");
  ASSERT_EQ(run_command(fmt::format("g++ -g -O1 -fno-unroll-loops -c {} -o {}", source, file)).status, 0);
  auto object = read_object("watch.o", testing::contents(file));
  ASSERT_TRUE(object.good()) << render(object.why());
  ObjectListing all = list_object(*object, *native_target());
  ASSERT_EQ(all.functions.size(), 1u);
  const FunctionListing& f = all.functions[0];
  EXPECT_EQ(f.signature, "  frost::watch(int const*, int)");
  unsigned deepest = 0;
  bool calls = false, reads_limit = false;
  for (const auto& b : f.blocks) {
    deepest = std::max(deepest, b.depth);
    for (const auto& line : b.lines) {
      calls |= line.text == "call ring";
      reads_limit |= (line.text + line.operation).find("limit") != std::string::npos;
      EXPECT_TRUE(line.position.starts_with("watch.cpp:")) << line.text;
    }
  }
  EXPECT_EQ(deepest, 2u);
  EXPECT_TRUE(calls && reads_limit);
}

std::string assembled(TemporaryFolder& folder, const std::string& text) {
  auto made = run_command("as " + folder.write("x.s", text) + " -o " + folder.file("x.o") + " 2>&1");
  EXPECT_EQ(made.status, 0) << made.out.substr(0, 500);
  return testing::contents(folder.file("x.o"));
}

// By function: the text of each instruction and what is said beside it.
std::map<std::string, std::vector<std::string>> texts_of(const std::string& bytes) {
  auto object = read_object("x.o", bytes);
  EXPECT_TRUE(object.good()) << render(object.why());
  std::map<std::string, std::vector<std::string>> out;
  for (const FunctionListing& f : list_object(*object, *native_target()).functions)
    for (const auto& b : f.blocks)
      for (const auto& line : b.lines) out[f.name].push_back(line.text + line.operation);
  return out;
}

// A symbol without a size ends where the next one begins; one of no bytes takes none away. Each operand has
// its own relocation.
TEST(ReadObjects, RelocationsBelongToOperandsAndSymbolsHaveExtents) {
  TemporaryFolder folder;
  auto texts = texts_of(assembled(folder, R"(.intel_syntax noprefix
.globl bare, sized
.type sized,@function
bare: mov eax, 1
 ret
.type mark,@function
mark:
.size mark, 0
sized: mov rax, qword ptr [rip + t@gottpoff]
 mov dword ptr [rip + d], offset d
 mov rcx, offset d
 movabs rcx, offset d+8
 call q@plt
 lea rdi, t@tlsgd[rip]
 ret
.size sized,.-sized
.data
d: .quad 0, 0
.section .tbss,"awT",@nobits
.globl t
t: .zero 4
)"));
  EXPECT_EQ(texts["bare"], (std::vector<std::string>{"mov eax, 1", "ret"}));
  EXPECT_EQ(texts["sized"], (std::vector<std::string>{
                                "mov rax, qword ptr [rip + table entry of the thread offset of t]",
                                "mov dword ptr [rip + .data], .data", "mov rcx, .data", "mov rcx, .data + 8",
                                "call q", "lea rdi, [rip + table entries of the thread variable t]", "ret"}));
  EXPECT_FALSE(texts.contains("mark"));
}

// More sections than the header's field of two bytes counts; the last function is found by its section's
// number.
TEST(ReadObjects, ManySectionsAreShown) {
  TemporaryFolder folder;
  std::string text;
  for (int k = 0; k < 66'000; ++k)
    text += fmt::format(".section s{0},\"ax\"\n.globl f{0}\nf{0}: mov ${0}, %eax\n", k);
  auto texts = texts_of(assembled(folder, text));
  EXPECT_EQ(texts.size(), 66'000u);
  EXPECT_EQ(texts["f65999"], std::vector<std::string>{"mov eax, 65999"});
}

// Objects that nobody here wrote: the system's static libraries, a member out of many. Each is shown; where
// the dumper's instructions begin and end, ours do, of those that the book does not describe all but 0.1 %.
TEST(ReadObjects, TheSystemsLibrariesAreReadAsTheDumperReadsThem) {
  TemporaryFolder folder;
  run_command("cd " + folder.file(".") +
              " && for a in libc.a libm.a libstdc++.a libm-2.*.a; do f=$(g++ -print-file-name=$a); "
              "test \"$(head -c 7 $f 2>/dev/null)\" = '!<arch>' && mkdir $a && (cd $a && ar x $f); done");
  std::istringstream files(run_command("find " + folder.file(".") + " -name '*.o' | sort").out);
  size_t shown = 0, described = 0, wrong = 0, others = 0, others_wrong = 0, number = 0;
  for (std::string file; std::getline(files, file);) {
    if (number++ % (20 * testing::checked_part)) continue;
    auto object = read_object(file, testing::contents(file));
    ASSERT_TRUE(object.good()) << file;
    auto theirs = dumped(file);
    ++shown;
    for (const FunctionListing& f : list_object(*object, *native_target()).functions) {
      std::map<uint64_t, size_t> rows(theirs[f.name].begin(), theirs[f.name].end());
      if (rows.empty()) continue;
      uint64_t end = rows.rbegin()->first;
      for (const auto& b : f.blocks)
        for (const auto& line : b.lines) {
          if (line.offset > end) continue;  // behind another name that the dumper begins anew
          bool as_theirs = rows.contains(line.offset) && rows[line.offset] == line.bytes.size();
          bool known = line.text.find("does not describe") == std::string::npos;
          ++(known ? described : others);
          (known ? wrong : others_wrong) += !as_theirs;
        }
    }
  }
  EXPECT_GE(shown, 60u / testing::checked_part);
  EXPECT_GE(described, 5000u / testing::checked_part);
  EXPECT_EQ(wrong, 0u) << "of " << described;
  EXPECT_LE(others_wrong * 1000, others) << others_wrong << " of " << others;
}

TEST(ReadObjects, DamagedFilesAreRefusedOrShown) {
  TemporaryFolder folder;
  std::string file = folder.file("twins.o");
  ASSERT_EQ(run_command(fmt::format("g++ -g -std=c++20 -O1 -c {}/bench/twins.cpp -o {}", PORPHYRY_ROOT, file))
                .status,
            0);
  const std::string whole = testing::contents(file);
  EXPECT_FALSE(read_object("x", "").good());
  EXPECT_FALSE(read_object("x", whole.substr(0, 70)).good());
  std::mt19937_64 random(5);
  for (int round = 0; round < 150; ++round) {
    std::string bytes = whole;
    if (round % 5 == 0) bytes.resize(random() % bytes.size());
    for (uint64_t k = random() % 20; k-- > 0 && !bytes.empty();) {
      // Half of the damage in the headers, at the front and at the end.
      size_t at = random() % 2   ? random() % bytes.size()
                  : random() % 2 ? random() % 64
                                 : bytes.size() - 1 - random() % std::min<size_t>(bytes.size(), 2000);
      bytes[std::min(at, bytes.size() - 1)] = static_cast<char>(random());
    }
    auto object = read_object("damaged.o", bytes);
    if (object) {
      (void)list_object(*object, *native_target());
    } else {
      EXPECT_FALSE(object.why().empty()) << "damage " << round;
    }
  }
}

}  // namespace
}  // namespace porphyry
