// The pages: made where they say so, and their links lead somewhere.
#include <gtest/gtest.h>

#include <filesystem>
#include "porphyry/passes/passes.h"

#include "porphyry/render/operations.h"
#include "support/pattern.h"
#include "support/process.h"

namespace porphyry {
namespace {

namespace fs = std::filesystem;

TEST(Docs, TheOperationsPageIsTheTable) {
  EXPECT_EQ(testing::contents(PORPHYRY_ROOT "/docs/operations.md"), render_operations());
}

// A heading as links name it: small letters, digits and dashes.
std::string anchor_of(std::string_view heading) {
  std::string out;
  for (char c : heading.substr(heading.find_first_not_of("# "))) {
    if (std::isalnum(static_cast<unsigned char>(c)) || c == '-' || c == '_')
      out += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    else if (c == ' ')
      out += '-';
  }
  return out;
}

// A line without what stands between backquotes.
std::string without_code(const std::string& line) {
  std::string out;
  bool code = false;
  for (char c : line)
    if (c == '`')
      code = !code;
    else if (!code)
      out += c;
  return out;
}

bool has_heading(const fs::path& page, const std::string& anchor) {
  std::istringstream lines(testing::contents(page));
  for (std::string line; std::getline(lines, line);)
    if (line.starts_with("#") && anchor_of(line) == anchor) return true;
  return false;
}

TEST(Docs, LinksLeadSomewhere) {
  std::vector<fs::path> pages = {PORPHYRY_ROOT "/README.md", PORPHYRY_ROOT "/CONTRIBUTING.md"};
  for (const auto& entry : fs::directory_iterator(PORPHYRY_ROOT "/docs"))
    if (entry.path().extension() == ".md") pages.push_back(entry.path());
  testing::Pattern link("\\]\\(([^)# ]*)(#[^) ]*)?\\)");
  size_t checked = 0;
  for (const fs::path& page : pages) {
    std::istringstream lines(testing::contents(page));
    for (std::string line; std::getline(lines, line);)
      for (const testing::Pattern::Groups& m : link.all(without_code(line))) {
        if (m[1].find("://") != std::string::npos) continue;
        fs::path to = m[1].empty() ? page : page.parent_path() / m[1];
        EXPECT_TRUE(fs::exists(to)) << page << ": " << line;
        if (!m[2].empty()) {
          EXPECT_TRUE(has_heading(to, m[2].substr(1))) << page << ": " << line;
        }
        ++checked;
      }
  }
  EXPECT_GT(checked, 20u);
}

// Names of files in running text, such as `ir/function.h`, are of files that there are.
TEST(Docs, FilesThatPagesNameExist) {
  std::vector<std::string> all;
  for (const char* folder :
       {"src", "include", "tests", "docs", "scripts", "tool", "bind", "bench", "examples", "demo"})
    for (const auto& entry : fs::recursive_directory_iterator(fs::path(PORPHYRY_ROOT) / folder))
      all.push_back(entry.path().string());
  testing::Pattern name("`([a-z_0-9]+(/[a-z_0-9]+)*\\.(h|cpp|inc|book))`");
  for (const char* page : {"/README.md", "/CONTRIBUTING.md", "/docs/architecture.md", "/docs/books.md"}) {
    std::istringstream lines(testing::contents(std::string(PORPHYRY_ROOT) + page));
    for (std::string line; std::getline(lines, line);)
      for (const testing::Pattern::Groups& m : name.all(line)) {
        bool there = std::any_of(all.begin(), all.end(),
                                 [&](const std::string& f) { return f.ends_with("/" + m[1]); });
        EXPECT_TRUE(there) << page << ": " << m[1];
      }
  }
}

// The page of rules is written by scripts/prove: it has every rule, in order.
TEST(Docs, RulesAreThoseThatThereAre) {
  std::string page = testing::contents(PORPHYRY_ROOT "/docs/rules.md");
  size_t at = 0;
  for (const rewrite::Rule& r : standard_rules().rules) {
    std::string text = "| `" + std::string(r.text) + "` |";
    size_t found = page.find(text, at);
    EXPECT_NE(found, page.npos) << "scripts/prove has not seen: " << r.text;
    if (found != page.npos) at = found;
  }
}

}  // namespace
}  // namespace porphyry
