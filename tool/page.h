// The page that `lower`, `why` and `compare` write.
#pragma once

#include "verbs.h"

namespace porphyry::tool {

// Whether the call asks for a page: by --as page, or by the ending of -o.
bool wants_page(const Options& o);

// One build of it: a name, and the options of the call that make it.
struct PageSide {
  std::string name;
  Options options;
};
// The levels, or the pipeline that the call gives. Of a large program, which would be too much for a browser
// at all levels, the level that it names, or those that are given here; that is said.
std::vector<PageSide> usual_sides(const Options& o, std::vector<std::string> when_large);
// The whole page, opened with one of its views at the level of the call.
std::string page_of(const Options& o, const std::vector<PageSide>& sides, const char* view,
                    const char* usual_level);

}  // namespace porphyry::tool
