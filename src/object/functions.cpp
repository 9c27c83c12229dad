// Functions, their variables and types for debuggers: DWARF 5. A variable's place is an expression where it
// stays the same, else a list of them by stretches of code; where it is gone there is none, and debuggers say
// so.
#include <algorithm>

#include "debug_data.h"

namespace porphyry::object {

using namespace machine;

namespace {

constexpr uint16_t language = 0x1d;  // C, by whose rules debuggers show and compute values
constexpr uint8_t was_inlined = 1;
enum : uint8_t {
  range_end = 0x00,
  range_offset_pair = 0x04,
  range_base_address = 0x05,
  range_start_length = 0x07
};

enum Abbreviation : unsigned {
  unit = 1,
  exported_function,
  local_function,
  base_type,
  narrow_type,
  pointer_type,
  lanes_type,
  lane_range,
  abstract_function,
  inlined_call,
  inlined_block,
  parameter,  // at one place; behind it: in a list of places, gone
  variable = parameter + 3
};
constexpr unsigned one_place = 0, several_places = 1, no_place = 2;

class FunctionWriter {
 public:
  FunctionWriter(DebugSections& sections, const Module& module, const Target& target,
                 const std::vector<PlacedFunction>& functions, const SourceNumbers& sources)
      : sections_(sections), module_(module), target_(target), functions_(functions), sources_(sources) {}

  void run(uint32_t lines) {
    info_ = sections_.add(".debug_info");
    const uint32_t abbreviations = sections_.add(".debug_abbrev"), ranges = sections_.add(".debug_rnglists");
    write_abbreviations(sections_.sink(abbreviations));
    ranges_ = ranges;
    write_ranges(ranges);
    const bool has_lists = std::any_of(functions_.begin(), functions_.end(), [](const PlacedFunction& f) {
      return std::any_of(f.code->variables.begin(), f.code->variables.end(),
                         [&](const VariableFact& v) { return places_of(*f.code, v) == several_places; });
    });
    if (has_lists) begin_lists();
    ranges_symbol_ = sections_.symbol_of(ranges);
    write_unit(lines, sections_.symbol_of(abbreviations));
    patch_length(ranges_);
    if (has_lists) patch_length(lists_);
  }

 private:
  // The code of a body that stands in place of a call, with what was inlined in it.
  struct Inlined {
    InlineScope scope, outer;
    std::vector<std::pair<uint32_t, uint32_t>> ranges;
  };

  void patch_length(uint32_t section) {
    Sink s = sections_.sink(section);
    s.patch32(0, s.size() - 4);
  }

  void write_abbreviations(Sink s) {
    using Attributes = std::vector<std::pair<unsigned, unsigned>>;
    auto declare = [&](unsigned number, unsigned what, bool children, const Attributes& attributes) {
      s.uleb(number), s.uleb(what), s.u8(children);
      for (auto [name, form] : attributes) s.uleb(name), s.uleb(form);
      s.uleb(0), s.uleb(0);
    };
    declare(unit, tag::compile_unit, true,
            {{at::producer, form::string},
             {at::language, form::data2},
             {at::name, form::string},
             {at::comp_dir, form::string},
             {at::low_pc, form::addr},
             {at::ranges, form::sec_offset},
             {at::stmt_list, form::sec_offset}});
    Attributes function{{at::name, form::string},     {at::low_pc, form::addr},
                        {at::high_pc, form::data8},   {at::decl_file, form::udata},
                        {at::decl_line, form::udata}, {at::frame_base, form::exprloc}};
    declare(local_function, tag::subprogram, true, function);
    function.push_back({at::external, form::flag_present});
    declare(exported_function, tag::subprogram, true, function);
    Attributes type{{at::name, form::string}, {at::encoding, form::udata}, {at::byte_size, form::udata}};
    declare(base_type, tag::base_type, false, type);
    type.push_back({at::bit_size, form::udata});
    declare(narrow_type, tag::base_type, false, type);
    declare(pointer_type, tag::pointer_type, false, {{at::byte_size, form::udata}});
    declare(lanes_type, tag::array_type, true, {{at::type, form::ref4}, {at::lanes, form::flag_present}});
    declare(lane_range, tag::subrange_type, false, {{at::count, form::udata}});
    declare(abstract_function, tag::subprogram, false,
            {{at::name, form::string}, {at::inlining, form::udata}});
    declare(inlined_call, tag::inlined_subroutine, true,
            {{at::abstract_origin, form::ref4},
             {at::call_file, form::udata},
             {at::call_line, form::udata},
             {at::call_column, form::udata},
             {at::ranges, form::sec_offset}});
    declare(inlined_block, tag::lexical_block, true, {{at::ranges, form::sec_offset}});
    for (auto [first, what] :
         {std::pair(parameter, tag::formal_parameter), std::pair(variable, tag::variable)}) {
      Attributes plain{{at::name, form::string}, {at::type, form::ref4}};
      declare(first + no_place, what, false, plain);
      plain.push_back({at::location, form::exprloc});
      declare(first + one_place, what, false, plain);
      plain.back().second = form::sec_offset;
      declare(first + several_places, what, false, plain);
    }
    s.uleb(0);
  }

