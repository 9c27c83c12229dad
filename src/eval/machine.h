// What runs a module: frames, slots and memory. The loop and the quick operations are in evaluator.cpp, all
// other plain operations in plain_steps.cpp, memory in memory_steps.cpp, calls in call_steps.cpp.
#pragma once

#include <unordered_map>

#include "memory.h"
#include "plan.h"
#include "porphyry/eval/evaluator.h"

namespace porphyry {

class Evaluator::Machine {
 public:
  Machine(const Module& module, EvaluatorOptions options);

  Datum attach(std::span<uint8_t> bytes, std::string name, bool writable) {
    uint32_t id = memory_.attach(bytes, std::move(name), writable);
    memory_.reveal(id);
    return {memory_.address(id), id};
  }
  void provide(Symbol external, HostFunction host) { hosts_[external.index] = std::move(host); }
  std::span<const uint8_t> data(Symbol item) { return memory_.bytes(symbol_objects_[item.index]); }
  Outcome call(Symbol function, std::span<const Datum> arguments);

 private:
  struct Frame {
    Symbol function;
    const eval::Plan* plan;
    uint32_t step;
    size_t base;               // of its slots
    uint32_t promises_before;  // how many of promises_ were made by callers
  };

  // evaluator.cpp
  void place_data();
  void run();
  template <bool followed>
  void run_steps();
  void see(const Frame& frame, const eval::Step& s);
  void follow_value(const Frame& frame, Instruction at, Value v);
  void follow_parameters(const Frame& frame, Instruction at, std::span<const Value> parameters);
  void follow_results(const Frame& frame, const eval::Step& s);
  void end(Outcome::End how, std::string message);
  void fault(std::string message) { end(Outcome::End::Fault, std::move(message)); }
  void jump(Frame& frame, const eval::Jump& j);
  void choose(Frame& frame, const eval::Step& s, const Datum* slots);
  const eval::Plan& plan(Symbol function);
  Datum symbol_address(Symbol s) const {
    return {memory_.address(symbol_objects_[s.index]), symbol_objects_[s.index]};
  }
  const Function& body() const { return module_.function(frames_.back().function); }

  // plain_steps.cpp
  void plain(const eval::Step& s, Datum* slots);
  void scalar(const eval::Step& s, Datum* slots);
  void with_lanes(const eval::Step& s, Datum* slots);
  bool keeps_promises(const eval::Step& s, Type operand, Type result, std::span<const Bits> arguments);
  bool keeps_lane_promises(const eval::Step& s, std::span<const Type> types, std::span<const Bits> in);
  Bits permitted(const eval::Step& s, Type operand, Type result, std::span<const Bits> in, Bits out);
  void reinterpret(const eval::Step& s, Datum* slots);

  // memory_steps.cpp
  void memory_step(Frame& frame, const eval::Step& s, Datum* slots);
  eval::Access access_of(const Address& a, const uint32_t* operands, const Datum* slots) const;
  void load_or_store(const eval::Step& s, Datum* slots);
  void reserve(Frame& frame, const eval::Step& s, Datum* slots);
  void release(const eval::Step& s, Datum* slots);
  void copy_or_fill(const eval::Step& s, Datum* slots);
  void sole(const eval::Step& s, Datum* slots);

  // call_steps.cpp
  void enter(Symbol function, std::span<const Datum> arguments);
  void leave();
  void call_step(const eval::Step& s);
  bool callee(const eval::Step& s, Symbol& out, size_t& skipped);
  bool has_signature(const eval::Step& s, Symbol callee);
  void call_host(const eval::Step& s, Symbol callee, bool returns);
  void return_step(const eval::Step& s);
  void give_results(std::span<const Datum> results);

  const Module& module_;
  EvaluatorOptions options_;
  eval::Memory memory_;
  std::vector<uint32_t> symbol_objects_;
  std::unordered_map<uint32_t, HostFunction> hosts_;
  std::vector<std::unique_ptr<eval::Plan>> plans_;  // by symbol
  std::vector<Frame> frames_;
  std::vector<Datum> slots_;
  std::vector<Datum> moved_;        // arguments on their way over an edge or into a call
  std::vector<uint32_t> promises_;  // active promises `sole` and `const`, in the order they were made
  std::vector<Bits> words_in_, words_out_;
  Outcome out_;
  bool running_ = false;
};

}  // namespace porphyry
