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
#define PORPHYRY_PASS(name, Context, keeps, doc) out.add({pass_name(#name), doc, name, keeps});
#include "passes.inc"
#undef PORPHYRY_PASS
    return out;
  }();
  return table;
}

const rewrite::RuleTable& standard_rules() { return rewrite::standard_rules; }

}  // namespace porphyry
