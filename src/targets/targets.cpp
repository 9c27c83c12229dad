#include "porphyry/targets/targets.h"

namespace porphyry {

namespace targets {
#define PORPHYRY_TARGET(name) const machine::Target& name();
#include "targets.inc"
#undef PORPHYRY_TARGET
}  // namespace targets

std::span<const machine::Target* const> all_targets() {
  static const machine::Target* const all[] = {
#define PORPHYRY_TARGET(name) &targets::name(),
#include "targets.inc"
#undef PORPHYRY_TARGET
  };
  return all;
}

namespace {

template <typename Fits>
const machine::Target* first_that(Fits fits) {
  for (const machine::Target* t : all_targets())
    if (fits(*t)) return t;
  return nullptr;
}

}  // namespace

const machine::Target* target_named(std::string_view name) {
  return first_that([&](const machine::Target& t) { return t.name == name; });
}

const machine::Target* native_target() {
  return first_that([](const machine::Target& t) { return t.runs_here(); });
}

}  // namespace porphyry
