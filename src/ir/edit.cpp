#include "porphyry/ir/edit.h"

namespace porphyry {

size_t way_of(const Function& f, Instruction branch, Bits number) {
  if (f.op(branch) == Op::When) return number & 1 ? 0 : 1;
  size_t last = f.edge_count(branch) - 1;
  for (size_t k = 0; k < last; ++k)
    if (f.case_value(branch, k) == number) return k;
  return last;
}

void always_take(Function& f, Edge way) {
  Block home = f.from(way), to = f.to(way);
  Instruction branch = f.terminator(home);
  Position position = f.position(branch);
  std::vector<Value> arguments;
  for (Value v : f.arguments(way)) arguments.push_back(v);
  f.erase(branch);
  Function::Draft::Destination target{to, arguments};
  f.append(home, {.op = Op::Go, .position = position, .targets = {&target, 1}});
}

bool touches_floats(const Function& f, Instruction i) {
  if (!info(f.op(i)).is_plain()) return false;
  for (Value v : f.operands(i))
    if (f.type(v).is_float()) return true;
  for (Value v : f.results(i))
    if (f.type(v).is_float()) return true;
  return false;
}

Value given(const Function& f, Value v) {
  // Blocks that cannot be reached may lead to each other in a ring.
  for (unsigned steps = 0; steps < 64 && f.kind(v) == ValueKind::BlockParameter; ++steps) {
    Edge e = f.first_in(f.defining_block(v));
    if (!e.exists() || f.next_in(e).exists() || f.from(e) == f.to(e)) break;
    v = f.argument(e, f.result_index(v));
  }
  return v;
}

FurtherNames::FurtherNames(Realm& realm, const Function& f) : realm_(realm) {
  for (size_t k = 0; k < f.value_limit(); ++k)
    if (Name n = f.name(Value(k)); n.exists()) taken_.insert(n.index);
}

Name FurtherNames::next(Name base) {
  for (unsigned k = 2;; ++k) {
    Name name = realm_.name(std::string(realm_.text(base)) + "_" + std::to_string(k));
    if (taken_.insert(name.index).second) return name;
  }
}

Value constant_from(Function& f, Type type, std::span<const Bits> lanes) {
  if (!type.has_lanes()) return f.constant(type, lanes[0]);
  std::vector<uint64_t> words;
  for (Bits w : lanes) {
    words.push_back(static_cast<uint64_t>(w));
    if (type.words_per_lane() == 2) words.push_back(static_cast<uint64_t>(w >> 64));
  }
  return f.constant_lanes(type, words);
}

void hand_name_over(Function& f, Value from, Value to) {
  Name name = f.name(from);
  if (!name.exists() || f.kind(to) != ValueKind::Result || f.name(to).exists()) return;
  f.set_name(from, {});
  f.set_name(to, name);
}

}  // namespace porphyry
