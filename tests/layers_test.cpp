// The architecture's two promises: each layer includes only layers above it, and none but the last writes to
// a stream or ends the process.
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <fstream>

#include "support/pattern.h"

namespace porphyry {
namespace {

namespace fs = std::filesystem;
using testing::Pattern;

// From top to bottom, as docs/architecture.md lists them.
const std::vector<std::string> layers = {"base", "ir",       "print",  "analyze", "formats", "sample",
                                         "eval", "optimize", "passes", "machine", "targets", "object",
                                         "jit",  "simulate", "call",   "render"};

int layer_of(const std::string& name) {
  auto at = std::find(layers.begin(), layers.end(), name);
  return at == layers.end() ? -1 : static_cast<int>(at - layers.begin());
}

struct SourceFile {
  fs::path path;
  std::string layer;
  std::vector<std::string> lines;
};

std::vector<SourceFile> sources() {
  std::vector<SourceFile> out;
  for (const char* root : {PORPHYRY_ROOT "/src", PORPHYRY_ROOT "/include/porphyry"})
    for (const auto& entry : fs::recursive_directory_iterator(root)) {
      if (!entry.is_regular_file()) continue;
      SourceFile f{entry.path(), fs::relative(entry.path(), root).begin()->string(), {}};
      std::ifstream in(f.path);
      for (std::string line; std::getline(in, line);) f.lines.push_back(line);
      if (f.layer.find('.') == std::string::npos) out.push_back(std::move(f));
    }
  return out;
}

TEST(Layers, EachIncludesOnlyLayersAboveIt) {
  Pattern include("^#include \"porphyry/([a-z]+)[/.]");
  size_t checked = 0;
  for (const SourceFile& f : sources()) {
    ASSERT_GE(layer_of(f.layer), 0) << f.path << " lies in no known layer";
    for (const std::string& line : f.lines)
      for (const Pattern::Groups& m : include.all(line)) {
        ++checked;
        EXPECT_LE(layer_of(m[1]), layer_of(f.layer)) << f.path << ": " << line;
      }
  }
  EXPECT_GT(checked, 120u);
}

TEST(Layers, NothingPrintsEndsOrKeepsGlobalState) {
  Pattern forbidden("std::cout|std::cerr|\\bprintf\\(|fmt::print|std::exit|std::abort|\\babort\\(");
  Pattern global("^(static )?(thread_local )?(int|bool|size_t|std::\\w+(<.*>)?) \\w+( = .*)?;");
  ASSERT_TRUE(forbidden.in("  printf(text);") && global.in("static std::vector<int> all;"));
  for (const SourceFile& f : sources())
    for (const std::string& line : f.lines) {
      EXPECT_FALSE(forbidden.in(line)) << f.path << ": " << line;
      EXPECT_FALSE(global.in(line)) << f.path << ": " << line;
    }
}

// The machine layer serves every target, so it names none.
TEST(Layers, MachineNamesNoTarget) {
  Pattern named("x64|x86|rv64|\\brax\\b|xmm|\\brip\\b");
  ASSERT_TRUE(named.in("mov rax, 1") && !named.in("braxton"));
  for (const SourceFile& f : sources()) {
    if (f.layer != "machine" && f.layer != "optimize") continue;
    for (const std::string& line : f.lines) EXPECT_FALSE(named.in(line)) << f.path << ": " << line;
  }
}

// `std::pmr::vector<bool> v(n, memory)` takes the pointer to the memory for its value: n times true, and no
// compiler says so. Flags by row are bytes.
TEST(Layers, ScratchVectorsHoldNoBool) {
  Pattern forbidden("pmr::vector<bool>");
  ASSERT_TRUE(forbidden.in("  std::pmr::vector<bool> split_;"));
  for (const SourceFile& f : sources())
    for (const std::string& line : f.lines) EXPECT_FALSE(forbidden.in(line)) << f.path << ": " << line;
}

}  // namespace
}  // namespace porphyry
