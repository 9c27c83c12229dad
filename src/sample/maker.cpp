#include "maker.h"

#include "porphyry/base/rounding.h"

namespace porphyry::sample {

Maker::Maker(Realm& realm, const SampleOptions& options)
    : random_(options.seed * 0x9e3779b97f4a7c15 + 1),
      options_(options),
      out_{std::make_unique<Module>(realm, "sample"), {}, {}, {}},
      module_(*out_.module) {}

Sample Maker::run() {
  set_up_module();
  make_apart();
  make_recursive();
  size_t count = 1 + below(options_.functions);
  for (size_t k = 0; k < count; ++k) make_function(k + 1 == count);
  out_.main = functions_.back();
  out_.store = items_.store;
  for (size_t k = 1; k < module_.function(out_.main).signature().parameters.size(); ++k) {
    Type t = module_.function(out_.main).signature().parameters[k];
    for (unsigned lane = 0; lane < t.lanes(); ++lane) {
      Bits w = interesting(t.element());
      out_.arguments.push_back(static_cast<uint64_t>(w));
      if (t.words_per_lane() == 2) out_.arguments.push_back(static_cast<uint64_t>(w >> 64));
    }
  }
  return std::move(out_);
}

void Maker::set_up_module() {
  module_.sources = {{1, "frost.fml"}, {2, "posts.fml"}};
  DataItem store{.align = 64};
  store.pieces.push_back({.kind = DataPiece::Kind::Zero, .zero_bytes = Sample::piece_bytes});
  items_.store = module_.add_data("store", std::move(store));
  bool big = chance(25), narrow = chance(15);
  module_.layout =
      options_.layout.value_or(MemoryLayout{big ? ByteOrder::Big : ByteOrder::Little, narrow ? 32u : 64u});
  Realm& realm = module_.realm();
  Kinds& kinds = module_.kinds;
  KindTree tree = kinds.add_tree(realm.name("orchard"));
  Kind cell = kinds.add_kind({realm.name("cell"), tree});
  Kind count = kinds.add_kind({realm.name("count"), tree, cell, 4});
  Kind degree = kinds.add_kind({realm.name("degree"), tree, cell, 4});
  Record reading = kinds.add_record({realm.name("Reading"),
                                     tree,
                                     12,
                                     {{0, realm.name("tally"), count, {}},
                                      {4, realm.name("dry"), degree, {}},
                                      {8, realm.name("wet"), degree, {}}}});
  Record night =
      kinds.add_record({realm.name("Night"),
                        tree,
                        40,
                        {{0, realm.name("first"), {}, reading}, {16, realm.name("last"), {}, reading}}});
  for (uint16_t which : {0, 1})
    for (uint16_t member : {0, 1, 2}) items_.paths.push_back(*kinds.path(night, {which, member}));
  for (uint16_t member : {0, 1, 2}) items_.paths.push_back(*kinds.path(reading, {member}));
  for (Kind k : {count, degree, cell}) items_.paths.push_back(kinds.path(k));
  DataItem item{.align = 16};
  item.pieces.push_back({.kind = DataPiece::Kind::Zero, .zero_bytes = 40});
  items_.night = module_.add_data("night", std::move(item));
  DataItem limits{.is_const = true, .align = 8};
  limits.pieces.push_back(
      {.kind = DataPiece::Kind::Numbers, .type = Type::integer(32), .numbers = {3, 5, 8, 13}});
  items_.limits = module_.add_data("limits", std::move(limits));
  module_[items_.limits].section = "orchard";
  module_[items_.night].is_local = true;
}

// ---- types, constants, values -----------------------------------------------------------------------------

Type Maker::any_integer(bool scalar) {
  static const unsigned usual[] = {8, 16, 32, 64},
                        odd[] = {2, 3, 7, 12, 24, 31, 33, 48, 63, 65, 96, 100, 127, 128};
  bool plain = chance(60);
  Type t = Type::integer(plain ? usual[below(4)] : odd[below(std::size(odd))]);
  if (scalar || !chance(25)) return t;
  static const unsigned lanes[] = {2, 3, 4, 8, 16};
  return t.with_lanes(lanes[below(5)]);
}

Type Maker::fresh_type() {
  if (options_.lanes && chance(options_.lanes)) {
    static const Type elements[] = {Type::integer(8), Type::integer(16), Type::integer(32), Type::integer(64),
                                    Type::f32(),      Type::f64(),       Type::boolean()};
    static const unsigned counts[] = {2, 3, 4, 4, 5, 8, 16, 17};
    return elements[below(std::size(elements))].with_lanes(counts[below(std::size(counts))]);
  }
  Type t;
  switch (below(9)) {
    case 0: t = Type::boolean(); break;
    case 1: t = Type::f32(); break;
    case 2: t = Type::f64(); break;
    default: return any_integer(false);
  }
  static const unsigned lanes[] = {2, 3, 4, 8};
  return !chance(20) ? t : t.with_lanes(lanes[below(4)]);
}

// Often the type of a value that is there, so that values meet.
Type Maker::any_type() {
  if (scope_.empty() || chance(40)) return fresh_type();
  return f_->type(scope_[below(scope_.size())]);
}

Bits Maker::interesting(Type t) {
  if (t.is_bool()) return below(2);
  if (t.is_float()) {
    static const double values[] = {0.0,   -0.0,  1.0,  -1.0,  0.5,   2.5,
                                    -3.75, 100.0, 1e10, -1e20, 1e-40, 65504.0};
    double d = values[below(std::size(values))];
    if (chance(5)) d = 1.0 / 0.0;
    return t.bits() == 32 ? std::bit_cast<uint32_t>(static_cast<float>(d)) : std::bit_cast<uint64_t>(d);
  }
  Bits v = any_word();
  switch (below(5)) {
    case 0: v = below(4); break;
    case 1: v = 0 - Bits(below(4)); break;
    case 2: v = Bits(1) << below(t.bits()); break;
    case 3: v >>= below(128); break;
    default: break;
  }
  return v & mask_of(t.bits());
}

Value Maker::constant(Type t) {
  if (!t.has_lanes() || chance(30)) return f_->constant(t, interesting(t.element()));
  std::vector<uint64_t> words;
  for (unsigned k = 0; k < t.lanes(); ++k) {
    Bits w = interesting(t.element());
    words.push_back(static_cast<uint64_t>(w));
    if (t.words_per_lane() == 2) words.push_back(static_cast<uint64_t>(w >> 64));
  }
  return f_->constant_lanes(t, words);
}

// A value of a type that is there, or a constant.
Value Maker::value(Type t) {
  Value fitting[8];
  size_t count = 0;
  for (size_t k = scope_.size(); k-- > 0 && count < 8;)
    if (f_->type(scope_[k]) == t) fitting[count++] = scope_[k];
  return count == 0 || chance(20) ? constant(t) : fitting[below(count)];
}

Value Maker::keep(Value v) {
  scope_.push_back(v);
  if (chance(30) && !f_->is_constant(v) && !f_->name(v).exists())
    f_->set_name(v, module_.realm().name(any_name()));
  return v;
}

// NaNs become a number: which one an operation gives is open.
Value Maker::canonical(Value v) {
  Type t = f_->type(v);
  if (!t.is_float()) return v;
  return pen_->pick(pen_->write(Op::Unordered, {v, v}), pen_->real(t, 1.0), v);
}

std::string Maker::any_name() {
  static const char* const stems[] = {"frost", "dew", "post", "row", "gap", "wind tree", "true", "7up"};
  return stems[below(std::size(stems))] + ("_" + std::to_string(name_count_++));
}

Position Maker::any_position() {
  auto row = [&] {
    return PositionRow{static_cast<uint32_t>(1 + below(2)), static_cast<uint32_t>(1 + below(90)),
                       static_cast<uint32_t>(1 + below(60))};
  };
  PositionRow here = row();
  if (chance(20)) {
    here.inlined_at = module_.add_position(row());
    if (chance(60)) here.inlined = module_.realm().name(any_name());
  }
  if (chance(10)) here.merged_with = module_.add_position(row());
  return module_.add_position(here);
}

// ---- control flow -----------------------------------------------------------------------------------------

void Maker::leave() {
  const auto& types = f_->signature().results;
  std::vector<Value> results;
  for (Type t : types) results.push_back(value(t));
  pen_->put({.op = Op::Return, .operands = results});
}

std::vector<Value> Maker::values_for(Block to) {
  std::vector<Value> out;
  for (Value p : f_->parameters(to)) out.push_back(value(f_->type(p)));
  return out;
}

// Goes to `to` with values for its parameters.
void Maker::go(Block to) {
  std::vector<Value> arguments = values_for(to);
  Function::Draft::Destination target{to, arguments};
  pen_->put({.op = Op::Go, .targets = {&target, 1}});
}

void Maker::branch(int depth) {
  Block yes = f_->add_block(), no = chance(80) ? f_->add_block() : Block(), join = f_->add_block();
  for (size_t k = below(4); k-- > 0;) f_->add_parameter(join, any_type());
  Value condition = value(Type::boolean());
  std::vector<Value> over;
  if (!no.exists()) over = values_for(join);
  Function::Draft::Destination targets[] = {{yes, {}}, {no.exists() ? no : join, over}};
  Function::Draft d{.op = Op::When, .operands = {&condition, 1}, .targets = targets};
  d.hint = static_cast<Function::Hint>(below(3));
  if (d.hint == Function::Hint::None && chance(30))
    targets[0].weight = below(1000), targets[1].weight = below(9);
  pen_->put(d);
  size_t outer = scope_.size();
  for (Block arm : {yes, no}) {
    if (!arm.exists()) continue;
    pen_->at_end(arm);
    statements(depth - 1);
    if (arm == yes && chance(6))
      leave();
    else if (arm == yes && chance(1))
      pen_->trap();
    else
      go(join);
    scope_.resize(outer);
  }
  pen_->at_end(join);
  for (Value p : f_->parameters(join)) keep(p);
}

void Maker::loop(int depth) {
  Block head = f_->add_block(), out = f_->add_block();
  Type i64 = Type::integer(64);
  Value i = f_->add_parameter(head, i64);
  std::vector<Value> carried, first{number(i64, 0)};
  for (size_t k = below(4); k-- > 0;) carried.push_back(f_->add_parameter(head, any_type()));
  for (Value c : carried) first.push_back(value(f_->type(c)));
  Function::Draft::Destination in{head, first};
  pen_->put({.op = Op::Go, .targets = {&in, 1}});
  size_t outer = scope_.size();
  pen_->at_end(head);
  keep(i);
  for (Value c : carried) keep(c);
  ++loops_around_;
  statements(depth - 1);
  --loops_around_;
  Value i2 = pen_->add(i, number(i64, 1));
  std::vector<Value> next{i2};
  for (Value c : carried) next.push_back(value(f_->type(c)));
  Value more = pen_->write(Op::LtS, {i2, number(i64, 1 + below(5))});
  std::vector<Value> leaving;
  if (Value result = value(any_type()); !f_->is_constant(result)) {
    f_->add_parameter(out, f_->type(result));
    leaving.push_back(result);
  }
  Function::Draft::Destination targets[] = {{head, next}, {out, leaving}};
  pen_->put({.op = Op::When, .operands = {&more, 1}, .targets = targets});
  scope_.resize(outer);
  pen_->at_end(out);
  for (Value p : f_->parameters(out)) keep(p);
}

// Cases that meet again behind it.
void Maker::choose(int depth) {
  Type t = any_integer(true);
  Value v = value(t);
  Block join = f_->add_block();
  for (size_t k = below(3); k-- > 0;) f_->add_parameter(join, any_type());
  std::vector<Pen::Case> cases;
  std::vector<Block> arms;
  const bool is_dense = t.bits() > 4 && chance(20);  // most of its cases meet at once
  size_t limit = is_dense ? 16 : t.bits() < 4 ? 3 : 6;
  for (size_t k = 0, count = below(limit); k < count; ++k) {
    Bits w = k < 3 ? Bits(k) : 0 - Bits(k);
    if (chance(is_dense ? 25 : 70)) {
      arms.push_back(f_->add_block());
      cases.push_back({w, arms.back()});
    } else {
      cases.push_back({w, join, values_for(join)});
    }
  }
  Block otherwise = f_->add_block();
  arms.push_back(otherwise);
  pen_->choose(v, cases, otherwise);
  size_t outer = scope_.size();
  for (Block arm : arms) {
    pen_->at_end(arm);
    statements(depth - 1);
    go(join);
    scope_.resize(outer);
  }
  pen_->at_end(join);
  for (Value p : f_->parameters(join)) keep(p);
}

// Two blocks that go to one another and are both entered from outside: no loop that one header rules. Fuel
// ends it.
void Maker::tangle() {
  Type i32 = Type::integer(32), t = any_type();
  Block a = f_->add_block(), b = f_->add_block(), out = f_->add_block();
  Value fuel[2], carried[2], result = f_->add_parameter(out, t);
  for (int k = 0; k < 2; ++k) {
    fuel[k] = f_->add_parameter(k ? b : a, i32);
    carried[k] = f_->add_parameter(k ? b : a, t);
  }
  Value start = number(i32, 1 + below(6));
  pen_->when(value(Type::boolean()), a, {start, value(t)}, b, {start, value(t)});
  size_t outer = scope_.size();
  for (int k = 0; k < 2; ++k) {
    pen_->at_end(k ? b : a);
    keep(carried[k]);
    for (size_t n = below(4); n-- > 0;) plain_operation();
    Value left = pen_->sub(fuel[k], number(i32, 1));
    Value more = pen_->write(Op::GtS, {left, number(i32, 0)});
    pen_->when(more, k ? a : b, {left, value(t)}, out, {value(t)});
    scope_.resize(outer);
  }
  pen_->at_end(out);
  keep(result);
}

// What only says something: a watch, a position for what follows.
void Maker::say() {
  if (chance(50))
    pen_->from(chance(80) ? any_position() : Position());
  else if (chance(20))
    pen_->here();
  else if (!scope_.empty())
    pen_->watch(any_name(), scope_[below(scope_.size())]);
}

void Maker::statement(int depth) {
  size_t what = below(100);
  if (what < 8 && depth > 0) return branch(depth);
  if (what < 12 && depth > 0) return loop(depth);
  if (what < 14 && depth > 0) return choose(depth);
  if (what < 16) return tangle();
  if (what < 19) return call();
  if (what < 32) return memory_operation();
  if (what < 35) return kinded_access();
  if (what < 38) return block_operation();
  if (what < 39) return passing_object();
  if (what < 40) return call_through();
  if (what < 41) return call_apart();
  if (what < 46) return promised_operation();
  if (what < 48) return permitted_operation();
  if (what < 51) return say();
  plain_operation();
}

void Maker::statements(int depth) {
  size_t count = 1 + below(depth > 1 ? options_.statements : options_.statements / 2);
  for (size_t k = 0; k < count; ++k) statement(depth);
}

// Whether a return call needs no more room for arguments than every convention leaves to the function itself:
// all that the callee takes is taken, as the first, by the function as well, or has registers nearly
// everywhere.
static bool may_leave_for(const Signature& own, const Signature& callee, unsigned word_bits) {
  if (own.results != callee.results) return false;
  const auto &given = own.parameters, &wanted = callee.parameters;
  if (wanted.size() <= given.size() && std::equal(wanted.begin(), wanted.end(), given.begin())) return true;
  size_t whole = 0, floats = 0;
  for (Type t : wanted) {
    if (t.has_lanes() || t.bits() > 64) return false;
    if (t.is_float())
      ++floats;
    else
      whole += parts_for(t.bits(), word_bits);
  }
  bool few_results = own.results.size() == 1 && !own.results[0].has_lanes() && own.results[0].bits() <= 64;
  return few_results && whole <= 6 && floats <= 8;
}

void Maker::make_function(bool last) {
  Signature s{{module_.pointer_type()}, {}};
  scope_.clear();
  for (size_t k = below(last ? 10 : 7); k-- > 0;) s.parameters.push_back(fresh_type());
  if (chance(10))
    for (int k = 0; k < 9; ++k) s.parameters.push_back(fresh_type());
  if (!functions_.empty() && chance(15)) {
    s = module_.function(functions_.back()).signature();
  } else if (!functions_.empty() && chance(40)) {  // so that one can end in a call of the other
    s.results = module_.function(functions_.back()).signature().results;
  } else {
    s.results.push_back(fresh_type());
    if (chance(25)) s.results.push_back(fresh_type());
  }
  Symbol symbol = module_.add_function("f" + std::to_string(functions_.size()), s);
  f_ = &module_.function(symbol);
  Pen pen(module_, *f_);
  pen_ = &pen;
  for (Value p : f_->parameters())
    if (!f_->type(p).is_pointer()) keep(p);
  piece_ = f_->parameters()[0];
  pen.at_end(f_->add_block());
  FunctionFacts& facts = module_[symbol].facts;
  if (chance(20)) facts.permits = permit::reorder | permit::estimate;
  facts.keep_small = chance(10);
  facts.inlining = static_cast<Inlining>(below(3));
  if (chance(10)) facts.set_marks(below(s.parameters.size()), mark::secret);
  if (!last && chance(15)) module_[symbol].is_local = true;
  if (chance(10)) module_[symbol].is_weak = !module_[symbol].is_local;
  slot_ = filled_reserve();
  promotable();
  calls_left_ = 3;
  statements(3);
  bool tail = !functions_.empty() && chance(30) &&
              may_leave_for(s, module_.function(functions_.back()).signature(), module_.layout.pointer_bits);
  if (tail) {
    std::vector<Value> arguments{piece_};
    const auto& types = module_.function(functions_.back()).signature().parameters;
    for (size_t k = 1; k < types.size(); ++k) arguments.push_back(value(types[k]));
    pen.return_call(functions_.back(), arguments);
  } else {
    leave();
  }
  functions_.push_back(symbol);
}

}  // namespace porphyry::sample

namespace porphyry {

std::array<uint8_t, Sample::piece_bytes> Sample::fresh_piece() {
  std::array<uint8_t, piece_bytes> out{};
  for (size_t k = 0; k < piece_bytes / 2; ++k) out[k] = static_cast<uint8_t>(37 * k + 11);
  return out;
}

Sample make_sample(Realm& realm, const SampleOptions& options) { return sample::Maker(realm, options).run(); }

void SampleCoverage::add(const Module& module) {
  ++programs;
  for (Symbol s : module.functions()) {
    const Function& f = module.function(s);
    for (Block b : f.blocks())
      for (Instruction i : f.instructions(b)) {
        ++uses[static_cast<size_t>(f.op(i))];
        ++instructions;
      }
  }
}

double SampleCoverage::share() const {
  return 1.0 - static_cast<double>(missing().size()) / static_cast<double>(operation_count);
}

std::vector<Op> SampleCoverage::missing() const {
  std::vector<Op> out;
  for (size_t k = 0; k < operation_count; ++k)
    if (uses[k] == 0) out.push_back(static_cast<Op>(k));
  return out;
}

}  // namespace porphyry
