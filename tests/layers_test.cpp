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
const std::vector<std::string> layers = {"base",   "ir",    "print",    "analyze", "formats", "rewrite",
                                         "sample", "eval",  "optimize", "passes",  "machine", "targets",
                                         "object", "jit",   "simulate", "host",    "call",    "measure",
                                         "ask",    "prove", "render"};

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

// ---- limits, as the formatted source shows them -----------------------------------------------------------

// The line that closes what line `from` opens at its own indentation; the last line when there is none.
size_t closing_line(const std::vector<std::string>& lines, size_t from, size_t indent) {
  const std::string end = std::string(indent, ' ') + "}";
  size_t k = from + 1;
  while (k + 1 < lines.size() && !lines[k].starts_with(end)) ++k;
  return k;
}
size_t indent_of(const std::string& line) { return std::min(line.find_first_not_of(' '), line.size()); }

TEST(Layers, FunctionsFitAScreen) {
  Pattern opens("^ {0,4}[^ /:#}].*\\).*\\{$"),
      other("^ *(if|for|while|switch|else|do|case|namespace|enum|return)\\b");
  size_t seen = 0;
  for (const SourceFile& f : sources())
    for (size_t k = 0; f.path.extension() != ".por" && k < f.lines.size(); ++k) {
      if (!opens.in(f.lines[k]) || other.in(f.lines[k])) continue;
      ++seen;
      EXPECT_LE(closing_line(f.lines, k, indent_of(f.lines[k])) - k + 1, 60u) << f.path << ": " << f.lines[k];
    }
  EXPECT_GT(seen, 1500u);
}

// The line without what stands in brackets of these kinds.
std::string without(std::string line, char open, char close) {
  for (size_t from; (from = line.rfind(open)) != line.npos;) {
    size_t to = line.find(close, from);
    if (to == line.npos) break;
    line.erase(from, to + 1 - from);
  }
  return line;
}

// Data members of a class: lines one level in that end in `;` and name no function.
size_t members(const std::vector<std::string>& lines, size_t from, size_t to) {
  Pattern other("^ *(return|using|static|friend|explicit|virtual|template|enum|class|struct|constexpr)\\b");
  size_t inside = indent_of(lines[from]) + 2, count = 0;
  for (size_t k = from + 1; k < to; ++k) {
    std::string line = lines[k].substr(0, lines[k].find("//"));
    line.erase(line.find_last_not_of(' ') + 1);
    bool closes = line.starts_with(std::string(inside, ' ') + "}");  // a member of a type that stands here
    if (indent_of(line) != inside || !line.ends_with(';') || other.in(line)) continue;
    line = without(without(line, '<', '>'), '{', '}');
    if (line.find('(') != line.npos || (closes && line == std::string(inside, ' ') + "};")) continue;
    count += 1 + static_cast<size_t>(std::count(line.begin(), line.end(), ','));
  }
  return count;
}

TEST(Layers, ClassesHoldFewMembers) {
  Pattern opens("^ *(class|struct) \\w+[^;]*\\{$");
  size_t seen = 0, most = 0;
  for (const SourceFile& f : sources())
    for (size_t k = 0; k < f.lines.size(); ++k) {
      if (!opens.in(f.lines[k])) continue;
      size_t count = members(f.lines, k, closing_line(f.lines, k, indent_of(f.lines[k])));
      ++seen, most = std::max(most, count);
      bool is_table_of_the_ir = f.path.filename() == "function.h";
      EXPECT_TRUE(count <= 15 || is_table_of_the_ir) << count << " in " << f.path << ": " << f.lines[k];
    }
  EXPECT_GT(seen, 250u);
  EXPECT_GT(most, 12u) << "members are not counted";
}

}  // namespace
}  // namespace porphyry
