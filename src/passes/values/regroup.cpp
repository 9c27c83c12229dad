// regroup: lanes that are taken out, computed one by one and put together again are computed together.
//
// Idea: the numbers that `splat` and `put` bring together are followed to what makes them. Where the same
// operation makes all of them, it is done on lanes, and its operands are brought together in the same way,
// until they are lanes of one or two values, one number in all lanes, or constants. All of it goes well or
// nothing changes. What is computed together has no other use, so that nothing is computed twice.
// O(instructions): a number belongs to one group at most.
#include <fmt/format.h>

#include <algorithm>
#include <optional>

#include "porphyry/ir/edit.h"
#include "porphyry/ir/pen.h"
#include "porphyry/optimize/pass.h"
#include "porphyry/print/print.h"

namespace porphyry {
namespace {

constexpr unsigned most_lanes = 64, most_depth = 16;

class Regrouper {
 public:
  explicit Regrouper(FunctionContext& c) : c_(c), f_(c.function), pen_(c.module, c.function) {}

  void run() {
    for (Block b : f_.blocks())
      // The last first: it has all lanes.
      for (Instruction i = f_.last(b), before; i.exists(); i = before) {
        before = f_.previous(i);
        if (f_.op(i) == Op::Put && !goes_into_another(i)) group(i);
      }
  }

 private:
  bool goes_into_another(Instruction put) const {
    const Value v = f_.result(put);
    if (!f_.has_one_use(v)) return false;
    const auto use = f_.use(f_.first_use(v));
    return !use.edge.exists() && f_.op(use.user) == Op::Put && f_.block(use.user) == f_.block(put);
  }

  // A number: a value, or lane `lane` of one with lanes.
  struct Part {
    Value v;
    uint16_t lane = 0;
    bool of_lanes = false;
    bool operator==(const Part&) const = default;
  };
  using Parts = std::vector<Part>;

  Part part(Value v) const {
    const Instruction d = f_.definition(v);
    if (d.exists() && f_.op(d) == Op::Lane)
      if (auto k = number_of_lane(d)) return {f_.operand(d, 0), *k, true};
    return {v};
  }
  std::optional<uint16_t> number_of_lane(Instruction i) const {
    const Value k = f_.operand(i, 1);
    if (!f_.is_constant(k) || f_.constant_bits(k) >= f_.type(f_.operand(i, 0)).lanes()) return {};
    return static_cast<uint16_t>(f_.constant_bits(k));
  }

  // What the lanes of a value are that begins with `root`, which is the last `put`; nothing when that is not
  // known.
  std::optional<Parts> parts_of(Instruction root) const {
    const unsigned lanes = f_.type(f_.result(root)).lanes();
    std::vector<std::optional<Part>> found(lanes);
    Value v = f_.result(root);
    for (Instruction d = root; d.exists() && f_.op(d) == Op::Put; d = f_.definition(v)) {
      if (d != root && !goes_into_another(d)) break;
      const auto k = number_of_lane(d);
      if (!k) return {};
      if (!found[*k]) found[*k] = part(f_.operand(d, 2));
      v = f_.operand(d, 0);
    }
    const Instruction first = f_.definition(v);
    const bool splat = first.exists() && f_.op(first) == Op::Splat && f_.has_one_use(v);
    Parts out;
    for (unsigned k = 0; k < lanes; ++k)
      out.push_back(found[k] ? *found[k]
                    : splat  ? part(f_.operand(first, 0))
                             : Part{v, static_cast<uint16_t>(k), true});
    return out;
  }

  // ---- the plan: rows, operands first ---------------------------------------------------------------------

  struct Row {
    Type type;
    Instruction like;  // an operation, and the rows of its operands
    std::vector<size_t> operands;
    Value from, second;  // else lanes of these in this order, or a number in all lanes
    std::vector<uint16_t> order;
    std::vector<Bits> constants;  // or constants
  };
  struct Plan {
    Block block;  // in which all of it stands
    std::vector<Row> rows;
  };

  bool is_constant(const Part& p) const { return f_.is_constant(p.v); }
  Bits constant(const Part& p) const { return f_.constant_word(p.v, p.of_lanes ? p.lane : 0); }

  // The row that brings these together, which are of one type; nothing when they do not come together.
  std::optional<size_t> add_to(Plan& plan, const Parts& parts, Type type, unsigned depth) const {
    if (depth == most_depth) return {};
    Row row{.type = type};
    if (std::ranges::all_of(parts, [&](const Part& p) { return is_constant(p); })) {
      for (const Part& p : parts) row.constants.push_back(constant(p));
    } else if (std::ranges::all_of(parts, [&](const Part& p) { return p == parts[0]; }) &&
               !parts[0].of_lanes) {
      row.from = parts[0].v;
    } else if (std::ranges::all_of(parts, [&](const Part& p) { return p.of_lanes; })) {
      if (!plan_shuffle(parts, row)) return {};
    } else if (!plan_operation(parts, depth, row, plan)) {
      return {};
    }
    plan.rows.push_back(std::move(row));
    return plan.rows.size() - 1;
  }

