// Object files of the host compiler, read by us: against the system's object dumper, and damaged.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <random>
#include <sstream>

#include "porphyry/object/read.h"
#include "porphyry/targets/x64.h"
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
    ObjectListing all = list_object(*object, targets::x64());
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
  ASSERT_TRUE(object.good());
  ObjectListing all = list_object(*object, targets::x64());
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
      (void)list_object(*object, targets::x64());
    } else {
      EXPECT_FALSE(object.why().empty());
    }
  }
}

}  // namespace
}  // namespace porphyry
