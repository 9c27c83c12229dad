// join: neighbouring accesses become one. A sum of loads, each shifted to where the one before ends, is a
// load of all their bytes, with these turned round where the highest lie first; stores of neighbouring parts
// of a value, or of constants, are one store. Nothing may write between the loads, and nothing may happen
// between the stores. A sum of a value's own bytes, each at the other end, is that value turned round.
// O(instructions), with at most 16 parts to a sum and to a run of stores.
#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <optional>

#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr size_t most_parts = 16;
constexpr unsigned most_steps = 64;  // into what a sum is made of

class Joiner {
 public:
  explicit Joiner(FunctionContext& c) : c_(c), f_(c.function), pen_(c.module, c.function) {}

  void run() {
    for (Block b : f_.blocks()) {
      // The last first, so that a sum is met before the sums in it.
      for (Instruction i = f_.last(b), before; i.exists(); i = before) {
        before = f_.previous(i);
        if (is_sum(i) && !turned(i)) loads(i);
      }
      stores(b);
    }
  }

 private:
  bool is_little() const { return c_.module.layout.order == ByteOrder::Little; }
  static bool is_whole(unsigned bits) { return bits == 16 || bits == 32 || bits == 64; }

  // ---- loads ----------------------------------------------------------------------------------------------

  // Parts of a sum share no bits, so that it does not matter of what kind it is.
  bool is_sum(Instruction i) const {
    const Op op = f_.op(i);
    return (op == Op::Or || op == Op::Xor || op == Op::Add) && f_.type(f_.result(i)).is_integer() &&
           !f_.type(f_.result(i)).has_lanes();
  }

  struct Part {
    Instruction load;
    unsigned bits, at;  // how many, and from which bit of the sum on
  };
  // What a value adds to the sum from bit `at` on, below bit `end`; false when that is no load.
  bool gather(Value v, unsigned at, unsigned end, Block b, std::vector<Part>& parts, unsigned& steps) const {
    if (steps == 0) return false;
    --steps;
    if (f_.is_constant(v)) return f_.constant_bits(v) == 0;
    const Instruction d = f_.definition(v);
    if (!d.exists() || f_.block(d) != b || !f_.has_one_use(v) || parts.size() == most_parts) return false;
    const Type t = f_.type(v);
    const Op op = f_.op(d);
    if (is_sum(d))
      return gather(f_.operand(d, 0), at, end, b, parts, steps) &&
             gather(f_.operand(d, 1), at, end, b, parts, steps);
    if (op == Op::Shl && f_.is_constant(f_.operand(d, 1))) {
      const auto by = static_cast<uint64_t>(f_.constant_bits(f_.operand(d, 1)));
      return by < t.bits() && gather(f_.operand(d, 0), at + static_cast<unsigned>(by), end, b, parts, steps);
    }
    if (op == Op::WidenU || op == Op::WidenS) {
      const unsigned bits = f_.type(f_.operand(d, 0)).bits();
      // Signs that are shifted out do not matter.
      if (at + bits > end || (op == Op::WidenS && at + bits != end)) return false;
      return gather(f_.operand(d, 0), at, at + bits, b, parts, steps);
    }
    if (op != Op::Load || !t.is_integer() || t.has_lanes() || t.bits() % 8 || at + t.bits() > end)
      return false;
    const Address& a = f_.address(d);
    if (a.is_volatile || a.masked || a.early || a.as_unwritten) return false;
    parts.push_back({d, t.bits(), at});
    return true;
  }

  bool same_place(Instruction a, size_t base_a, Instruction b, size_t base_b) const {
    const Address &x = f_.address(a), &y = f_.address(b);
    if (f_.operand(a, base_a) != f_.operand(b, base_b) || x.indexed != y.indexed || x.guarded != y.guarded)
      return false;
    return !x.indexed || (x.scale == y.scale && f_.operand(a, base_a + 1) == f_.operand(b, base_b + 1));
  }

