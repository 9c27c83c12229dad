// Cached analyses of one function. A pass asks for what it needs; what it did not keep is dropped after it.
#pragma once

#include <memory>

#include "porphyry/analyze/dominators.h"
#include "porphyry/analyze/loops.h"

namespace porphyry {

enum class Fact : uint8_t { Dominators = 1, Loops = 2 };

class Facts {
 public:
  static constexpr uint8_t all = 3, none = 0;

  explicit Facts(const Function& function) : function_(&function) {}

  const Dominators& dominators() {
    if (!dominators_) dominators_ = std::make_unique<Dominators>(*function_);
    return *dominators_;
  }
  const Loops& loops() {
    if (!loops_) loops_ = std::make_unique<Loops>(*function_, dominators());
    return *loops_;
  }
  // Drops all but the facts in `kept` (bits of Fact).
  void keep(uint8_t kept) {
    if (!(kept & static_cast<uint8_t>(Fact::Loops))) loops_.reset();
    if (!(kept & static_cast<uint8_t>(Fact::Dominators))) dominators_.reset();
  }

 private:
  const Function* function_;
  std::unique_ptr<Dominators> dominators_;
  std::unique_ptr<Loops> loops_;
};

}  // namespace porphyry
