#include "porphyry/machine/passing.h"
#include "porphyry/base/rounding.h"

#include <algorithm>
#include <bit>

namespace porphyry::machine {
namespace {

uint64_t natural_align(Type t) { return std::min<uint64_t>(16, std::bit_ceil(uint64_t(t.bytes()))); }

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

// As many words as the lanes take, or, where they do not fill words, those of each element.
std::vector<Type> memory_words(Type t, unsigned word_bits) {
  const Type word = Type::integer(word_bits);
  if (t.total_bits() % word_bits == 0) return std::vector<Type>(t.total_bits() / word_bits, word);
  return std::vector<Type>(size_t(t.lanes()) * parts_for(t.bits(), word_bits), word);
}

// One parameter: its parts when registers are left for all of them, else its words on the stack.
struct Item {
  std::vector<Type> registers, stack;
  bool aligned = false;  // its words begin at a multiple of 16
};

class Planner {
 public:
  explicit Planner(const Convention& convention) : convention_(convention), rules_(*convention.values) {
    out_.word_bits = convention.word_bits;
  }

  Passing run(const Signature& s) {
    std::vector<Item> items;
    for (Type t : s.parameters) items.push_back(item_of(t));
    results(s.results);
    parameters(items);
    out_.legal.variadic = s.variadic;
    out_.same = out_.legal == s;
    return std::move(out_);
  }

  Passing run(const CSignature& s) {
    std::vector<Item> items;
    for (const CType& c : s.parameters) items.push_back(item_of(c));
    if (s.result && s.result->scalar.exists())
      results({s.result->scalar});
    else if (s.result)
      structure_result(*s.result);
    parameters(items);
    out_.legal.variadic = s.variadic;
    return std::move(out_);
  }

 private:
  Item item_of(Type t) const {
    Item out{rules_.parts(t, false), {}, rules_.aligned_on_stack(t)};
    out.stack = out.registers.empty() ? memory_words(t, convention_.word_bits) : out.registers;
    return out;
  }
  Item item_of(const CType& c) const {
    if (c.scalar.exists()) return item_of(c.scalar);
    CLayout layout = c_layout(c);
    const unsigned word = convention_.word_bits / 8u;
    return {rules_.structure(layout),
            std::vector<Type>(parts_for<uint64_t>(layout.bytes, word), Type::integer(convention_.word_bits)),
            layout.align > word};
  }

  void results(const std::vector<Type>& types) {
    Left left{convention_.whole_results.size(), convention_.float_results.size()};
    for (size_t k = 0; k < types.size() && !out_.through_memory; ++k) {
      auto parts = rules_.parts(types[k], true);
      out_.through_memory = parts.empty() || !left.take(parts);
      for (unsigned p = 0; p < parts.size(); ++p) {
        out_.legal.results.push_back(parts[p]);
        out_.results.push_back({static_cast<int>(k), p});
      }
    }
    if (!out_.through_memory) return;
    uint64_t align = 1;
    for (Type t : types) {
      align = std::max(align, natural_align(t));
      out_.result_bytes = round_up<uint64_t>(out_.result_bytes, natural_align(t));
      out_.result_offsets.push_back(out_.result_bytes);
      out_.result_bytes += t.bytes();
    }
    results_in_memory(round_up<uint64_t>(out_.result_bytes, align));
  }

  void structure_result(const CType& c) {
    Item item = item_of(c);
    Left left{convention_.whole_results.size(), convention_.float_results.size()};
    uint64_t bytes = c_layout(c).bytes;
    if (bytes && (item.registers.empty() || !left.take(item.registers))) {
      out_.through_memory = true;
      out_.result_offsets = {0};
      return results_in_memory(bytes);
    }
    out_.legal.results = item.registers;
    for (unsigned p = 0; p < item.registers.size(); ++p) out_.results.push_back({0, p});
  }

  void results_in_memory(uint64_t bytes) {
    out_.result_bytes = bytes;
    out_.legal.results = {pointer()};
    out_.results = {{PassedPart::results_address, 0}};
  }

