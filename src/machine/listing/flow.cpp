// What an instruction does with the run and with memory, read off the book: its meaning and its operands.
#include "porphyry/machine/listing.h"

namespace porphyry::machine {

Flow flow_of(const Form& form) {
  Flow out;
  bool goes = false;
  for (const MeaningStep& s : form.meaning) {
    bool always = s.arguments[s.kind == MeaningKind::Go ? 1 : 0].kind == TermKind::Literal;
    out.calls |= s.kind == MeaningKind::Store && s.arguments[0].kind == TermKind::Next;
    goes |= s.kind == MeaningKind::Go;
    if ((s.kind == MeaningKind::Go || s.kind == MeaningKind::Trap) && always) out.goes_on = false;
  }
  out.jumps = goes && form.is_jump;
  if (out.calls) out.goes_on = true;
  return out;
}

void count(FunctionListing::Totals& totals, const Form& form) {
  ++totals.instructions;
  const Flow flow = flow_of(form);
  totals.calls += flow.calls;
  totals.branches += flow.jumps && flow.goes_on && !flow.calls;
  for (const FormOperand& o : form.operands)
    if (o.kind == OperandKind::Memory) totals.loads += o.read, totals.stores += o.written;
}

}  // namespace porphyry::machine