  void write_ranges(uint32_t at) {
    Sink s = sections_.sink(at);
    s.u32(0), s.u16(5), s.u8(8), s.u8(0), s.u32(0);
    for (const PlacedFunction& f : functions_) {
      s.u8(range_start_length);
      sections_.address(at, f.section_symbol, f.offset);
      s.uleb(f.code->bytes.size());
    }
    s.u8(range_end);
  }

  void begin_lists() {
    lists_ = sections_.add(".debug_loclists");
    lists_symbol_ = sections_.symbol_of(lists_);
    Sink s = sections_.sink(lists_);
    s.u32(0), s.u16(5), s.u8(8), s.u8(0), s.u32(0);
  }

  void write_unit(uint32_t lines, uint32_t abbreviations) {
    Sink s = sections_.sink(info_);
    s.u32(0), s.u16(5), s.u8(1), s.u8(8);
    sections_.offset(info_, abbreviations, 0);
    const std::string& name = sources_.names()[0];
    s.uleb(unit), s.text("porphyry"), s.u16(language), s.text(name), s.text(".");
    s.u64(0);
    sections_.offset(info_, ranges_symbol_, 12);
    sections_.offset(info_, lines, 0);
    for (const PlacedFunction& f : functions_)
      for (const VariableFact& v : f.code->variables) note_type(s, v.type);
    std::vector<std::vector<Inlined>> inlined;
    for (const PlacedFunction& f : functions_) note_inlined(s, inlined.emplace_back(inlined_in(f)));
    for (size_t k = 0; k < functions_.size(); ++k) write_function(s, functions_[k], inlined[k]);
    s.uleb(0);
    patch_length(info_);
  }

  // ---- types ----------------------------------------------------------------------------------------------

  void note_type(Sink s, Type t) {
    if (t.has_lanes()) note_type(s, t.element());
    if (!types_.try_emplace(t.name(), static_cast<uint32_t>(s.size())).second) return;
    if (t.has_lanes()) {
      s.uleb(lanes_type), s.u32(types_.at(t.element().name()));
      s.uleb(lane_range), s.uleb(t.lanes());
      return s.uleb(0);
    }
    if (t.is_pointer()) return s.uleb(pointer_type), s.uleb(t.bytes());
    const bool is_narrow = t.bits() % 8 && !t.is_bool();
    s.uleb(is_narrow ? narrow_type : base_type), s.text(t.name());
    s.uleb(t.is_bool() ? encoding::boolean : t.is_float() ? encoding::real : encoding::whole);
    s.uleb(t.bytes());
    if (is_narrow) s.uleb(t.bits());
  }

  // ---- functions ------------------------------------------------------------------------------------------

  void write_function(Sink s, const PlacedFunction& f, const std::vector<Inlined>& calls) {
    auto [source, first] = own_line(f);
    const bool is_local = module_[f.code->symbol].is_local;
    s.uleb(is_local ? local_function : exported_function), s.text(f.code->name);
    sections_.address(info_, f.section_symbol, f.offset);
    s.u64(f.code->bytes.size());
    s.uleb(first ? sources_.of(source) : 0), s.uleb(first);
    s.uleb(1), s.u8(expression::call_frame_cfa);
    std::map<InlineScope, Scope> scopes;
    for (const bool parameters : {true, false})
      for (const VariableFact& v : f.code->variables)
        if (v.is_parameter == parameters) scopes[v.scope].variables.push_back(&v);
    for (const Inlined& i : calls) scopes[i.outer].calls.push_back(&i);
    write_scope(s, f, scopes, {});
  }

  // ---- calls that were inlined ----------------------------------------------------------------------------