  void parameters(const std::vector<Item>& items) {
    Left left{convention_.whole.size(), convention_.floats.size()};
    std::vector<std::pair<Type, PassedPart>> on_stack;
    if (out_.through_memory) {
      left.take({pointer()});
      add(pointer(), {PassedPart::results_address, 0});
    }
    for (size_t k = 0; k < items.size(); ++k) {
      const Item& item = items[k];
      bool in_registers = !item.registers.empty() && left.take(item.registers);
      if (in_registers) {
        for (unsigned p = 0; p < item.registers.size(); ++p) add(item.registers[p], {static_cast<int>(k), p});
        continue;
      }
      for (; item.aligned && out_.stack_bytes % 16; out_.stack_bytes += convention_.word_bits / 8u)
        on_stack.push_back({word(), {}});
      for (unsigned p = 0; p < item.stack.size(); ++p) {
        on_stack.push_back({item.stack[p], {static_cast<int>(k), p}});
        uint64_t bytes = bytes_on_stack(convention_, item.stack[p]);
        out_.stack_bytes = round_up<uint64_t>(out_.stack_bytes, bytes) + bytes;
      }
    }
    // What is on the stack must find no register, or arrivals() would give it one.
    bool wants_whole =
        std::any_of(on_stack.begin(), on_stack.end(), [](auto& p) { return !p.first.is_float(); });
    for (; wants_whole && left.whole > 0; --left.whole) add(word(), {});
    for (auto& [type, part] : on_stack) add(type, part);
  }

  void add(Type t, PassedPart part) {
    out_.legal.parameters.push_back(t);
    out_.parameters.push_back(part);
  }

  Type word() const { return Type::integer(convention_.word_bits); }
  Type pointer() const { return Type::pointer(convention_.word_bits); }

  const Convention& convention_;
  const PassingRules& rules_;
  Passing out_;
};

}  // namespace

bool passes_as_it_stands(const Convention& convention, const Signature& signature) {
  bool (*plain)(Type, bool) = convention.values->as_it_stands;
  Left left{convention.whole_results.size(), convention.float_results.size()};
  for (Type t : signature.results) {
    if (!plain(t, true)) return false;
    size_t& count = t.is_float() ? left.floats : left.whole;
    if (count-- == 0) return false;
  }
  for (Type t : signature.parameters)
    if (!plain(t, false)) return false;
  // Without parts on the stack their order is the parameters'.
  size_t whole = 0, floats = 0;
  for (Type t : signature.parameters) ++(t.is_float() ? floats : whole);
  return whole <= convention.whole.size() && floats <= convention.floats.size();
}

Passing passing(const Convention& convention, const Signature& signature) {
  return Planner(convention).run(signature);
}

Passing passing(const Convention& convention, const CSignature& signature) {
  return Planner(convention).run(signature);
}

namespace {

// Puts a type's scalars behind what is there.
void lay_out(const CType& c, CLayout& out) {
  if (c.scalar.exists()) {
    uint64_t align = c.scalar.bytes();  // scalars of C are as aligned as they are wide
    out.bytes = round_up<uint64_t>(out.bytes, align);
    out.align = std::max(out.align, align);
    out.members.push_back({out.bytes, c.scalar});
    out.bytes += c.scalar.bytes();
    return;
  }
  CLayout inner;
  for (const CType& m : c.members)
    for (uint64_t k = 0; k < m.count; ++k) lay_out(m, inner);
  inner.bytes = round_up<uint64_t>(inner.bytes, inner.align);
  out.bytes = round_up<uint64_t>(out.bytes, inner.align);
  out.align = std::max(out.align, inner.align);
  for (auto [offset, type] : inner.members) out.members.push_back({out.bytes + offset, type});
  out.bytes += inner.bytes;
}

}  // namespace

CLayout c_layout(const CType& c) {
  CLayout out;
  lay_out(c, out);
  out.bytes = round_up<uint64_t>(out.bytes, out.align);
  return out;
}

}  // namespace porphyry::machine
