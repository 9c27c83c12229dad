// The targets that tests go over: those of the library, and those that only tests have.
#pragma once

#include <gtest/gtest.h>

#include <vector>

#include "porphyry/targets/targets.h"
#include "targets/rowan/rowan.h"

namespace porphyry::testing {

inline std::vector<const machine::Target*> targets() {
  std::vector<const machine::Target*> out(all_targets().begin(), all_targets().end());
  out.push_back(&targets::rowan());
  return out;
}

// For tests that are instantiated for each target: its name as their parameter.
inline std::vector<std::string> target_names() {
  std::vector<std::string> out;
  for (const machine::Target* t : targets()) out.emplace_back(t->name);
  return out;
}
// That of the processor that runs the tests.
inline const machine::Target& target() { return *native_target(); }
// The same if one instruction began a cycle, in order: there the order of code tells most.
inline const machine::Target& in_order() {
  static const machine::Target out = [] {
    machine::Target t = target();
    t.pace = {};
    return t;
  }();
  return out;
}
inline const machine::Target& target(const std::string& name) {
  for (const machine::Target* t : targets())
    if (t->name == name) return *t;
  std::abort();
}
inline std::string as_test_name(const ::testing::TestParamInfo<std::string>& info) { return info.param; }

}  // namespace porphyry::testing
