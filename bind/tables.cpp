// Writes the tables as C++: arrays of constants, in the order of machine/target.h.
#include <fmt/format.h>

#include "book.h"

namespace porphyry::bind {
namespace {

using namespace machine;

std::string text(std::string_view s) {
  std::string out = "\"";
  for (char c : s) {
    if (c < 0x20)
      out += fmt::format("\\{:03o}", static_cast<int>(c));
    else
      out += c;
  }
  return out + "\"";
}

std::string type(Type t) {
  if (t.has_lanes()) return fmt::format("{}.with_lanes({})", type(t.element()), t.lanes());
  switch (t.shape()) {
    case Shape::None: return "Type()";
    case Shape::Bool: return "Type::boolean()";
    case Shape::Pointer: return "Type::pointer()";
    case Shape::Float: return t.bits() == 32 ? "Type::f32()" : "Type::f64()";
    case Shape::Integer: return fmt::format("Type::integer({})", t.bits());
  }
  return "Type()";
}

class TableWriter {
 public:
  TableWriter(const BoundBook& book, const std::string& identifier) : book_(book), identifier_(identifier) {}

  std::string run() {
    line("// Written by the bookbinder. Do not edit: change the book.");
    line("#include <array>\n\n#include \"porphyry/machine/target.h\"\n");
    line("namespace porphyry::targets {\nnamespace {\nusing namespace machine;\n");
    classes();
    forms();
    rules();
    lists();
    line("}  // namespace\n");
    whole();
    line("}  // namespace porphyry::targets");
    return std::move(out_);
  }

 private:
  template <class... A>
  void line(fmt::format_string<A...> format, A&&... arguments) {
    out_ += fmt::format(format, std::forward<A>(arguments)...) + "\n";
  }
  void line(const char* plain) { (out_ += plain) += "\n"; }

  template <class E>
  static int n(E e) {
    return static_cast<int>(e);
  }

  static std::string place(const Term& p) {
    return fmt::format("{{TermKind({}), {}, {}, {}u}}", n(p.kind), type(p.type), p.index, p.literal);
  }
  static std::string registers(const RegisterSet& set) {
    std::string out;
    for (unsigned r : set) out += fmt::format("{}, ", r);
    return "RegisterSet{" + out + "}";
  }
  static std::string op(Op o) { return fmt::format("Op({})", n(o)); }

  void classes() {
    for (size_t k = 0; k < book_.classes.size(); ++k) {
      const BoundClass& c = book_.classes[k];
      for (size_t v = 0; v < c.views.size(); ++v) {
        std::string names;
        for (const auto& name : c.views[v].names) names += text(name) + ", ";
        line("constexpr std::string_view names_{}_{}[] = {{{}}};", k, v, names);
      }
      std::string views;
      for (size_t v = 0; v < c.views.size(); ++v)
        views += fmt::format("{{{}, Rest({}), names_{}_{}}}, ", c.views[v].bits, n(c.views[v].rest), k, v);
      line("constexpr RegisterView views_{}[] = {{{}}};", k, views);
    }
    std::string all;
    for (size_t k = 0; k < book_.classes.size(); ++k) {
      const BoundClass& c = book_.classes[k];
      all += fmt::format("{{{}, {}, {}, {}, views_{}}}, ", text(c.name), c.first, c.count, c.bits, k);
    }
    line("constexpr RegisterClass classes[] = {{{}}};\n", all);
  }

