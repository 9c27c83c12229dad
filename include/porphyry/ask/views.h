// Views of a program, as drawings.
//
//   if (const View* view = view_named("regions")) Drawing d = view->draw(module, function, {});
#pragma once

#include <span>
#include <string_view>

#include "porphyry/ir/module.h"
#include "porphyry/optimize/drawing.h"
#include "porphyry/optimize/note.h"

namespace porphyry {

struct View {
  std::string_view name, doc;
  bool of_module = false;  // the function is then of no account
  // `notes` are those of the passes that ran, for what was done to calls.
  Drawing (*draw)(const Module& module, Symbol function, const Notes& notes);
};
// loops, regions, dominators, control, kinds, calls
std::span<const View> all_views();
const View* view_named(std::string_view name);  // null when there is none

}  // namespace porphyry
