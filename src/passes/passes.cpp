#include "porphyry/passes/passes.h"

namespace porphyry {

namespace rewrite {
extern const RuleTable standard_rules;  // written by rulebind
}

namespace {
struct Apart {
  using Context = FunctionContext;
  static constexpr bool apart = true;
};
struct InTurn {
  using Context = FunctionContext;
  static constexpr bool apart = false;
};
struct Whole {
  using Context = ModuleContext;
  static constexpr bool apart = false;
};
}  // namespace

#define PORPHYRY_PASS(name, Goes, keeps, doc) void name(Goes::Context&);
#include "passes.inc"
#undef PORPHYRY_PASS

const PassTable& standard_passes() {
  static const PassTable table = [] {
    PassTable out;
#define PORPHYRY_PASS(pass, Goes, kept, line) \
  out.add({.name = pass_name(#pass), .doc = line, .run = pass, .keeps = kept, .apart = Goes::apart});
#include "passes.inc"
#undef PORPHYRY_PASS
    return out;
  }();
  return table;
}

const rewrite::RuleTable& standard_rules() { return rewrite::standard_rules; }

}  // namespace porphyry
