// Values to the parts that the convention passes and back, in operations that later steps know to take apart.
#pragma once

#include "folding_pen.h"
#include "state.h"

namespace porphyry::machine {

class Porter {
 public:
  Porter(FoldingPen& pen, const Convention& convention);
  std::vector<Value> taken_apart(Value v, bool as_result);
  Value put_together(Type t, std::span<const Value> parts, bool as_result);

 private:
  std::vector<Value> words(Value v, const std::vector<Type>& parts);
  Type all_of(size_t words) const { return Type::integer(static_cast<unsigned>(words) * word_.bits()); }
  Value from_words(Type t, std::span<const Value> parts);
  std::vector<Value> memory_words(Value v);
  Value from_memory_words(Type t, std::span<const Value> parts);
  Value lane(Value v, unsigned k);
  unsigned words_of_element(Type t) const;

  FoldingPen& pen_;
  const PassingRules& rules_;
  Type word_;
};

// Calls a helper, whose parameters go as the convention passes them; all results have registers.
std::vector<Value> call_helper(Legalization& s, FoldingPen& pen, Symbol helper,
                               std::span<const Value> arguments);

}  // namespace porphyry::machine
