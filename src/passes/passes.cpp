#include "porphyry/passes/passes.h"

namespace porphyry {

namespace rewrite {
extern const RuleTable standard_rules;  // written by rulebind
}

#define PORPHYRY_PASS(name, Context, keeps, doc) void name(Context&);
#include "passes.inc"
#undef PORPHYRY_PASS

const PassTable& standard_passes() {
  static const PassTable table = [] {
    PassTable out;
#define PORPHYRY_PASS(pass, Context, kept, line) \
  out.add({.name = pass_name(#pass),             \
           .doc = line,                          \
           .run = pass,                          \
           .keeps = kept,                        \
           .apart = std::is_same_v<Context, FunctionContext>});
#include "passes.inc"
#undef PORPHYRY_PASS
    return out;
  }();
  return table;
}

const rewrite::RuleTable& standard_rules() { return rewrite::standard_rules; }

}  // namespace porphyry
