// One HTML file that opens without a network: source, IR and machine code beside each other, linked both
// ways, with the notes of the passes, for several builds to switch between and to compare.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "porphyry/machine/lower.h"
#include "porphyry/optimize/note.h"

namespace porphyry {

// One build of the program. What it names must outlive the call.
struct PageBuild {
  std::string name;                                 // "-O2"
  const machine::LoweredModule* lowered = nullptr;  // with bodies, and explained
  const Notes* notes = nullptr;                     // of the passes, and what is left over
};

struct PageOptions {
  std::string title;
  std::string view = "program";  // which one it opens with: program, notes or differences
  std::string version;
  std::string function;                        // the first one shown; empty: the first there is
  std::map<std::string, std::string> sources;  // texts, by the names that positions have
  size_t first_build = 0;
};

// Rows are the instructions that code was selected from; each has its place in the source, what it became,
// and what was said of its value. O(size of all builds).
std::string render_page(const std::vector<PageBuild>& builds, const machine::Target& target,
                        const PageOptions& options);

}  // namespace porphyry