  // All operands in one array, all encodings in one, all meanings in one; forms take slices.
  void forms() {
    std::string operands, encodings, meanings, rows;
    size_t o = 0, e = 0, m = 0;
    for (const BoundForm& f : book_.forms) {
      for (const FormOperand& x : f.operands)
        operands += fmt::format("  {{OperandKind({}), {}, {}, {}, {}, {}, {}, {}, {}, {}, {}}},\n", n(x.kind),
                                x.register_class, type(x.type), x.read, x.written, x.clears, x.only,
                                x.literal_bits, x.unit, x.literal_unsigned, x.aligned);
      for (const EncodingStep& x : f.encoding)
        encodings += fmt::format("  {{{}, {}, {}, {}}},\n", x.kind, x.value, x.a, x.b);
      for (const MeaningStep& x : f.meaning)
        meanings +=
            fmt::format("  {{MeaningKind({}), {}, {}, {{{}, {}, {}}}}},\n", n(x.kind), op(x.op), place(x.to),
                        place(x.arguments[0]), place(x.arguments[1]), place(x.arguments[2]));
      auto slice = [](const char* array, size_t from, size_t count) {
        return count ? fmt::format("{{{} + {}, {}}}", array, from, count) : std::string("{}");
      };
      rows += fmt::format("  {{{{{}, {}, {}, {}, {}, {:#x}u, {:#x}u, {}, {}, {}, {}}}, ", registers(f.reads),
                          registers(f.writes), f.reads_flags, f.writes_flags, f.tests, f.flags_read,
                          f.flags_as_tested, f.first_in_group, f.next_in_group, f.opposite, f.is_jump);
      rows += fmt::format("{}, {}, {}, {}, {}, {:#x}u, {}, {}, {}, {}}},\n", text(f.name), text(f.spelling),
                          slice("operands", o, f.operands.size()), slice("encodings", e, f.encoding.size()),
                          slice("meanings", m, f.meaning.size()), f.needs, f.latency, f.cost, f.unit, f.busy);
      o += f.operands.size(), e += f.encoding.size(), m += f.meaning.size();
    }
    out_ += "constexpr FormOperand operands[] = {\n" + operands +
            "};\n\nconstexpr EncodingStep encodings[] = {\n" + encodings +
            "};\n\nconstexpr MeaningStep meanings[] = {\n" + meanings + "};\n\nconstexpr Form forms[] = {\n" +
            rows + "};\n\n";
  }

  static std::string source(const RuleSource& s) {
    if (s.kind == SourceKind::None) return "{}";
    return fmt::format("{{SourceKind({}), Part({}), {}, {}, {}, {}, {}, {}, {}}}", n(s.kind), n(s.part),
                       s.variable, s.index, s.scale, s.constant, s.physical, type(s.type),
                       s.number == INT64_MIN ? "INT64_MIN" : std::to_string(s.number) + "ll");
  }

  static std::string facts(const RuleFacts& f) {
    return fmt::format(
        "{{{:#x}, {}, {}, {}, {}, {}, {}, {}, {}, {}, {:#x}, {:#x}, {}, {{Way({}), {}, {}, {}}}}}", f.needs,
        f.cost, f.root, f.inner, f.place, f.constants, f.literal, f.lines, f.operands, f.temporaries,
        f.in_register, f.overwritten, f.aligned, n(f.covered.way), op(f.covered.op), type(f.covered.operand),
        type(f.covered.result));
  }

  void rules() {
    std::string nodes, steps, variables, rows, shuffles;
    size_t a = 0, b = 0, c = 0, lanes = 0;
    for (const BoundRule& r : book_.rules) {
      for (const BoundNode& x : r.nodes) {
        nodes += fmt::format("  {{NodeKind({}), {}, {}, {}, {{{}, {}, {}}}, {}, Fit({}), {:#x}u", n(x.kind),
                             op(x.op), type(x.operand), type(x.result), x.children[0], x.children[1],
                             x.children[2], x.variable, n(x.fit), x.literal);
        nodes += x.shuffled.empty() ? "},\n"
                                    : fmt::format(", {{shuffles + {}, {}}}}},\n", lanes, x.shuffled.size());
        for (uint8_t lane : x.shuffled) shuffles += fmt::format("{}, ", lane);
        lanes += x.shuffled.size();
      }
      for (const RuleStep& x : r.steps)
        steps += fmt::format("  {{{}, {{{}, {}, {}, {}}}, {{{}, {}, {}, {}}}}},\n", x.form, source(x.in[0]),
                             source(x.in[1]), source(x.in[2]), source(x.in[3]), source(x.out[0]),
                             source(x.out[1]), source(x.out[2]), source(x.out[3]));
      for (const VariableShape& x : r.variables)
        variables += fmt::format("  {{{}, {}}},\n", x.register_class, x.bits);
      rows += fmt::format(
          "  {{{}, {}, {{nodes + {}, {}}}, {{steps + {}, {}}}, {{variables + {}, {}}}, {}}},\n", facts(r),
          text(r.name), a, r.nodes.size(), b, r.steps.size(), c, r.variables.size(), r.matches_constant);
      a += r.nodes.size(), b += r.steps.size(), c += r.variables.size();
    }
    out_ += "constexpr uint8_t shuffles[] = {" + shuffles + "0};\n\nconstexpr PatternNode nodes[] = {\n" +
            nodes + "};\n\nconstexpr RuleStep steps[] = {\n" + steps +
            "};\n\nconstexpr VariableShape variables[] = {\n" + variables +
            "  {}};\n\nconstexpr Rule rules[] = {\n" + rows + "};\n\n";
    size_t constants = 0;
    while (constants < book_.rules.size() && !book_.rules[constants].matches_constant) ++constants;
    line("constexpr uint16_t constant_rules = {};\n", constants);
  }