  void loads(Instruction root) {
    const Type whole = f_.type(f_.result(root));
    const Block b = f_.block(root);
    std::vector<Part> parts;
    unsigned steps = most_steps;
    if (!is_whole(whole.bits()) || whole.bits() > c_.module.layout.pointer_bits) return;
    for (Value v : f_.operands(root))
      if (!gather(v, 0, whole.bits(), b, parts, steps)) return;
    if (parts.size() < 2) return;
    std::sort(parts.begin(), parts.end(), [](const Part& x, const Part& y) { return x.at < y.at; });
    unsigned end = 0;
    for (const Part& p : parts) {
      if (p.at != end || !same_place(p.load, 0, parts[0].load, 0)) return;
      end += p.bits;
    }
    if (end != whole.bits()) return;
    const bool upward = follow(parts, true), downward = !upward && follow(parts, false);
    const bool turns = upward != is_little();
    if ((!upward && !downward) || (turns && parts[0].bits != 8)) return;
    auto [first, last] = in_order(parts);
    for (Instruction i = first; i != last; i = f_.next(i))
      if (info(f_.op(i)).writes_memory())
        return declined(root, "something between its loads may write", "loads that stand together");
    const Instruction lowest = upward ? parts.front().load : parts.back().load;
    pen_.before(last).from(f_.position(root));
    Value v = wide_load(lowest, whole);
    pen_.before(root);
    if (turns) v = pen_.write(Op::ReverseBytes, {v});
    if (c_.wants_notes())
      c_.done(f_.position(root), c_.name(f_.result(root)), fmt::format("{} loads became one", parts.size()),
              "their bytes are neighbours", {{"operation", write_text(c_.module, f_, root)}});
    hand_name_over(f_, f_.result(root), v);
    f_.replace_uses(f_.result(root), v);
    f_.erase(root);
  }
  // Whether the parts lie one behind the other, the lowest bits first, or last.
  bool follow(const std::vector<Part>& parts, bool lowest_first) const {
    bool all_bytes = true;
    for (size_t k = 1; k < parts.size(); ++k) {
      const int64_t before = f_.address(parts[k - 1].load).offset, here = f_.address(parts[k].load).offset;
      if (lowest_first ? here != before + parts[k - 1].bits / 8 : here != before - parts[k].bits / 8)
        return false;
      all_bytes &= parts[k].bits == 8 && parts[k - 1].bits == 8;
    }
    return lowest_first == is_little() || all_bytes;
  }
  std::pair<Instruction, Instruction> in_order(const std::vector<Part>& parts) const {
    Instruction first = parts[0].load, last = first;
    for (const Part& p : parts) {
      if (f_.comes_before(p.load, first)) first = p.load;
      if (f_.comes_before(last, p.load)) last = p.load;
    }
    return {first, last};
  }
  Value wide_load(Instruction like, Type t) {
    Address a = f_.address(like);
    a.kind = {};
    std::vector<Value> operands;
    for (Value v : f_.operands(like)) operands.push_back(v);
    return pen_.load(t, a, operands);
  }

  // ---- bytes of one value ---------------------------------------------------------------------------------

