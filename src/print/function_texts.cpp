#include "porphyry/print/function_texts.h"

#include "function_text.h"

namespace porphyry {

FunctionTexts::FunctionTexts(const Module& module, const Function& function)
    : writer_(std::make_unique<text::FunctionWriter>(module, function)) {}
FunctionTexts::~FunctionTexts() = default;

std::string FunctionTexts::instruction(Instruction i) const { return writer_->instruction(i); }
std::string FunctionTexts::value(Value v) const { return writer_->value(v); }
std::string FunctionTexts::block(Block b) const { return writer_->block(b); }

}  // namespace porphyry
