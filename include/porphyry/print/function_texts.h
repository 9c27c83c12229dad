// Texts of many parts of one function: what is called v1, v2, … is found out once, not for each of them.
//
//   FunctionTexts texts(module, f);
//   for (Instruction i : f.instructions(b)) out += texts.instruction(i) + "\n";
#pragma once

#include <memory>
#include <string>

#include "porphyry/ir/module.h"

namespace porphyry {

namespace text {
class FunctionWriter;
}

// The same texts as write_text, value_text and block_text give. Both must outlive it, unchanged. O(names) for
// the first part without a name, then O(length) each.
class FunctionTexts {
 public:
  FunctionTexts(const Module& module, const Function& function);
  ~FunctionTexts();
  FunctionTexts(const FunctionTexts&) = delete;
  FunctionTexts& operator=(const FunctionTexts&) = delete;

  std::string instruction(Instruction i) const;
  std::string value(Value v) const;
  std::string block(Block b) const;

 private:
  std::unique_ptr<text::FunctionWriter> writer_;
};

}  // namespace porphyry