  // What a value adds to a sum: some bits of `of`, moved up by `up`, or down where that is negative.
  struct Bytes {
    Value of;
    int up = 0;
    Bits mask = 0;  // which bits of the sum
  };
  std::optional<Bytes> bytes_of(Value v) const {
    const unsigned width = f_.type(v).bits();
    Bytes out{v, 0, mask_of(width)};
    for (int steps = 0; steps < 2; ++steps) {
      const Instruction d = f_.definition(out.of);
      if (!d.exists() || f_.operand_count(d) != 2 || !f_.is_constant(f_.operand(d, 1))) break;
      const Bits n = f_.constant_bits(f_.operand(d, 1));
      if (f_.op(d) == Op::And) {
        out.mask &= out.up >= 0 ? n << out.up : n >> -out.up;
      } else if ((f_.op(d) == Op::Shl || f_.op(d) == Op::ShrU) && n < width) {
        if (out.up) return std::nullopt;
        const Bits all = mask_of(width);
        out.up = f_.op(d) == Op::Shl ? static_cast<int>(n) : -static_cast<int>(n);
        out.mask &= out.up > 0 ? all << out.up & all : all >> -out.up;
      } else {
        break;
      }
      out.of = f_.operand(d, 0);
    }
    return out;
  }
  bool gather_bytes(Value v, Block b, std::vector<Bytes>& out, unsigned& steps) const {
    if (steps == 0) return false;
    --steps;
    const Instruction d = f_.definition(v);
    if (d.exists() && f_.block(d) == b && is_sum(d) && f_.has_one_use(v))
      return gather_bytes(f_.operand(d, 0), b, out, steps) && gather_bytes(f_.operand(d, 1), b, out, steps);
    const auto bytes = bytes_of(v);
    if (!bytes || bytes->up % 8 || out.size() == most_parts) return false;
    out.push_back(*bytes);
    return true;
  }
  bool turned(Instruction root) {
    const Type t = f_.type(f_.result(root));
    if (!is_whole(t.bits()) || f_.operand_count(root) != 2) return false;
    std::vector<Bytes> all;
    unsigned steps = most_steps;
    for (Value v : f_.operands(root))
      if (!gather_bytes(v, f_.block(root), all, steps)) return false;
    for (unsigned at = 0; at < t.bits(); at += 8) {
      const Bits here = Bits(0xff) << at;
      unsigned found = 0;
      for (const Bytes& b : all) {
        if (!(b.mask & here)) continue;
        const bool from_the_other_end = static_cast<int>(at) - b.up == static_cast<int>(t.bits() - 8 - at);
        if ((b.mask & here) != here || b.of != all[0].of || !from_the_other_end) return false;
        ++found;
      }
      if (found != 1) return false;
    }
    pen_.before(root).from(f_.position(root));
    const Value v = pen_.write(Op::ReverseBytes, {all[0].of});
    if (c_.wants_notes())
      c_.done(f_.position(root), c_.name(f_.result(root)), "the sum became its value turned round",
              "it puts each byte to the other end", {{"operation", write_text(c_.module, f_, root)}});
    hand_name_over(f_, f_.result(root), v);
    f_.replace_uses(f_.result(root), v);
    f_.erase(root);
    return true;
  }

  // ---- stores ---------------------------------------------------------------------------------------------

  bool may_join(Instruction i) const {
    if (f_.op(i) != Op::Store) return false;
    const Type t = f_.type(f_.operand(i, 0));
    const Address& a = f_.address(i);
    // A guarded one that traps shows those before it.
    return !a.is_volatile && !a.masked && !a.guarded && !t.has_lanes() && (t.is_integer() || t.is_float()) &&
           (t.bits() == 8 || t.bits() == 16 || t.bits() == 32);
  }

  void stores(Block b) {
    std::vector<Instruction> run;
    for (Instruction i = f_.first(b), next; i.exists(); i = next) {
      next = f_.next(i);
      const OperationInfo& row = info(f_.op(i));
      const bool joins = may_join(i) && (run.empty() || (same_place(i, 1, run[0], 1) && !overlaps(i, run)));
      if (!joins && (row.reads_memory() || row.writes_memory() || row.ends_block() || f_.has_effect(i))) {
        finish(run);
        run.clear();
      }
      if (may_join(i)) run.push_back(i);
      if (run.size() == most_parts) finish(run), run.clear();
    }
  }
  int64_t start(Instruction store) const { return f_.address(store).offset; }
  int64_t size(Instruction store) const { return f_.type(f_.operand(store, 0)).bits() / 8; }
  bool overlaps(Instruction i, const std::vector<Instruction>& run) const {
    return std::any_of(run.begin(), run.end(), [&](Instruction s) {
      return start(i) < start(s) + size(s) && start(s) < start(i) + size(i);
    });
  }

  void finish(std::vector<Instruction> run) {
    if (run.size() < 2) return;
    const Instruction last = run.back();
    bool is_spent = false;
    std::sort(run.begin(), run.end(), [&](Instruction a, Instruction b) { return start(a) < start(b); });
    for (size_t k = 0; k < run.size();) {
      const std::span<const Instruction> rest = std::span(run).subspan(k);
      const size_t taken = join_from(rest, last);
      for (Instruction s : rest.first(taken)) s == last ? void(is_spent = true) : f_.erase(s);
      k += std::max<size_t>(taken, 1);
    }
    if (is_spent) f_.erase(last);  // it marked the place for the others
  }
  // The widest store that begins with the first of these; how many become it, 0 when none does.
  size_t join_from(std::span<const Instruction> rest, Instruction last) {
    for (int64_t bytes : {8, 4, 2}) {
      if (8 * bytes > c_.module.layout.pointer_bits) continue;
      size_t count = 0;
      int64_t end = start(rest[0]);
      while (count < rest.size() && start(rest[count]) == end && end - start(rest[0]) < bytes)
        end += size(rest[count++]);
      if (count < 2 || end - start(rest[0]) != bytes) continue;
      if (const Value v = whole(rest.first(count), static_cast<unsigned>(8 * bytes), last); v.exists()) {
        write(rest.first(count), v, last);
        return count;
      }
    }
    return 0;
  }

