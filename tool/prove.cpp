// Whether functions mean the same before and behind passes, or in two files, for all inputs.
#include <fmt/format.h>

#include <filesystem>

#include "common.h"
#include "porphyry/ask/trace.h"
#include "porphyry/ir/clone.h"
#include "porphyry/prove/functions.h"
#include "porphyry/render/prove.h"
#include "porphyry/render/trace.h"
#include "verbs.h"

namespace porphyry::tool {

int verb_prove(const Options& o) {
  return guarded([&] {
    check_ending(o, {o.json ? ".json" : ".txt"});
    auto before = load(o);
    give_facts(o, *before->module);
    std::unique_ptr<Loaded> after;
    if (!o.against.empty()) {
      Options other = o;
      other.file = o.against;
      after = optimized(other, load(other), pipeline_of(other, "-O0"));
    } else {
      auto copy = std::make_unique<Loaded>();
      copy->module = clone(*before->module);
      after = optimized(o, std::move(copy), pipeline_of(o, "-O2"));
    }
    std::vector<ProvedFunction> all;
    bool different = false;
    for (Symbol s : before->module->functions()) {
      const std::string name(before->module->symbol_name(s));
      if (o.function.empty() ? (*before->module)[s].is_local : name != o.function) continue;
      ProofOptions options{.rounds = o.bound, .seconds = o.time_limit};
      all.push_back({name, prove_same(*before->module, *after->module, name, options), ""});
      Proof& p = all.back().proof;
      if (p.verdict != Proof::Verdict::Different) continue;
      different = true;
      if (auto both = trace_against(*before->module, *after->module, *p.call, {.most = 400}))
        all.back().trace = render(*both);
    }
    if (all.empty()) function_of(*before->module, o.function);
    put_out(o, o.json ? render_json(all) : render(all, in_colour(o)));
    if (different) throw Failure{input_at_fault, {}};
  });
}

}  // namespace porphyry::tool
