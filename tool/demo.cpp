#include <fmt/format.h>

#include "common.h"
#include "verbs.h"
namespace porphyry::tool {
int verb_demo(const Options&) { return 0; }
}  // namespace porphyry::tool