  struct Scope {
    std::vector<const VariableFact*> variables;
    std::vector<const Inlined*> calls;
  };
  using Scopes = std::map<InlineScope, Scope>;
  std::vector<Inlined> inlined_in(const PlacedFunction& f) const {
    std::vector<Inlined> out;
    std::map<InlineScope, size_t> rows;
    Position last;
    for (const EmittedLine& l : f.code->lines) {
      if (l.position.exists()) last = l.position;
      InlineScope scope = InlineScope::of(module_, last);
      while (scope.call.exists()) {
        const InlineScope outer = InlineScope::of(module_, scope.call);
        auto [at, is_new] = rows.try_emplace(scope, out.size());
        if (is_new) out.push_back({scope, outer, {}});
        auto& ranges = out[at->second].ranges;
        if (!ranges.empty() && ranges.back().second == l.offset)
          ranges.back().second += l.size;
        else
          ranges.push_back({l.offset, l.offset + l.size});
        scope = outer;
      }
    }
    return out;
  }
  // The functions whose bodies they are, as such.
  void note_inlined(Sink s, const std::vector<Inlined>& calls) {
    for (const Inlined& i : calls) {
      if (!i.scope.function.exists()) continue;
      if (!abstract_.try_emplace(i.scope.function.index, static_cast<uint32_t>(s.size())).second) continue;
      s.uleb(abstract_function), s.text(module_.text(i.scope.function)), s.uleb(was_inlined);
    }
  }
  // What belongs to a function or a body in place of a call, and the end of it.
  void write_scope(Sink s, const PlacedFunction& f, Scopes& scopes, const InlineScope& which) {
    const Scope& scope = scopes[which];
    for (const VariableFact* v : scope.variables) write_variable(s, f, *v);
    for (const Inlined* i : scope.calls) {
      write_inlined(s, f, *i);
      write_scope(s, f, scopes, i->scope);
    }
    s.uleb(0);
  }
  void write_inlined(Sink s, const PlacedFunction& f, const Inlined& i) {
    if (i.scope.function.exists()) {
      const PositionRow& call = module_.position(i.scope.call);
      s.uleb(inlined_call), s.u32(abstract_.at(i.scope.function.index));
      s.uleb(sources_.of(call.source)), s.uleb(call.line), s.uleb(call.column);
    } else {
      s.uleb(inlined_block);
    }
    Sink list = sections_.sink(ranges_);
    sections_.offset(info_, ranges_symbol_, list.size());
    list.u8(range_base_address);
    sections_.address(ranges_, f.section_symbol, f.offset);
    for (auto [from, to] : i.ranges) list.u8(range_offset_pair), list.uleb(from), list.uleb(to);
    list.u8(range_end);
  }

  // ---- variables ------------------------------------------------------------------------------------------

  static unsigned places_of(const CompiledFunction& f, const VariableFact& v) {
    if (v.stays.empty()) return no_place;
    const bool always = v.stays.size() == 1 && v.stays[0].from == 0 && v.stays[0].to == f.bytes.size();
    return always ? one_place : several_places;
  }

  void write_variable(Sink s, const PlacedFunction& f, const VariableFact& v) {
    const unsigned places = places_of(*f.code, v);
    s.uleb((v.is_parameter ? parameter : variable) + places);
    s.text(module_.text(v.name)), s.u32(types_.at(v.type.name()));
    if (places == no_place) return;
    if (places == one_place) return sized(s, place_of(v.type, v.stays[0]));
    Sink list = sections_.sink(lists_);
    sections_.offset(info_, lists_symbol_, list.size());
    list.u8(location_list::base_address);
    sections_.address(lists_, f.section_symbol, f.offset);
    for (const VariableFact::Stay& stay : v.stays) {
      list.u8(location_list::offset_pair), list.uleb(stay.from), list.uleb(stay.to);
      sized(list, place_of(v.type, stay));
    }
    list.u8(location_list::end);
  }
  static void sized(Sink s, const std::string& bytes) { s.uleb(bytes.size()), s.bytes(bytes); }

  std::string place_of(Type t, const VariableFact::Stay& stay) const {
    std::string out;
    Sink s(out);
    switch (stay.where) {
      case VariableFact::Where::Register: {
        const unsigned number = target_.object.unwind_numbers[static_cast<size_t>(stay.place)];
        number < 32 ? s.u8(expression::reg0 + number) : (s.u8(expression::regx), s.uleb(number));
        break;
      }
      case VariableFact::Where::Frame: s.u8(expression::fbreg), s.sleb(stay.place); break;
      case VariableFact::Where::Constant:
        s.u8(expression::implicit_value), s.uleb(t.bytes());
        for (unsigned k = 0; k < t.bytes(); ++k) s.u8(k < 8 ? static_cast<uint64_t>(stay.place) >> 8 * k : 0);
        break;
    }
    return out;
  }

  // Where a function stands in its source: the program says it of instructions only, so the least line of
  // those that are its own, or of the calls that others were inlined for. Zeros where nothing is known.
  std::pair<uint32_t, uint32_t> own_line(const PlacedFunction& f) const {
    uint32_t source = 0, least = 0;
    for (const EmittedLine& l : f.code->lines) {
      Position p = l.position;
      while (p.exists() && module_.position(p).inlined_at.exists()) p = module_.position(p).inlined_at;
      if (!p.exists()) continue;
      const PositionRow& row = module_.position(p);
      if (least && (row.source != source || row.line >= least)) continue;
      source = row.source, least = row.line;
    }
    return {source, least};
  }

  DebugSections& sections_;
  const Module& module_;
  const Target& target_;
  const std::vector<PlacedFunction>& functions_;
  const SourceNumbers& sources_;
  std::map<std::string, uint32_t> types_;  // by name: where in .debug_info
  std::map<uint32_t, uint32_t> abstract_;  // functions that were inlined, by name: where in .debug_info
  uint32_t info_ = 0, ranges_ = 0, ranges_symbol_ = 0, lists_ = 0, lists_symbol_ = 0;
};

}  // namespace

void add_functions(DebugSections& sections, const Module& module, const Target& target,
                   const std::vector<PlacedFunction>& functions, const SourceNumbers& sources,
                   uint32_t lines) {
  FunctionWriter(sections, module, target, functions, sources).run(lines);
}

}  // namespace porphyry::object
