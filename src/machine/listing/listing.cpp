#include "porphyry/machine/listing.h"

#include <fmt/format.h>

#include <bit>

#include "lives.h"
#include "porphyry/machine/passing.h"
#include "porphyry/print/function_texts.h"
#include "porphyry/print/literals.h"
#include "porphyry/print/print.h"

namespace porphyry::machine {

namespace {

std::string constant_name(const CompiledFunction& c, size_t row) {
  return row < c.pool.size() ? fmt::format("constant {}", row) : fmt::format("table {}", row - c.pool.size());
}

std::string pool_value(const PoolEntry& e) {
  std::string text = text::literal_text(text::lane_words(e.type, Bits(e.high) << 64 | e.bits), e.type);
  return e.type.has_lanes() && !text.starts_with('{') ? text + " in each lane" : text;
}

class Lister {
 public:
  Lister(const LoweredModule& lowered, const CompiledFunction& c, const Target& target, Origins origins)
      : origins_(origins == Origins::Told),
        lowered_(lowered),
        module_(*lowered.legal),
        f_(module_.function(c.symbol)),
        c_(c),
        target_(target),
        texts_(module_, f_) {
    for (size_t k = c.covered.size(); k > 0; --k)
      first_covered_.set(c.covered[k - 1].first, static_cast<uint32_t>(k));
  }

  FunctionListing run() {
    out_.name = c_.name;
    out_.frame_bytes = c_.frame_bytes;
    for (unsigned r : c_.saved)
      out_.saved.emplace_back(target_.register_name(r, target_.classes[target_.class_of(r)].bits));
    places();
    for (size_t b = 0, k = 0; b < c_.blocks.size(); ++b) {
      const auto& place = c_.blocks[b];
      ListingBlock block{label(static_cast<uint32_t>(b)), place.offset, place.depth, {}};
      for (uint32_t end = c_.end_of_block(b); k < c_.lines.size() && c_.lines[k].offset < end; ++k)
        block.lines.push_back(line(c_.lines[k]));
      out_.blocks.push_back(std::move(block));
    }
    out_.lives = lives_of(lowered_, c_, target_);
    for (const VariableFact& v : c_.variables) out_.variables.push_back(variable(v));
    out_.totals = totals_of(c_, target_);
    return std::move(out_);
  }

 private:
  // Where the program's own parameters and results are, each in one part or several.
  void places() {
    bool own = c_.symbol.index < lowered_.first_parameter.size();
    const Signature& meant = lowered_.source_signatures[c_.symbol.index];
    Passing way = passing(target_.convention, meant);
    out_.signature = meant.text();
    uint64_t bytes = 0;
    auto where = arrivals(target_.convention, way.legal.parameters, bytes);
    std::vector<std::string> places(meant.parameters.size()), results(meant.results.size());
    auto add = [](std::string& to, const std::string& place) { to += (to.empty() ? "" : ", ") + place; };
    std::string memory;
    for (size_t k = 0; k < where.size(); ++k) {
      Type t = way.legal.parameters[k];
      int owner = way.parameters[k].owner;
      if (owner >= 0 && way.legal.parameters.size() == meant.parameters.size())
        t = narrower(t, meant.parameters[static_cast<size_t>(owner)]);
      std::string place = where[k].reg != no_register
                              ? std::string(target_.register_name(where[k].reg, t.total_bits()))
                              : fmt::format("stack + {}", where[k].stack + target_.frame.return_bytes);
      if (owner >= 0) add(places[static_cast<size_t>(owner)], place);
      if (owner == PassedPart::results_address) memory = place;
    }
    for (size_t k = 0; k < places.size(); ++k) {
      Name said = own ? lowered_.parameter_names[lowered_.first_parameter[c_.symbol.index] + k] : Name();
      std::string name = said.exists() ? shown_name(module_.text(said))
                         : own         ? fmt::format("v{}", k)
                                       : texts_.value(f_.parameters()[k]);
      out_.parameters.push_back({name, meant.parameters[k].name(), places[k]});
    }
    auto registers = result_registers(target_.convention, way.legal.results);
    for (size_t k = 0; registers && !way.through_memory && k < registers->size(); ++k)
      add(results[static_cast<size_t>(way.results[k].owner)],
          std::string(target_.register_name((*registers)[k], way.legal.results[k].total_bits())));
    for (size_t k = 0; k < results.size(); ++k) {
      if (way.through_memory) results[k] = fmt::format("[{}] + {}", memory, way.result_offsets[k]);
      out_.results.push_back({"", meant.results[k].name(), results[k]});
    }
  }
  // A narrow value in a wider register is named by its own width.
  static Type narrower(Type part, Type meant) {
    return meant.is_float() || meant.has_lanes() || meant.bits() > part.bits() ? part : meant;
  }