  void list(const char* name, const std::vector<uint8_t>& bytes) {
    std::string all;
    for (uint8_t b : bytes) all += std::to_string(b) + ", ";
    line("constexpr std::array<uint8_t, {}> {}{{{{{}}}}};", bytes.size(), name, all);
  }
  void list(const char* name, const std::vector<std::string>& strings) {
    std::string all;
    for (const auto& s : strings) all += text(s) + ", ";
    line("constexpr std::array<std::string_view, {}> {}{{{{{}}}}};", strings.size(), name, all);
  }
  void lists() {
    list("whole", book_.convention.whole);
    list("floats", book_.convention.floats);
    list("whole_results", book_.convention.whole_results);
    list("float_results", book_.convention.float_results);
    list("scales", book_.address.scales);
    list("features", book_.features);
    list("flags", book_.flags);
    std::string moves, spills, units;
    for (const BoundUnit& u : book_.units) units += fmt::format("Unit{{{}, {}}}, ", text(u.name), u.count);
    line("constexpr std::array<Unit, {}> units{{{{{}}}}};", book_.units.size(), units);
    for (const MoveForm& m : book_.upkeep.moves)
      moves += fmt::format("{{{}, {}, {}}}, ", m.register_class, m.bits, m.form);
    for (const SpillForm& m : book_.upkeep.spills)
      spills += fmt::format("{{{}, {}, {}, {}}}, ", m.register_class, m.bits, m.spill, m.reload);
    line("constexpr MoveForm moves[] = {{{}}};\nconstexpr SpillForm spills[] = {{{}}};", moves, spills);
  }

  size_t unit(std::string_view name) const {
    for (size_t k = 0; k < book_.units.size(); ++k)
      if (book_.units[k].name == name) return k;
    return machine::no_unit;
  }

  void whole() {
    const unsigned word_bits = book_.classes.empty() ? 64 : book_.classes[0].bits;
    line("Book {}() {{\n  Book t;", identifier_);
    line("  t.name = {};\n  t.features = features;\n  t.usual_features = {};", text(book_.name), book_.usual);
    line("  t.classes = classes;\n  t.flags = flags;\n  t.forms = forms;\n  t.rules = rules;");
    line("  t.constant_rules = constant_rules;\n");
    line("  t.layout = {{ByteOrder({}), {}}};\n  t.word_bits = {};\n  t.lower_bits = {};",
         n(book_.layout.order), book_.layout.pointer_bits, book_.classes.empty() ? 64 : book_.classes[0].bits,
         book_.lower_bits);
    line("  t.pace = {{{}, {}, units, {}, {}}};", book_.issue, book_.window, unit("load"), unit("store"));
    line("  t.address = {{scales, {}, {}}};", book_.address.offset_bits, book_.address.symbols);
    line("  t.upkeep.moves = moves;\n  t.upkeep.spills = spills;\n  t.upkeep.longer = {};",
         registers(book_.upkeep.longer));
    const BoundConvention& c = book_.convention;
    line(
        "  t.convention = {{{}, whole, floats, whole_results, float_results, {}, {}, {}, {}, {}, {}, {}, {}, "
        "{}}};",
        text(c.name), registers(c.kept), registers(c.reserved), c.stack, c.stack_align, c.scratch,
        c.float_count, c.return_address, word_bits, c.far);
    for (const auto& [field, form] : book_.upkeep.forms) line("  t.upkeep.{} = {};", field, form);
    line("  return t;\n}\n");
  }

  const BoundBook& book_;
  const std::string& identifier_;
  std::string out_;
};

}  // namespace

std::string write_tables(const BoundBook& book, const std::string& identifier) {
  return TableWriter(book, identifier).run();
}

}  // namespace porphyry::bind
