#include "porphyry/ir/copy.h"

namespace porphyry {

Value Copier::value(Value v) {
  if (from_.is_constant(v)) return within_ ? v : to_.constant_lanes(from_.type(v), from_.constant_words(v));
  Value copy = values_.get(v);
  return copy.exists() || !within_ ? copy : v;
}

Instruction Copier::copy(Instruction i, Block to, Op op, Position position, uint8_t permits,
                         std::span<const Type> results) {
  // All is gathered first: appending moves tables that the original may stand in.
  std::vector<Value> operands;
  std::vector<Type> types(results.begin(), results.end());
  for (Value v : from_.operands(i)) operands.push_back(value(v));
  if (types.empty())
    for (Value v : from_.results(i)) types.push_back(from_.type(v));
  std::vector<std::vector<Value>> arguments;
  std::vector<Function::Draft::Destination> targets;
  for (Edge e : from_.edges(i)) {
    auto& list = arguments.emplace_back();
    for (Value v : from_.arguments(e)) list.push_back(value(v));
  }
  for (size_t k = 0; k < arguments.size(); ++k) {
    Edge e = from_.edge(i, k);
    targets.push_back({block(from_.to(e)), arguments[k], from_.weight(e)});
  }
  Instruction made = to_.append(to, {.op = op,
                                     .operands = operands,
                                     .results = types,
                                     .detail = copy_detail(i),
                                     .position = position,
                                     .targets = targets,
                                     .promises = from_.promises(i),
                                     .permits = permits,
                                     .hint = from_.hint(i)});
  for (size_t k = 0; k < from_.result_count(i); ++k) stand_in(from_.result(i, k), to_.result(made, k));
  return made;
}

void Copier::copy_parameters(Block original, Block copy) {
  for (size_t k = 0; k < from_.parameters(original).size(); ++k) {
    Value v = from_.parameters(original)[k];
    stand_in(v, to_.add_parameter(copy, from_.type(v)));
  }
}

void Copier::forget() {
  for (Value v : known_values_) values_.set(v, {});
  for (Block b : known_blocks_) blocks_.set(b, {});
  known_values_.clear(), known_blocks_.clear();
}

uint32_t Copier::copy_detail(Instruction i) {
  switch (info(from_.op(i)).detail()) {
    case Detail::Address: return to_.add_address(from_.address(i));
    case Detail::Copy: return to_.add_copy(from_.copy_shape(i));
    case Detail::Reserve: return to_.add_reserve(from_.reserve_shape(i));
    case Detail::Lanes: {
      std::vector<uint16_t> lanes;
      for (unsigned k = 0; k < from_.type(from_.result(i)).lanes(); ++k)
        lanes.push_back(from_.shuffle_lane(i, k));
      return to_.add_shuffle(lanes);
    }
    case Detail::Cases: {
      std::vector<Bits> cases;
      for (size_t k = 0; k + 1 < from_.edge_count(i); ++k) cases.push_back(from_.case_value(i, k));
      return to_.add_cases(cases);
    }
    case Detail::Symbol:
    case Detail::Name: return from_.detail(i);
    case Detail::None: break;
  }
  return Function::no_detail;
}

}  // namespace porphyry
