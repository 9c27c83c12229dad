#include "porphyry/analyze/unread.h"

namespace porphyry {

std::optional<std::vector<Instruction>> stores_never_read(const Function& f, Instruction reserve) {
  std::vector<Value> todo = {f.result(reserve)};
  std::vector<Instruction> stores;
  while (!todo.empty()) {
    const Value v = todo.back();
    todo.pop_back();
    for (Slot s : f.uses(v)) {
      const auto use = f.use(s);
      if (use.edge.exists()) return std::nullopt;
      const Op op = f.op(use.user);
      if (op == Op::At && f.operand_slot(use.user, 0) == s)
        todo.push_back(f.result(use.user));
      else if (op == Op::Store && f.operand_slot(use.user, 0) != s && !f.address(use.user).is_volatile)
        stores.push_back(use.user);
      else if (op != Op::End && op != Op::Release)
        return std::nullopt;
    }
  }
  return stores;
}

}  // namespace porphyry