  // What the stores write together, as one number; nothing when that is not known.
  Value whole(std::span<const Instruction> stores, unsigned bits, Instruction last) {
    Bits number = 0;
    bool constant = true;
    for (Instruction s : stores) {
      const Value v = f_.operand(s, 0);
      constant &= f_.is_constant(v);
      if (!constant) break;
      const auto from = static_cast<unsigned>(8 * (start(s) - start(stores[0])));
      const auto width = static_cast<unsigned>(8 * size(s));
      number |= f_.constant_bits(v) << (is_little() ? from : bits - from - width);
    }
    if (constant) return f_.constant(Type::integer(bits), number);
    for (bool lowest_first : {true, false})
      if (const Value v = parts_of(stores, bits, lowest_first); v.exists()) {
        const bool turns = lowest_first != is_little();
        if (turns && size(stores[0]) != 1) continue;
        pen_.before(last).from(f_.position(last));
        const Value all = f_.type(v).bits() == bits ? v : pen_.narrow(Type::integer(bits), v);
        return turns ? pen_.write(Op::ReverseBytes, {all}) : all;
      }
    return {};
  }
  // The value of which the stores write the lowest bits, part by part.
  Value parts_of(std::span<const Instruction> stores, unsigned bits, bool lowest_first) const {
    Value out;
    for (Instruction s : stores) {
      const auto from = static_cast<unsigned>(8 * (start(s) - start(stores[0])));
      const unsigned at = lowest_first ? from : bits - from - static_cast<unsigned>(8 * size(s));
      const Value of = part_at(f_.operand(s, 0), at);
      if (!of.exists() || (out.exists() && of != out)) return {};
      out = of;
    }
    return f_.type(out).bits() >= bits && f_.type(out).bits() <= 64 ? out : Value();
  }
  // x, where v is the bits of x from `at` on.
  Value part_at(Value v, unsigned at) const {
    const Instruction d = f_.definition(v);
    if (!d.exists() || f_.op(d) != Op::Narrow || f_.type(v).has_lanes()) return {};
    const Value x = f_.operand(d, 0);
    if (at == 0) return x;
    const Instruction shift = f_.definition(x);
    const bool shifts = shift.exists() && (f_.op(shift) == Op::ShrU || f_.op(shift) == Op::ShrS) &&
                        f_.is_constant(f_.operand(shift, 1)) && f_.constant_bits(f_.operand(shift, 1)) == at;
    // Of a signed shift only what comes from x itself.
    if (!shifts || at + f_.type(v).bits() > f_.type(x).bits()) return {};
    return f_.operand(shift, 0);
  }

  void write(std::span<const Instruction> stores, Value v, Instruction last) {
    Address a = f_.address(stores[0]);
    a.kind = {};
    std::vector<Value> operands;
    for (size_t k = 1; k < f_.operand_count(stores[0]); ++k) operands.push_back(f_.operand(stores[0], k));
    pen_.before(last).from(f_.position(stores[0]));
    if (c_.wants_notes())
      c_.done(f_.position(stores[0]), write_text(c_.module, f_, stores[0]),
              fmt::format("{} stores became one", stores.size()), "their bytes are neighbours");
    pen_.store(v, a, operands);
  }

  void declined(Instruction root, const char* why, const char* unlock) {
    if (c_.wants_notes())
      c_.declined(f_.position(root), c_.name(f_.result(root)), "the loads stay apart", why, unlock);
  }

  FunctionContext& c_;
  Function& f_;
  Pen pen_;
};

}  // namespace

void join(FunctionContext& c) { Joiner(c).run(); }

}  // namespace porphyry
