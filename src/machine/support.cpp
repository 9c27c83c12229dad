#include "support.h"

#include "porphyry/text/writer.h"

namespace porphyry::machine {
namespace {

bool has_way(Type t) {
  if (t.has_lanes()) return false;
  return !t.is_integer() || t.bits() == 8 || t.bits() == 16 || t.bits() == 32 || t.bits() == 64;
}

bool has_way(Op op) {
  switch (info(op).layout) {
    case Layout::Release:
    case Layout::Copy:
    case Layout::Fill:
    case Layout::Renew:
    case Layout::Sole:
    case Layout::End:
    case Layout::CallThrough:
    case Layout::Watch:
    case Layout::Choose: return false;
    default: return op != Op::ReturnCall;
  }
}

}  // namespace

Diagnostics unsupported(const Module& module, Symbol function) {
  Diagnostics out;
  const Function& f = module.function(function);
  std::string name(module.symbol_name(function));
  auto complain = [&](std::string what, std::string excerpt) {
    if (out.size() == 20) return;  // enough to see what is missing
    Diagnostic d = complaint("in '" + name + "': " + what + " cannot be lowered to machine code yet",
                             "i8, i16, i32, i64, bool, f32, f64 and ptr, and operations on them");
    d.length = static_cast<uint32_t>(excerpt.size());
    d.excerpt = std::move(excerpt);
    out.push_back(std::move(d));
  };
  if (module.layout != MemoryLayout{})
    complain("a layout that is not little-endian with pointers of 64 bits", "");
  for (Type t : f.signature().parameters)
    if (!has_way(t)) complain("a parameter of type " + t.name(), "");
  for (Block b = f.entry(); b.exists(); b = f.next(b)) {
    for (Value v : f.parameters(b))
      if (!has_way(f.type(v)))
        complain("a block parameter of type " + f.type(v).name(), block_text(module, f, b));
    for (Instruction i = f.first(b); i.exists(); i = f.next(i)) {
      std::string what;
      bool variadic = f.op(i) == Op::Call && module.signature(f.symbol(i))->variadic;
      if (!has_way(f.op(i))) what = "'" + std::string(info(f.op(i)).name) + "'";
      if (variadic) what = "a call with more arguments than parameters";
      for (size_t k = 0; k < f.operand_count(i); ++k)
        if (!has_way(f.type(f.operand(i, k)))) what = "an operand of type " + f.type(f.operand(i, k)).name();
      for (size_t k = 0; k < f.result_count(i); ++k)
        if (!has_way(f.type(f.result(i, k)))) what = "a result of type " + f.type(f.result(i, k)).name();
      if (!what.empty()) complain(what, write_text(module, f, i));
    }
  }
  return out;
}

}  // namespace porphyry::machine
