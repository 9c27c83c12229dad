#include "porphyry/machine/passing.h"

#include <algorithm>
#include <bit>

namespace porphyry::machine {
namespace {

const Type i32 = Type::integer(32), i64 = Type::integer(64);

Type container(unsigned bits) { return bits <= 32 ? i32 : i64; }

std::vector<Type> words(unsigned bits) {
  return bits <= 64 ? std::vector<Type>{container(bits)} : std::vector<Type>(2, i64);
}

uint64_t natural_align(Type t) { return std::min<uint64_t>(16, std::bit_ceil(uint64_t(t.bytes()))); }
uint64_t rounded(uint64_t n, uint64_t to) { return (n + to - 1) / to * to; }

// How many registers of each list are left.
struct Left {
  size_t whole, floats;
  bool take(const std::vector<Type>& parts) {
    size_t w = 0, f = 0;
    for (Type t : parts) ++(t.is_float() ? f : w);
    if (w > whole || f > floats) return false;
    whole -= w, floats -= f;
    return true;
  }
};

class Planner {
 public:
  Planner(const Convention& convention, const Signature& signature)
      : convention_(convention), signature_(signature) {}

  Passing run() {
    results();
    parameters();
    out_.legal.variadic = signature_.variadic;
    out_.same = out_.legal == signature_;
    return std::move(out_);
  }

 private:
  void results() {
    Left left{convention_.whole_results.size(), convention_.float_results.size()};
    for (size_t k = 0; k < signature_.results.size() && !out_.through_memory; ++k) {
      auto parts = parts_passed(signature_.results[k], true);
      out_.through_memory = parts.empty() || !left.take(parts);
      for (unsigned p = 0; p < parts.size(); ++p) {
        out_.legal.results.push_back(parts[p]);
        out_.results.push_back({static_cast<int>(k), p});
      }
    }
    if (!out_.through_memory) return;
    uint64_t align = 1;
    for (Type t : signature_.results) {
      align = std::max(align, natural_align(t));
      out_.result_bytes = rounded(out_.result_bytes, natural_align(t));
      out_.result_offsets.push_back(out_.result_bytes);
      out_.result_bytes += t.bytes();
    }
    out_.result_bytes = rounded(out_.result_bytes, align);
    out_.legal.results = {Type::pointer()};
    out_.results = {{PassedPart::results_address, 0}};
  }

  void parameters() {
    Left left{convention_.whole.size(), convention_.floats.size()};
    std::vector<std::pair<Type, PassedPart>> on_stack;
    if (out_.through_memory) {
      left.take({Type::pointer()});
      add(Type::pointer(), {PassedPart::results_address, 0});
    }
    for (size_t k = 0; k < signature_.parameters.size(); ++k) {
      Type t = signature_.parameters[k];
      auto parts = parts_passed(t, false);
      bool in_memory = parts.empty();
      if (in_memory) parts = memory_words(t);
      bool in_registers = !in_memory && left.take(parts);
      bool aligned = !in_registers && (t == Type::integer(128) || in_memory || parts[0].has_lanes());
      if (aligned && out_.stack_bytes % 16) {
        if (!parts[0].has_lanes()) on_stack.push_back({i64, {}});
        out_.stack_bytes += 8;
      }
      for (unsigned p = 0; p < parts.size(); ++p) {
        if (in_registers) {
          add(parts[p], {static_cast<int>(k), p});
          continue;
        }
        on_stack.push_back({parts[p], {static_cast<int>(k), p}});
        out_.stack_bytes += parts[p].has_lanes() ? 16 : 8;
      }
    }
    // What is on the stack must find no register, or arrivals() would give it one.
    bool wants_whole =
        std::any_of(on_stack.begin(), on_stack.end(), [](auto& p) { return !p.first.is_float(); });
    for (; wants_whole && left.whole > 0; --left.whole) add(i64, {});
    for (auto& [type, part] : on_stack) add(type, part);
  }

  // As many words as the lanes take, or, where they do not fill words, those of each element.
  static std::vector<Type> memory_words(Type t) {
    if (t.total_bits() % 64 == 0) return std::vector<Type>(t.total_bits() / 64, i64);
    return std::vector<Type>(size_t(t.lanes()) * t.words_per_lane(), i64);
  }

  void add(Type t, PassedPart part) {
    out_.legal.parameters.push_back(t);
    out_.parameters.push_back(part);
  }

  const Convention& convention_;
  const Signature& signature_;
  Passing out_;
};

}  // namespace

std::vector<Type> parts_passed(Type t, bool as_result) {
  if (!t.has_lanes()) {
    if (t.is_float() || t.is_pointer()) return {t};
    bool plain =
        t.is_bool() || (t.is_integer() && t.bits() <= 64 && std::has_single_bit(t.bits()) && t.bits() >= 8);
    if (plain && (as_result || t.bits() >= 32)) return {t};
    return words(t.bits());
  }
  if (t.is_bool()) return t.lanes() <= 128 ? words(t.lanes()) : std::vector<Type>();
  if (t.total_bits() <= 64) return {Type::f64()};
  return t.total_bits() <= 128 ? std::vector<Type>{Type::f64().with_lanes(2)} : std::vector<Type>();
}

bool passes_as_it_stands(const Convention& convention, const Signature& signature) {
  auto plain = [](Type t, unsigned least) {
    if (t.has_lanes()) return t == Type::f64().with_lanes(2);
    return t.is_float() || t.is_pointer() ||
           (t.is_integer() &&
            (t.bits() == 32 || t.bits() == 64 || (least == 8 && (t.bits() == 8 || t.bits() == 16)))) ||
           (least == 8 && t.is_bool());
  };
  Left left{convention.whole_results.size(), convention.float_results.size()};
  for (Type t : signature.results) {
    if (!plain(t, 8)) return false;
    size_t& count = t.is_float() ? left.floats : left.whole;
    if (count-- == 0) return false;
  }
  for (Type t : signature.parameters)
    if (!plain(t, 32)) return false;
  // Without parts on the stack their order is the parameters'.
  size_t whole = 0, floats = 0;
  for (Type t : signature.parameters) ++(t.is_float() ? floats : whole);
  return whole <= convention.whole.size() && floats <= convention.floats.size();
}

Passing passing(const Convention& convention, const Signature& signature) {
  return Planner(convention, signature).run();
}

}  // namespace porphyry::machine