  bool plan_shuffle(const Parts& parts, Row& row) const {
    row.from = parts[0].v;
    for (const Part& p : parts) {
      if (p.v != row.from && !row.second.exists()) row.second = p.v;
      if ((p.v != row.from && p.v != row.second) || f_.type(p.v) != f_.type(row.from)) return false;
      row.order.push_back(static_cast<uint16_t>(p.v == row.from ? p.lane : p.lane + f_.type(p.v).lanes()));
    }
    return true;
  }

  bool plan_operation(const Parts& parts, unsigned depth, Row& row, Plan& plan) const {
    const Instruction first = parts[0].of_lanes ? Instruction() : f_.definition(parts[0].v);
    if (!first.exists() || !may_be_on_lanes(first)) return false;
    for (const Part& p : parts) {
      const Instruction d = p.of_lanes ? Instruction() : f_.definition(p.v);
      if (!d.exists() || f_.op(d) != f_.op(first) || !f_.has_one_use(p.v) ||
          f_.permits(d) != f_.permits(first) || f_.promises(d) != f_.promises(first) ||
          f_.block(d) != plan.block)
        return false;
    }
    row.like = first;
    for (size_t k = 0; k < f_.operand_count(first); ++k) {
      const Type element = f_.type(f_.operand(first, k));
      Parts operands;
      for (const Part& p : parts) {
        const Value v = f_.operand(f_.definition(p.v), k);
        if (f_.type(v) != element) return false;
        operands.push_back(part(v));
      }
      const auto at = add_to(plan, operands, element.with_lanes(row.type.lanes()), depth + 1);
      if (!at) return false;
      row.operands.push_back(*at);
    }
    return true;
  }
  // Pointers have no lanes to compute with, and those of bools are dearer than one.
  bool may_be_on_lanes(Instruction i) const {
    const OperationInfo& row = info(f_.op(i));
    auto fits = [&](Value v) {
      const Type t = f_.type(v);
      return (t.is_integer() || t.is_float()) && !t.has_lanes();
    };
    for (Value v : f_.operands(i))
      if (!fits(v)) return false;
    return row.layout <= Layout::Convert && row.is_pure() && fits(f_.result(i));
  }

  // ---- as planned -----------------------------------------------------------------------------------------

  Value write(const Row& row, const std::vector<Value>& made) {
    if (!row.constants.empty()) return constant_from(f_, row.type, row.constants);
    if (row.like.exists()) {
      std::vector<Value> operands;
      for (size_t k : row.operands) operands.push_back(made[k]);
      return f_.result(pen_.put({.op = f_.op(row.like),
                                 .operands = operands,
                                 .results = {&row.type, 1},
                                 .promises = f_.promises(row.like),
                                 .permits = f_.permits(row.like)}));
    }
    if (row.order.empty()) return pen_.splat(row.type, row.from);
    bool as_it_is = f_.type(row.from) == row.type;
    for (size_t k = 0; k < row.order.size(); ++k) as_it_is &= row.order[k] == k;
    return as_it_is ? row.from
                    : pen_.shuffle(row.from, row.second.exists() ? row.second : row.from, row.order);
  }

  void group(Instruction root) {
    const Value old = f_.result(root);
    const Type t = f_.type(old);
    if (t.lanes() > most_lanes || t.is_bool() || t.is_pointer()) return;
    const auto parts = parts_of(root);
    Plan plan{f_.block(root), {}};
    if (!parts || !add_to(plan, *parts, t, 0)) return;
    const auto operations = std::ranges::count_if(plan.rows, [](const Row& r) { return r.like.exists(); });
    if (operations == 0) return;
    pen_.before(root).from(f_.position(root));
    std::vector<Value> made;
    for (const Row& row : plan.rows) made.push_back(write(row, made));
    if (c_.wants_notes())
      c_.done(f_.position(root), c_.name(old), fmt::format("its {} lanes are computed together", t.lanes()),
              "the same operations make each of them",
              {{"operation", write_text(c_.module, f_, root)}, {"operations", std::to_string(operations)}});
    hand_name_over(f_, old, made.back());
    f_.replace_uses(old, made.back());
  }

  FunctionContext& c_;
  Function& f_;
  Pen pen_;
};

}  // namespace

void regroup(FunctionContext& c) { Regrouper(c).run(); }

}  // namespace porphyry
