#include "stays.h"

namespace porphyry {
namespace {

bool is_down(const Rounds& r) { return r.step < 0; }
bool includes_limit(const Rounds& r) {
  return r.relation == Op::LeS || r.relation == Op::LeU || r.relation == Op::GeS || r.relation == Op::GeU;
}
uint64_t size_of_step(const Rounds& r) {
  return r.step < 0 ? uint64_t(0) - static_cast<uint64_t>(r.step) : static_cast<uint64_t>(r.step);
}

Value write_first(Pen& pen, const Rounds& r) {
  Type t = pen.function().type(r.start);
  Value v = r.start;
  auto constant = [&](Bits b) { return pen.function().constant(t, b); };
  if (r.scale != 1) v = pen.mul(v, constant(r.scale));
  if (r.offset != 0) v = pen.add(v, constant(r.offset));
  return v;
}

Value write_counted(Pen& pen, const Rounds& r) {
  Type t = pen.function().type(r.start);
  Value first = write_first(pen, r);
  Value apart = is_down(r) ? pen.sub(first, r.limit) : pen.sub(r.limit, first);
  if (r.relation == Op::Ne) return apart;
  uint64_t size = size_of_step(r);
  auto constant = [&](uint64_t n) { return pen.function().constant(t, n); };
  auto divided = [&](Value v) { return pen.div_u(v, constant(size)); };
  // ceil(apart / size) without a sum that might wrap; one more multiple where the limit is included.
  Value times = apart;
  if (size == 1 && includes_limit(r))
    times = pen.add(apart, constant(1));
  else if (includes_limit(r))
    times = pen.add(divided(apart), constant(1));
  else if (size != 1)
    times = pen.add(divided(pen.add(apart, pen.integer(t, -1))), constant(1));
  return pen.pick(pen.write(r.relation, {first, r.limit}), times, constant(0));
}

Value write_by_bits(Pen& pen, const Rounds& r) {
  Type t = pen.function().type(r.start);
  Value width = pen.function().constant(t, t.bits()), times;
  if (r.kind == Rounds::Kind::BitsSet)
    times = pen.popcount(r.start);
  else
    times = pen.sub(width, r.kind == Rounds::Kind::BitLength ? pen.clz(r.start) : pen.ctz(r.start));
  if (!r.next) return times;
  // Compared is what the round leaves: one less, and none where there was none.
  Value some = pen.ne(times, pen.function().constant(t, 0));
  return pen.sub(times, pen.widen_u(t, some));
}

}  // namespace

unsigned cost_of_stays(const Function& f, const Rounds& r) {
  if (r.known) return 0;
  if (r.kind != Rounds::Kind::Counted) return 4;
  unsigned first = (r.scale != 1 ? 3 : 0) + (r.offset != 0 ? 1 : 0) + (f.is_constant(r.start) ? 0 : 1);
  if (r.relation == Op::Ne) return first + 1;
  uint64_t size = size_of_step(r);
  bool by_shift = (size & (size - 1)) == 0;
  return first + 4 + (size == 1 ? 0 : by_shift ? 3 : 6);
}

Value write_stays(Pen& pen, const Rounds& r) {
  Type t = pen.function().type(r.start);
  if (r.known) return pen.function().constant(t, *r.known);
  return r.kind == Rounds::Kind::Counted ? write_counted(pen, r) : write_by_bits(pen, r);
}

}  // namespace porphyry
