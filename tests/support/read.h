// Small helpers that read programs for tests.
#pragma once

#include <gtest/gtest.h>

#include "porphyry/analyze/verify.h"
#include "porphyry/formats/text.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"

namespace porphyry::testing {

// A module that must be right; a wrong one fails the test with its diagnostics.
inline std::unique_ptr<Module> must_read(Realm& realm, std::string_view text) {
  SourceText source("test.por", std::string(text));
  auto module = load_text(realm, source);
  EXPECT_TRUE(module.good()) << render(module.why());
  if (!module) return std::make_unique<Module>(realm);
  return std::move(*module);
}

// How often the function `f` has an operation.
inline size_t count_in_f(const Module& module, Op op) {
  const Function& f = module.function(module.find("f"));
  size_t n = 0;
  for (Block b : f.blocks())
    for (Instruction i : f.instructions(b)) n += f.op(i) == op;
  return n;
}

// What is wrong with a text.
inline Diagnostics problems_of(std::string_view text) {
  Realm realm;
  SourceText source("test.por", std::string(text));
  return load_text(realm, source).why();
}

// The first function of a body: `func f(…) -> … { … }` around it.
inline std::string in_function(std::string_view header, std::string_view body) {
  return "module test\n\nfunc f" + std::string(header) + " {\nenter:\n" + std::string(body) + "}\n";
}

}  // namespace porphyry::testing
