// The forms in which modules are read and written. Each has a folder in src/formats/ and a row in
// formats.inc; the tool goes through the table.
//
//   auto module = load_module(realm, SourceText("night.por", bytes));   // whichever form it is
#pragma once

#include <memory>
#include <span>
#include <string>
#include <string_view>

#include "porphyry/base/diagnostics.h"
#include "porphyry/base/source_text.h"
#include "porphyry/ir/module.h"

namespace porphyry {

struct Format {
  std::string_view name;    // "packed"
  std::string_view ending;  // ".porb", of files
  std::string_view doc;     // one line
  bool is_text;             // fit for a terminal
  // Whether a file of these bytes may be of this form. Of two that say so the one that stands first is taken.
  bool (*recognizes)(std::string_view bytes);
  // Reads and verifies: a module comes out only without a mistake.
  Result<std::unique_ptr<Module>> (*load)(Realm& realm, const SourceText& source);
  std::string (*write)(const Module& module);  // of a verified module; null for a form that is only read
};

std::span<const Format> all_formats();
// Null when there is none.
const Format* format_named(std::string_view name);
const Format* format_of_path(std::string_view path);  // by its ending
const Format* format_of_bytes(std::string_view bytes);

// Reads whichever form the bytes are.
Result<std::unique_ptr<Module>> load_module(Realm& realm, const SourceText& source);

}  // namespace porphyry
