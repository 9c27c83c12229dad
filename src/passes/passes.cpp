#include "porphyry/passes/passes.h"

namespace porphyry {

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

}  // namespace porphyry
