// A program, and faults to plant in it: what a broken pass may do to an instruction.
#pragma once

#include <fmt/format.h>

#include <functional>

#include "porphyry/ir/module.h"

namespace porphyry::testing {

inline constexpr const char* victim = R"(module victim

data seen align 8 holds i64: 0

func numbers(a: i32, b: i32, c: i8) -> i32, i32, i32 {
enter:
  s  = add a, b
  d  = sub s, 7
  m  = mul d, 3
  n  = and m, a
  o  = or n, b
  x  = xor o, 21
  l  = shl x, 3
  u  = shr.u l, 2
  v  = shr.s l, 1
  w  = widen.s i32 c
  z  = widen.u i32 c
  lo = min.s u, v
  hi = max.s w, b
  lu = min.u w, b
  hu = max.u a, w
  t1 = add lo, hi
  t2 = add lu, hu
  t3 = xor z, u
  r  = rotl t1, 5
  q  = neg t2
  return r, q, t3
}

func divided(a: i32, b: i32) -> i32, i32, i32, i32 {
enter:
  e  = or b, 1
  p  = and e, 31
  q  = div.s a, p
  r  = rem.s a, p
  qu = div.u a, p
  ru = rem.u a, p
  return q, r, qu, ru
}

func compared(a: i32, b: i32) -> i32 {
enter:
  lt = lt.s a, b
  lu = lt.u a, b
  le = le.s a, 4
  ge = ge.u b, 3
  eq = eq a, b
  x  = and lt, le
  y  = or lu, ge
  p  = pick x, a, 77
  w  = widen.u i32 y
  k  = widen.u i32 eq
  s  = sub p, w
  r  = add s, k
  return r
}

func stored(at: ptr, n: i32) -> i32 {
enter:
  some = and n, 15
  go round(0, 0)
round(k: i32, sum: i32):
  deep = widen.u i64 k
  p    = at [at + deep*4]
  v    = load i32 [p + 4]
  w    = load i16 [p]
  x    = widen.s i32 w
  both = add v, x
  store both, [p + 8]
  sum2 = add sum, both
  k2   = add k, 1
  more = le.s k2, some
  when more go round(k2, sum2) else done
done:
  place = address of seen
  wide  = widen.s i64 sum2
  store wide, [place]
  return sum2
}

func measured(a: f64, b: f64) -> f64, f64, i32 {
enter:
  s = add a, b
  d = sub s, 2.5
  p = mul d, a
  m = min p, b
  g = lt a, b
  f = floor m
  w = pick g, f, p
  i = to_int.s i32 f
  return w, m, i
}
)";

using Plant = std::function<bool(Module&, Function&)>;
struct Fault {
  std::string name;
  Plant plant;  // whether it was planted
};

template <typename Visit>  // until it says true
bool first_instruction(Function& f, Visit visit) {
  for (Block b : f.blocks())
    for (Instruction i : f.instructions(b))
      if (visit(i)) return true;
  return false;
}

// The first instruction of one operation becomes another one.
inline Fault instead(Op from, Op to) {
  return {fmt::format("{} instead of {}", info(to).name, info(from).name), [=](Module&, Function& f) {
            return first_instruction(f, [&](Instruction i) {
              if (f.op(i) != from) return false;
              std::vector<Value> operands;
              for (Value v : f.operands(i)) operands.push_back(v);
              Type t = f.type(f.result(i));
              Instruction now = f.insert_before(i, {.op = to, .operands = operands, .results = {&t, 1}});
              f.replace_uses(f.result(i), f.result(now));
              f.erase(i);
              return true;
            });
          }};
}

inline Fault swapped(Op op, size_t a, size_t b) {
  return {fmt::format("operands {} and {} of {} change places", a, b, info(op).name),
          [=](Module&, Function& f) {
            return first_instruction(f, [&](Instruction i) {
              if (f.op(i) != op) return false;
              Value one = f.operand(i, a), two = f.operand(i, b);
              f.set(f.operand_slot(i, a), two);
              f.set(f.operand_slot(i, b), one);
              return one != two;
            });
          }};
}

// The first constant operand of an operation is one more.
inline Fault one_more(Op op) {
  return {fmt::format("a constant of {} is one more", info(op).name), [=](Module&, Function& f) {
            return first_instruction(f, [&](Instruction i) {
              for (size_t k = 0; f.op(i) == op && k < f.operand_count(i); ++k)
                if (Value v = f.operand(i, k); f.is_constant(v) && f.type(v).is_integer()) {
                  f.set(f.operand_slot(i, k), f.constant(f.type(v), f.constant_word(v) + 1));
                  return true;
                }
              return false;
            });
          }};
}

inline Fault moved_address(Op op, int64_t by) {
  return {fmt::format("the address of a {} is {} bytes off", info(op).name, by), [=](Module&, Function& f) {
            return first_instruction(f, [&](Instruction i) {
              if (f.op(i) != op) return false;
              Address a = f.address(i);
              a.offset += by;
              f.set_address(i, a);
              return true;
            });
          }};
}

inline Fault dropped(Op op) {
  return {fmt::format("a {} is lost", info(op).name), [=](Module&, Function& f) {
            return first_instruction(f, [&](Instruction i) {
              if (f.op(i) != op) return false;
              for (Value v : f.results(i)) f.replace_uses(v, f.operand(i, 0));
              f.erase(i);
              return true;
            });
          }};
}

inline std::vector<Fault> faults() {
  std::vector<Fault> out;
  for (auto [from, to] : std::initializer_list<std::pair<Op, Op>>{
           {Op::Add, Op::Sub},   {Op::Sub, Op::Add},       {Op::Mul, Op::Add},       {Op::And, Op::Or},
           {Op::Or, Op::Xor},    {Op::Xor, Op::Or},        {Op::Shl, Op::ShrU},      {Op::ShrU, Op::ShrS},
           {Op::ShrS, Op::ShrU}, {Op::WidenS, Op::WidenU}, {Op::WidenU, Op::WidenS}, {Op::MinS, Op::MinU},
           {Op::MaxS, Op::MaxU}, {Op::MinU, Op::MinS},     {Op::MaxU, Op::MaxS},     {Op::RotL, Op::RotR},
           {Op::Neg, Op::Not},   {Op::DivS, Op::DivU},     {Op::DivU, Op::DivS},     {Op::RemS, Op::RemU},
           {Op::RemU, Op::RemS}, {Op::DivS, Op::RemS},     {Op::LtS, Op::LeS},       {Op::LtS, Op::LtU},
           {Op::LtU, Op::LtS},   {Op::LeS, Op::LtS},       {Op::GeU, Op::GtU},       {Op::GeU, Op::GeS},
           {Op::Eq, Op::Ne},     {Op::Min, Op::Max},       {Op::Floor, Op::Ceil},    {Op::Lt, Op::Ge}})
    out.push_back(instead(from, to));
  out.push_back(swapped(Op::Sub, 0, 1));
  out.push_back(swapped(Op::Pick, 1, 2));
  out.push_back(swapped(Op::DivS, 0, 1));
  for (Op op : {Op::Sub, Op::Mul, Op::Shl, Op::And, Op::LeS}) out.push_back(one_more(op));
  out.push_back(moved_address(Op::Load, 4));
  out.push_back(moved_address(Op::Store, -4));
  out.push_back(dropped(Op::Store));
  out.push_back(dropped(Op::Neg));
  return out;
}

}  // namespace porphyry::testing
