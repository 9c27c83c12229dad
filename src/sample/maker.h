// The maker of one program, in four files: functions and control flow (maker.cpp), plain operations
// (plain.cpp), promises (promised.cpp), memory and calls (memory.cpp).
#pragma once

#include <random>

#include "porphyry/ir/pen.h"
#include "porphyry/sample/sample.h"

namespace porphyry::sample {

class Maker {
 public:
  Maker(Realm& realm, const SampleOptions& options);
  Sample run();

 private:
  struct Region {  // memory that any type may be read from and written to
    Value base;
    uint32_t align;
  };

  // chance
  size_t below(size_t n) { return n ? random_() % n : 0; }
  bool chance(unsigned percent) { return below(100) < percent; }
  Bits any_word() { return Bits(random_()) << 64 | random_(); }

  // types, constants, values
  Type any_type();
  Type fresh_type();
  Type small_type();
  Type any_integer(bool scalar);
  Bits interesting(Type element);
  Value constant(Type t);
  Value value(Type t);
  Value keep(Value v);
  Value canonical(Value v);
  Value number(Type t, uint64_t n) { return f_->constant(t, n); }

  // maker.cpp
  void set_up_module();
  void make_function(bool last);
  void statements(int depth);
  void statement(int depth);
  void leave();
  void go(Block to);
  std::vector<Value> values_for(Block to);
  void branch(int depth);
  void loop(int depth);
  void choose(int depth);
  void tangle();
  void say();
  Position any_position();
  std::string any_name();

  // plain.cpp
  void plain_operation();
  void conversion(Op op);
  bool lanes_operation(const OperationInfo& row);
  std::vector<Value> operands_of(const OperationInfo& row, Type t);
  Value safe_divisor(Value v);

  // promised.cpp
  void promised_operation();
  void permitted_operation();
  Value shifted_down(Op op, Value v, unsigned by);

  // memory.cpp
  void memory_operation();
  void masked_access(const Region& r);
  void block_operation();
  void kinded_access();
  void passing_object();
  void call();
  void call_through();
  void call_apart();
  Region any_region();
  void make_apart();
  void make_recursive();
  Value filled_reserve();
  void promotable();

  std::mt19937_64 random_;
  SampleOptions options_;
  Sample out_;
  Module& module_;
  struct Items {
    Symbol store, night, limits, apart, recursive;
    std::vector<Symbol> twins;    // of one signature, to be called through addresses
    std::vector<KindPath> paths;  // tally, dry, wet of the night's two readings, and what is above
  } items_;                       // what all functions of the module use
  std::vector<Symbol> functions_;
  Function* f_ = nullptr;
  Pen* pen_ = nullptr;
  std::vector<Value> scope_;
  Value piece_, slot_;
  int calls_left_ = 0, loops_around_ = 0;
  unsigned name_count_ = 0;
};

}  // namespace porphyry::sample
