#include <fmt/format.h>
#include "porphyry/analyze/verify.h"
#include "porphyry/text/writer.h"
#include "porphyry/render/diagnostics.h"
#include "porphyry/render/listing.h"
#include "porphyry/jit/apart.h"
#include "porphyry/eval/evaluator.h"
#include "porphyry/targets/x64.h"
using namespace porphyry;
int main(int c, char**v){
  Realm r; auto t=read_file(v[1]); SourceText src(v[1],*t); auto m=load_text(r,src);
  if(!m){fmt::print("{}",render(m.why()));return 1;}
  fmt::print("{}",write_text(**m));
  auto l=machine::lower(**m,targets::x64(),{.check_allocation=true});
  if(!l){fmt::print("{}",render(l.why()));return 1;}
  fmt::print("{}",write_text(*l->legal));
  for(auto&f:l->functions) fmt::print("{}\n",render(machine::make_listing(*l->legal,f,targets::x64()),false));
  if(c>2){ Evaluator e(**m); std::vector<Datum> a; std::vector<uint64_t> b; for(int k=3;k<c;k++){a.push_back({(uint64_t)atoll(v[k]),0});b.push_back(atoll(v[k]));}
   auto o=e.call((*m)->find(v[2]),a); fmt::print("{} {} {}\n",end_text(o.end),o.message,o.results.empty()?0:o.results[0].bits);
   auto j=Jit::compile(**m,targets::x64()); auto cl=Caller::make(**j,v[2],targets::x64()); auto n=(*cl)->call_apart(b); fmt::print("{} {} {}\n",(int)n.end,n.message,n.results.empty()?0:n.results[0]);}
}