  FunctionListing::Life variable(const VariableFact& v) const {
    FunctionListing::Life out{std::string(module_.text(v.name)), {}, {}};
    for (const VariableFact::Stay& s : v.stays) {
      // The last instruction that is wholly inside.
      auto end = std::lower_bound(c_.lines.begin(), c_.lines.end(), s.to,
                                  [](const EmittedLine& l, uint32_t at) { return l.offset < at; });
      if (end != c_.lines.begin()) out.stays.push_back({where_text(v, s), s.from, (end - 1)->offset});
    }
    return out;
  }
  std::string where_text(const VariableFact& v, const VariableFact::Stay& s) const {
    switch (s.where) {
      case VariableFact::Where::Register:
        return std::string(target_.register_name(static_cast<unsigned>(s.place), v.type.total_bits()));
      case VariableFact::Where::Frame: return fmt::format("the frame, {} below the caller's", -s.place);
      case VariableFact::Where::Constant: break;
    }
    return "the constant " +
           text::literal_text(text::lane_words(v.type, static_cast<Bits>(static_cast<uint64_t>(s.place))),
                              v.type);
  }

  std::string label(uint32_t b) const {
    return label_of(texts_.block(c_.blocks[b].origin), c_.blocks[b].copy);
  }
  // The block, symbol or constant that a line's instruction names.
  std::string target_name(const EmittedLine& line) const {
    std::string name;
    switch (line.to) {
      case EmittedLine::To::Block: name = label(line.index); break;
      case EmittedLine::To::Symbol: name = module_.symbol_name(Symbol(line.index)); break;
      case EmittedLine::To::Pool: name = constant_name(c_, line.index); break;
      case EmittedLine::To::Here: name = "."; break;
      case EmittedLine::To::Nothing: break;
    }
    if (line.addend > 0) name += fmt::format(" + {}", line.addend);
    if (line.addend < 0) name += fmt::format(" - {}", -int64_t(line.addend));
    return name;
  }

  ListingLine line(const EmittedLine& l) {
    ListingLine out{.offset = l.offset, .role = l.role};
    out.bytes.assign(c_.bytes.begin() + l.offset, c_.bytes.begin() + l.offset + l.size);
    PlainInstruction plain = instruction_at(target_, c_, l);
    out.text = spell(target_, plain, target_name(l));
    if (!origins_) return out;
    if (l.origin.exists() && f_.alive(l.origin)) {
      out.operation = operation(l.origin);
      out.value = f_.result_count(l.origin) ? texts_.value(f_.result(l.origin))
                                            : std::string(info(f_.op(l.origin)).name);
      out.position = place_text(module_, f_.position(l.origin));
    }
    if (l.to == EmittedLine::To::Pool)
      out.operation += (out.operation.empty() ? "" : "; ") +
                       fmt::format("{} is {}", constant_name(c_, l.index), constant_text(l.index));
    return out;
  }

  std::string constant_text(size_t row) const {
    return row < c_.pool.size() ? pool_value(c_.pool[row]) : table_text(c_.tables[row - c_.pool.size()]);
  }
  // 0 to 3: a, 4: b and so on; the first few.
  std::string table_text(const std::vector<uint32_t>& blocks) const {
    constexpr size_t most = 8;
    std::string out;
    size_t shown = 0;
    for (size_t k = 0, end; k < blocks.size(); k = end) {
      for (end = k + 1; end < blocks.size() && blocks[end] == blocks[k];) ++end;
      if (shown++ == most) return out + fmt::format(", … {}", blocks.size() - 1);
      out += fmt::format("{}{}{}: {}", out.empty() ? "" : ", ", k,
                         end - k > 1 ? fmt::format(" to {}", end - 1) : "", label(blocks[k]));
    }
    return out;
  }

  // The instruction and, before it, those that its rule took in.
  std::string operation(Instruction origin) const {
    std::string out;
    for (size_t k = first_covered_.get(origin);
         k && k <= c_.covered.size() && c_.covered[k - 1].first == origin; ++k)
      out += texts_.instruction(c_.covered[k - 1].second) + "; ";
    return out + texts_.instruction(origin);
  }

  const bool origins_;
  const LoweredModule& lowered_;
  const Module& module_;
  const Function& f_;
  const CompiledFunction& c_;
  SideTable<Instruction, uint32_t> first_covered_;  // by root: its first row of covered, plus one
  const Target& target_;
  FunctionTexts texts_;
  FunctionListing out_;
};

}  // namespace

FunctionListing::Totals totals_of(const CompiledFunction& c, const Target& target) {
  FunctionListing::Totals out;
  size_t block = 0;
  for (const EmittedLine& l : c.lines) {
    while (block < c.blocks.size() && c.end_of_block(block) <= l.offset) ++block;
    const bool in_loop = block < c.blocks.size() && c.blocks[block].depth > 0;
    count(out, target.form(instruction_at(target, c, l).form));
    out.bytes += l.size;
    out.moves += l.role == Role::Move;
    out.spills += l.role == Role::Spill;
    out.reloads += l.role == Role::Reload;
    out.spilled_in_loops += in_loop && (l.role == Role::Spill || l.role == Role::Reload);
  }
  return out;
}

FunctionListing make_listing(const LoweredModule& lowered, const CompiledFunction& compiled,
                             const Target& target, Origins origins) {
  return Lister(lowered, compiled, target, origins).run();
}

}  // namespace porphyry::machine
