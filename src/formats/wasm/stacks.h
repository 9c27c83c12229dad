// The two stacks of the standard's validation (specification, appendix A.3): operands and frames of blocks.
// What is popped is checked against what is wanted; code that cannot be reached takes operands out of
// nothing. With each operand goes the value that it is in the IR, and with each frame the blocks it leads to,
// which this file does not touch.
#pragma once

#include <span>
#include <vector>

#include "in.h"
#include "opcodes.h"

namespace porphyry::wasm {

using Types = std::span<const ValueType>;

struct Operand {
  ValueType type = ValueType::Unknown;  // Unknown: out of nothing, any type
  bool is_truth = false;                // an i32 whose value is still a bool
  Value value = {};                     // nothing in code that cannot be reached
};

struct Frame {
  enum class Form : uint8_t { Function, Block, Loop, If, Else } form;
  bool unreachable = false;  // operands of any type come out of nothing
  Types parameters, results;
  size_t height = 0;  // of the operands below it
  size_t kept = 0;    // of what it keeps of its parameters: see BodyReader
  Block label = {};   // where branches to it go; nothing: none does so far
  Block otherwise = {};
  Block before = {};    // where it was entered from
  uint32_t number = 0;  // in the order of the code

  Types label_types() const { return form == Form::Loop ? parameters : results; }
};

class Stacks {
 public:
  explicit Stacks(In& in) : in_(in) {}

  // For the next function; memory is kept.
  void begin(Types results) {
    operands_.clear(), frames_.clear();
    frames_.push_back({.form = Frame::Form::Function, .results = results});
  }
  // The instruction that mistakes are about.
  void at(uint32_t offset, const char* name) { offset_ = offset, name_ = name; }
  uint32_t offset() const { return offset_; }
  void fail(std::string message, std::string expected = {}) {
    in_.fail(offset_, std::move(message), std::move(expected));
  }

  // What follows an access of so many bits: an alignment, which is checked, and an offset.
  uint32_t memory_offset(unsigned bits);

  void push(ValueType type, Value value = {}, bool is_truth = false) {
    operands_.push_back({type, is_truth, value});
  }
  void push(const Operand& o) { operands_.push_back(o); }
  Operand pop(ValueType wanted) {
    Frame& f = frames_.back();
    if (operands_.size() == f.height) [[unlikely]]
      return f.unreachable ? Operand{} : missing(wanted);
    Operand o = operands_.back();
    operands_.pop_back();
    if (o.type != wanted && wanted != ValueType::Unknown && o.type != ValueType::Unknown) [[unlikely]]
      return mismatch(wanted, o.type);
    return o;
  }
  Operand pop_any() { return pop(ValueType::Unknown); }
  // Operands of these types, the last one on top; in their order. Valid until the next call.
  std::span<const Operand> pop(Types types) {
    if (popped_.size() < types.size()) popped_.resize(types.size());
    for (size_t k = types.size(); k-- > 0;) popped_[k] = pop(types[k]);
    return {popped_.data(), types.size()};
  }
  void push(Types types) {
    for (ValueType t : types) push(t);
  }
  void push(std::span<const Operand> all) { operands_.insert(operands_.end(), all.begin(), all.end()); }

  void enter(Frame::Form form, Types parameters, Types results) {
    frames_.push_back(
        {.form = form, .parameters = parameters, .results = results, .height = operands_.size()});
  }
  // The innermost frame's results, off the stack, which must hold nothing else of that frame.
  std::span<const Operand> pop_results() {
    std::span<const Operand> out = pop(frames_.back().results);
    if (size_t left = operands_.size() - frames_.back().height; left > 0) too_many(left);
    return out;
  }
  void leave() { frames_.pop_back(); }
  // What follows in the innermost frame cannot be reached.
  void unreachable() {
    operands_.resize(frames_.back().height);
    frames_.back().unreachable = true;
  }

  Frame& top() { return frames_.back(); }
  // `depth` counted from the innermost.
  Frame& frame(uint32_t depth) { return frames_[frames_.size() - 1 - depth]; }
  size_t depth() const { return frames_.size(); }
  bool done() const { return frames_.empty(); }

 private:
  [[gnu::cold, gnu::noinline]] Operand missing(ValueType wanted);
  [[gnu::cold, gnu::noinline]] Operand mismatch(ValueType wanted, ValueType is);
  [[gnu::cold, gnu::noinline]] void too_many(size_t left);

  In& in_;
  uint32_t offset_ = 0;
  const char* name_ = nullptr;
  std::vector<Operand> operands_, popped_;
  std::vector<Frame> frames_;
};

}  // namespace porphyry::wasm
