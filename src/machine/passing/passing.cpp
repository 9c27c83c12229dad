#include "porphyry/machine/passing.h"
#include "porphyry/base/rounding.h"

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
std::vector<Type> memory_words(Type t) {
  if (t.total_bits() % 64 == 0) return std::vector<Type>(t.total_bits() / 64, i64);
  return std::vector<Type>(size_t(t.lanes()) * t.words_per_lane(), i64);
}

// One parameter: its parts when registers are left for all of them, else its words on the stack.
struct Item {
  std::vector<Type> registers, stack;
  bool aligned = false;  // its words begin at a multiple of 16
};

Item item_of(Type t) {
  Item out{parts_passed(t, false), {}, t == Type::integer(128)};
  out.stack = out.registers.empty() ? memory_words(t) : out.registers;
  return out;
}

// A structure of up to sixteen bytes is classified word by word; a larger one goes to memory.
Item item_of(const CType& c) {
  if (c.scalar.exists()) return item_of(c.scalar);
  CLayout layout = c_layout(c);
  Item out{{}, std::vector<Type>(parts_for<uint64_t>(layout.bytes, 8), i64), layout.align > 8};
  if (layout.bytes > 16 || layout.bytes == 0) return out;
  bool whole[2] = {false, false};
  for (auto [offset, type] : layout.members)
    if (!type.is_float()) whole[offset / 8] = whole[(offset + type.bytes() - 1) / 8] = true;
  for (size_t k = 0; k < out.stack.size(); ++k) out.registers.push_back(whole[k] ? i64 : Type::f64());
  return out;
}

class Planner {
 public:
  explicit Planner(const Convention& convention) : convention_(convention) {}

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
  void results(const std::vector<Type>& types) {
    Left left{convention_.whole_results.size(), convention_.float_results.size()};
    for (size_t k = 0; k < types.size() && !out_.through_memory; ++k) {
      auto parts = parts_passed(types[k], true);
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
    out_.legal.results = {Type::pointer()};
    out_.results = {{PassedPart::results_address, 0}};
  }

  void parameters(const std::vector<Item>& items) {
    Left left{convention_.whole.size(), convention_.floats.size()};
    std::vector<std::pair<Type, PassedPart>> on_stack;
    if (out_.through_memory) {
      left.take({Type::pointer()});
      add(Type::pointer(), {PassedPart::results_address, 0});
    }
    for (size_t k = 0; k < items.size(); ++k) {
      const Item& item = items[k];
      bool in_registers = !item.registers.empty() && left.take(item.registers);
      if (in_registers) {
        for (unsigned p = 0; p < item.registers.size(); ++p) add(item.registers[p], {static_cast<int>(k), p});
        continue;
      }
      bool wide = !item.stack.empty() && item.stack[0].has_lanes();
      if ((item.aligned || wide) && out_.stack_bytes % 16) {
        if (!wide) on_stack.push_back({i64, {}});
        out_.stack_bytes += 8;
      }
      for (unsigned p = 0; p < item.stack.size(); ++p) {
        on_stack.push_back({item.stack[p], {static_cast<int>(k), p}});
        out_.stack_bytes += wide ? 16 : 8;
      }
    }
    // What is on the stack must find no register, or arrivals() would give it one.
    bool wants_whole =
        std::any_of(on_stack.begin(), on_stack.end(), [](auto& p) { return !p.first.is_float(); });
    for (; wants_whole && left.whole > 0; --left.whole) add(i64, {});
    for (auto& [type, part] : on_stack) add(type, part);
  }

  void add(Type t, PassedPart part) {
    out_.legal.parameters.push_back(t);
    out_.parameters.push_back(part);
  }

  const Convention& convention_;
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
