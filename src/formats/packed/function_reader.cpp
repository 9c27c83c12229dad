#include "function_reader.h"

#include <algorithm>
#include <array>
#include <bit>

namespace porphyry::packed {

Type TypeReader::next() {
  if (in_.take_if(last_code_)) return last_;
  last_ = in_.type();
  uint64_t code = type_code(last_);
  last_code_ = code < 0x80
                   ? std::array<char, 2>{0, 0}
                   : std::array<char, 2>{static_cast<char>(code | 0x80), static_cast<char>(code >> 7)};
  if (code >> 14) last_code_ = {0, 0};
  return last_;
}

void FunctionReader::run(Function& function) {
  f_ = &function;
  values_.clear(), blocks_.clear(), addresses_.clear(), instructions_.clear(), forward_.clear();
  last_position_ = 0;
  Function::Expected said;
  said.instructions = in_.count("instructions");
  said.slots = in_.count("operands");
  size_t results = in_.count("results");
  said.edges = in_.count("edges");
  said.constants = in_.count("constants");
  said.blocks = in_.count("blocks");
  said.parameters = in_.count("parameters");
  // Each of them takes a byte of the file at least, so counts that lie take memory in proportion to it, and
  // once: a function that has not what was said ends the reading.
  size_t before_results = function.parameters().size() + said.constants + said.parameters;
  said.values = std::min(before_results + results, before_results + in_.left());
  function.expect(said);
  for (Value v : function.parameters()) {
    function.set_name(v, name());
    values_.push_back(v);
  }
  constants(said.constants);
  blocks(said.blocks);
  if (!in_.good()) return;
  addresses();
  slots_seen_ = 0;
  for (Block b : blocks_) {
    size_t count = in_.count("instructions");
    for (size_t k = 0; k < count && in_.good(); ++k) instruction(b);
  }
  bool as_said = instructions_.size() == said.instructions && slots_seen_ == said.slots &&
                 values_.size() == before_results + results && function.edge_limit() == said.edges;
  if (in_.good() && !as_said) in_.fail("a function has other counts than it says");
  comments();
  resolve();
}

Name FunctionReader::name() {
  uint64_t ref = in_.below(names_.size() + 1, "name");
  return ref ? names_[ref - 1] : Name();
}

void FunctionReader::constants(size_t count) {
  std::vector<uint64_t> words;
  for (size_t k = 0; k < count && in_.good(); ++k) {
    Type t = in_.type();
    bool uniform = t.has_lanes() && in_.byte() != 0;
    words.clear();
    size_t stored = uniform ? t.words_per_lane() : t.words();
    for (size_t w = 0; w < stored; ++w) {
      uint64_t n = in_.number();
      words.push_back(t.is_float() ? std::rotr(n, t.bits() == 64 ? 12 : 44) : n);
      bool top = t.bits() % 64 != 0 && w % t.words_per_lane() == t.words_per_lane() - 1u;
      if (top && words.back() >> t.bits() % 64) return in_.fail("a constant is wider than its type");
    }
    while (words.size() < t.words()) words.push_back(words[words.size() - stored]);
    if (t.has_lanes() && (budget_ -= std::min<uint64_t>(budget_, t.words())) == 0)
      return in_.fail("the constants with lanes take more than 128 MiB");
    values_.push_back(f_->constant_lanes(t, words));
  }
}

void FunctionReader::blocks(size_t count) {
  for (size_t k = 0; k < count && in_.good(); ++k) {
    Block b = f_->add_block(name());
    blocks_.push_back(b);
    size_t parameters = in_.count("parameters");
    if (parameters > Function::list_limit) return in_.fail("a block has more than 65535 parameters");
    f_->expect_parameters(b, parameters);
    for (size_t p = 0; p < parameters; ++p) {
      Type t = in_.type();
      values_.push_back(f_->add_parameter(b, t, name()));
    }
  }
}

uint32_t FunctionReader::align() {
  uint8_t log = in_.byte();
  if (log > 12) in_.fail("an alignment is larger than 4096");
  return uint32_t(1) << (log & 15);
}

Address FunctionReader::address() {
  Address a;
  uint8_t flags = in_.byte();
  if (flags >> 7) in_.fail("an address has unknown properties");
  a.indexed = flags & indexed, a.masked = flags & masked, a.is_volatile = flags & is_volatile;
  a.guarded = flags & guarded;
  a.early = flags & early, a.as_unwritten = flags & as_unwritten;
  a.align = align();
  if (a.indexed) a.scale = static_cast<int64_t>(in_.number());
  if (a.scale <= 0) in_.fail("an index is scaled by no positive number");
  a.offset = in_.signed_number();
  if (flags & has_kind) a.kind = KindPath(in_.below(module_.kinds.path_count(), "kind"));
  return a;
}

void FunctionReader::addresses() {
  size_t count = in_.count("addresses");
  for (size_t k = 0; k < count && in_.good(); ++k) addresses_.push_back(address());
}

// A value that is defined further on is put in at the end.
FunctionReader::ReadValue FunctionReader::value() {
  uint64_t distance = in_.number();
  if (distance && distance <= values_.size()) return {values_[values_.size() - distance], {}};
  if (distance) return in_.fail("a value comes from before the first one"), ReadValue{};
  return {Value(), in_.number()};
}

Position FunctionReader::position() {
  last_position_ += in_.signed_number();
  if (last_position_ >= 0 && last_position_ < static_cast<int64_t>(positions_.size()))
    return positions_[static_cast<size_t>(last_position_)];
  in_.fail("a position is not there");
  return {};
}

void FunctionReader::instruction(Block b) {
  uint8_t code = in_.byte(), flags = in_.byte();
  if (code >= operation_count || flags >> 7 || (flags >> hint_shift & 3) == 3)
    return in_.fail("there is no such instruction");
  Function::Draft d{.op = static_cast<Op>(code)};
  d.hint = static_cast<Function::Hint>(flags >> hint_shift & 3);
  if (flags & has_promises) d.promises = in_.byte();
  if (flags & has_permits) d.permits = in_.byte();
  if (flags & has_position) d.position = position();
  if (!in_.good()) return;
  const OperationInfo& row = info(d.op);
  parts_.clear();
  operands(row);
  results(row, flags & has_names);
  d.detail = detail(row);
  if (!in_.good()) return;
  if (row.ends_block()) edges(row, flags & has_weights, d.detail);
  if (!in_.good()) return;
  slots_seen_ += parts_.operands.size() + parts_.arguments.size();
  d.operands = parts_.operands, d.results = parts_.results, d.targets = parts_.targets;
  Instruction i = f_->append(b, d);
  instructions_.push_back(i);
  for (size_t k = 0; k < parts_.results.size(); ++k) {
    Value v = f_->result(i, k);
    values_.push_back(v);
    if (flags & has_names) f_->set_name(v, parts_.result_names[k]);
  }
  for (const Waiting& w : parts_.waiting)
    forward_.push_back({w.edge < 0 ? f_->operand_slot(i, w.index)
                                   : f_->argument_slot(f_->edge(i, static_cast<size_t>(w.edge)), w.index),
                        w.number});
}

void FunctionReader::operands(const OperationInfo& row) {
  size_t count = has_fixed_operands(row) ? row.roles().size() : in_.count("operands");
  if (count > Function::list_limit) return in_.fail("an instruction has more than 65535 operands");
  for (size_t k = 0; k < count; ++k) {
    ReadValue v = value();
    parts_.operands.push_back(v.value);
    if (v.later) parts_.waiting.push_back({-1, k, *v.later});
  }
}

void FunctionReader::results(const OperationInfo& row, bool named) {
  size_t count = row.calls() ? in_.count("results") : row.result_count();
  if (count > Function::list_limit) return in_.fail("an instruction has more than 65535 results");
  for (size_t k = 0; k < count; ++k) parts_.results.push_back(types_.next());
  for (size_t k = 0; named && k < count; ++k) parts_.result_names.push_back(name());
}

uint32_t FunctionReader::detail(const OperationInfo& row) {
  switch (row.detail()) {
    case Detail::Address: {
      size_t k = in_.below(addresses_.size(), "address");
      return in_.good() ? f_->add_address(addresses_[k]) : 0;
    }
    case Detail::Copy: {
      CopyShape shape;
      shape.to = address();
      shape.from = address();
      return f_->add_copy(shape);
    }
    case Detail::Reserve: {
      ReserveShape shape;
      shape.bytes = in_.number();
      if (shape.bytes > uint64_t(1) << 31) in_.fail("a frame object is larger than 2^31 bytes");
      shape.align = align();
      return f_->add_reserve(shape);
    }
    case Detail::Symbol: return static_cast<uint32_t>(in_.below(module_.symbol_count(), "symbol"));
    case Detail::Name: {
      Name n = name();
      if (!n.exists()) in_.fail("'watch' names no variable");
      return n.index;
    }
    case Detail::Lanes: {
      std::vector<uint16_t> lanes;
      for (unsigned k = 0; k < parts_.results[0].lanes(); ++k)
        lanes.push_back(static_cast<uint16_t>(in_.below(2 * Type::lane_limit, "lane")));
      return f_->add_shuffle(lanes);
    }
    case Detail::Cases:  // with the edges
    case Detail::None: break;
  }
  return Function::no_detail;
}

uint32_t FunctionReader::cases(size_t count) {
  Type type = parts_.operands.empty() || !parts_.operands[0].exists() ? Type::integer(64)
                                                                      : f_->type(parts_.operands[0]);
  std::vector<Bits> values;
  for (size_t k = 0; k < count && in_.good(); ++k) {
    Bits w = in_.number();
    if (type.bits() > 64) w |= Bits(in_.number()) << 64;
    if (w & ~mask_of(type.bits())) in_.fail("a case is wider than what is chosen by");
    values.push_back(w);
  }
  return f_->add_cases(values);
}

void FunctionReader::edges(const OperationInfo& row, bool weighted, uint32_t& detail) {
  size_t count = row.op == Op::Go ? 1 : row.op == Op::When ? 2 : 0;
  if (row.detail() == Detail::Cases) {
    count = in_.count("ways");
    if (count == 0 || count > Function::list_limit) return in_.fail("a choice has no way or too many");
    detail = cases(count - 1);
  }
  for (size_t k = 0; k < count && in_.good(); ++k) {
    size_t to = in_.below(blocks_.size(), "block");
    size_t arguments = in_.count("arguments");
    if (arguments > Function::list_limit) return in_.fail("an edge has more than 65535 arguments");
    for (size_t a = 0; a < arguments; ++a) {
      ReadValue v = value();
      parts_.arguments.push_back(v.value);
      if (v.later) parts_.waiting.push_back({static_cast<int>(k), a, *v.later});
    }
    parts_.argument_counts.push_back(arguments);
    if (in_.good())
      parts_.targets.push_back({blocks_[to], {}, weighted ? in_.number() - 1 : Function::no_weight});
  }
  size_t at = 0;  // the arguments have their final place now
  for (size_t k = 0; k < parts_.targets.size(); ++k) {
    parts_.targets[k].arguments = {parts_.arguments.data() + at, parts_.argument_counts[k]};
    at += parts_.argument_counts[k];
  }
}

void FunctionReader::comments() {
  size_t count = in_.count("comments");
  for (size_t k = 0; k < count && in_.good(); ++k) {
    Function::Comment c;
    uint8_t place = in_.byte();
    if (place == 1) {
      size_t at = in_.below(instructions_.size(), "instruction");
      if (in_.good()) c.above = instructions_[at];
    }
    if (place == 2) {
      size_t at = in_.below(blocks_.size(), "block");
      if (in_.good()) c.above_label = blocks_[at];
    }
    c.text = in_.text();
    if (!c.text.starts_with("--") || c.text.find('\n') != std::string::npos)
      return in_.fail("a comment is none");
    f_->comments.push_back(std::move(c));
  }
}

void FunctionReader::resolve() {
  for (auto [slot, number] : forward_) {
    if (number >= values_.size()) return in_.fail("value " + std::to_string(number) + " is nowhere defined");
    f_->set(slot, values_[number]);
  }
}

}  // namespace porphyry::packed
