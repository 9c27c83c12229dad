#include "function_reader.h"
#include "porphyry/formats/packed.h"

namespace porphyry {
namespace packed {
namespace {

class ModuleReader {
 public:
  ModuleReader(In& in, uint64_t version, Realm& realm)
      : in_(in), version_(version), module_(std::make_unique<Module>(realm)) {}

  std::unique_ptr<Module> run() {
    names();
    head();
    kinds();
    positions();
    symbols();
    comments();
    FunctionReader bodies(in_, *module_, names_, positions_, Type::constant_budget);
    for (size_t k = 0; k < module_->symbol_count() && in_.good(); ++k)
      if (module_->is_function(Symbol(k))) bodies.run(module_->function(Symbol(k)));
    if (in_.good() && in_.left()) in_.fail("the file goes on behind its end");
    return std::move(module_);
  }

 private:
  void names() {
    size_t count = in_.count("names");
    names_.reserve(count);
    for (size_t k = 0; k < count && in_.good(); ++k) names_.push_back(module_->realm().name(in_.text()));
  }
  Name name_or_none() {
    uint64_t ref = in_.below(names_.size() + 1, "name");
    return ref ? names_[ref - 1] : Name();
  }
  Name name() {
    Name n = name_or_none();
    if (!n.exists() && in_.good()) in_.fail("a name is missing");
    return n.exists() ? n : module_->realm().name("");
  }

  void head() {
    module_->set_name(name());
    uint8_t order = in_.byte(), bits = in_.byte();
    if (in_.good() && (order > 1 || (bits != 32 && bits != 64))) return in_.fail("there is no such layout");
    module_->layout = {static_cast<ByteOrder>(order), bits};
    size_t count = in_.count("sources");
    for (size_t k = 0; k < count && in_.good(); ++k) {
      uint32_t number = static_cast<uint32_t>(in_.below(uint64_t(1) << 32, "source"));
      module_->sources.push_back({number, std::string(in_.text())});
    }
  }

  void kinds() {
    Kinds& kinds = module_->kinds;
    size_t trees = in_.count("trees of kinds");
    for (size_t k = 0; k < trees && in_.good(); ++k) kinds.add_tree(name());
    size_t count = in_.count("kinds");
    for (size_t k = 0; k < count && in_.good(); ++k) {
      KindRow row{.name = name(), .tree = KindTree(in_.below(trees, "tree of kinds"))};
      uint64_t parent = in_.below(count + 1, "kind");
      if (parent) row.parent = Kind(parent - 1);
      uint64_t align = in_.below(16384 + 8192 + 4097, "alignment");
      row.align = static_cast<uint32_t>(align % 8192);
      row.grows = align & 8192;
      if (align & 16384) {
        row.least = in_.number();
        row.most = in_.number();
        if (!row.grows || row.least > row.most || !row.is_bounded())
          return in_.fail("the bounds of a kind are turned round, or of one that does not grow");
      }
      kinds.add_kind(row);
    }
    size_t records = in_.count("records");
    for (size_t k = 0; k < records && in_.good(); ++k) record(trees, count, records);
    size_t paths = in_.count("paths");
    for (size_t k = 0; k < paths && in_.good(); ++k) path(count, records);
  }

  void record(size_t trees, size_t kind_count, size_t record_count) {
    RecordRow row{.name = name(), .tree = KindTree(in_.below(trees, "tree of kinds"))};
    row.size = in_.below((uint64_t(1) << 48) + 1, "size");
    size_t members = in_.count("members");
    if (members > 65535) return in_.fail("a record has more than 65535 members");
    for (size_t k = 0; k < members && in_.good(); ++k) {
      RecordMember m{.offset = in_.below((uint64_t(1) << 48) + 1, "offset"), .name = name()};
      if (in_.byte())
        m.record = Record(in_.below(record_count, "record"));
      else
        m.kind = Kind(in_.below(kind_count, "kind"));
      row.members.push_back(m);
    }
    if (in_.good()) module_->kinds.add_record(std::move(row));
  }

  void path(size_t kind_count, size_t record_count) {
    uint64_t record = in_.below(record_count + 1, "record");
    KindPath made;
    size_t number = module_->kinds.path_count();
    if (record == 0) {
      size_t kind = in_.below(kind_count, "kind");
      if (in_.good()) made = module_->kinds.path(Kind(kind));
    } else {
      size_t count = in_.count("steps");
      std::vector<uint16_t> members;
      for (size_t k = 0; k < count; ++k) members.push_back(static_cast<uint16_t>(in_.below(65536, "member")));
      auto found = in_.good() ? module_->kinds.path(Record(record - 1), std::move(members)) : std::nullopt;
      if (found) made = *found;
    }
    if (in_.good() && made != KindPath(number)) in_.fail("a path names no member, or is there twice");
  }

  void positions() {
    size_t count = in_.count("positions");
    positions_.reserve(count);
    int64_t line = 0;
    for (size_t k = 0; k < count && in_.good(); ++k) {
      PositionRow row;
      row.source = static_cast<uint32_t>(in_.below(uint64_t(1) << 32, "source"));
      line += in_.signed_number();
      if (line < 0 || line > 0xffffffff) return in_.fail("a line has no number");
      row.line = static_cast<uint32_t>(line);
      row.column = static_cast<uint32_t>(in_.below(uint64_t(1) << 32, "column"));
      // Only earlier ones: so no chain of positions leads back to itself.
      uint64_t at = in_.below(k + 1, "position");
      if (at && version_ >= 2) row.inlined = name_or_none();
      uint64_t with = in_.below(k + 1, "position");
      if (at && in_.good()) row.inlined_at = positions_[at - 1];
      if (with && in_.good()) row.merged_with = positions_[with - 1];
      positions_.push_back(module_->add_position(row));
    }
  }

  std::vector<Type> types() {
    std::vector<Type> out;
    size_t count = in_.count("types");
    if (count > Function::list_limit) in_.fail("a function has more than 65535 parameters");
    for (size_t k = 0; k < count && in_.good(); ++k) out.push_back(in_.type());
    return out;
  }

  void symbols() {
    size_t count = in_.count("symbols");
    for (size_t k = 0; k < count && in_.good(); ++k) symbol(count);
  }

  void symbol(size_t count) {
    uint8_t flags = in_.byte();
    if (flags >> 6) return in_.fail("there is no such symbol");
    SymbolRow row{.name = name(), .kind = static_cast<SymbolKind>(flags & 3)};
    row.is_local = flags & is_local, row.is_weak = flags & is_weak;
    row.section = in_.text();
    bool is_function = row.kind == SymbolKind::Function;
    if (is_function || row.kind == SymbolKind::ExternFunction) {
      Signature s{types(), {}};
      s.results = types();
      s.variadic = flags & is_variadic;
      if (s.variadic && is_function) return in_.fail("a function with a body takes any number of arguments");
      facts(row.facts, s.parameters.size());
      if (is_function)
        row.function = std::make_unique<Function>(std::move(s));
      else
        row.signature = std::move(s);
    }
    if (row.kind == SymbolKind::Data) data(row.data, count);
    row.data.is_const = flags & is_const;
    if (!in_.good()) return;
    if (module_->find(module_->text(row.name)).exists()) return in_.fail("two symbols have one name");
    module_->add(std::move(row));
  }

  void facts(FunctionFacts& f, size_t parameters) {
    f.permits = in_.byte();
    uint8_t style = in_.byte();
    f.keep_small = style & 1;
    if (style >> 1 > 2) return in_.fail("there is no such way of inlining");
    f.inlining = static_cast<Inlining>(style >> 1);
    f.outside = in_.byte();
    if (f.permits >> 7 || f.outside >> 6) return in_.fail("a function has unknown properties");
    size_t marks = in_.count("marks");
    if (marks > parameters) return in_.fail("there are more marks than parameters");
    for (size_t k = 0; k < marks; ++k) {
      uint8_t m = in_.byte();
      if (m >> 3) return in_.fail("a parameter has unknown marks");
      f.set_marks(k, m);
    }
  }

  void data(DataItem& item, size_t symbols) {
    uint8_t log = in_.byte();
    if (log > 12) return in_.fail("an alignment is larger than 4096");
    item.align = uint32_t(1) << log;
    size_t pieces = in_.count("pieces of data");
    for (size_t k = 0; k < pieces && in_.good(); ++k) {
      DataPiece p;
      uint8_t kind = in_.byte();
      if (kind > 3) return in_.fail("there is no such piece of data");
      p.kind = static_cast<DataPiece::Kind>(kind);
      if (p.kind == DataPiece::Kind::Zero) p.zero_bytes = in_.below((uint64_t(1) << 32) + 1, "size");
      if (p.kind == DataPiece::Kind::Bytes) p.bytes = in_.text();
      if (p.kind == DataPiece::Kind::Addresses) {
        size_t count = in_.count("addresses");
        for (size_t s = 0; s < count; ++s) p.symbols.push_back(Symbol(in_.below(symbols, "symbol")));
      }
      if (p.kind == DataPiece::Kind::Numbers) numbers(p);
      item.pieces.push_back(std::move(p));
    }
  }

  void numbers(DataPiece& p) {
    p.type = in_.type();
    size_t count = in_.count("numbers");
    if (count % p.type.words()) return in_.fail("data ends inside a number");
    for (size_t n = 0; n < count && in_.good(); ++n) {
      uint64_t word = in_.number();
      bool top = p.type.bits() % 64 != 0 && n % p.type.words_per_lane() == p.type.words_per_lane() - 1u;
      if (top && word >> p.type.bits() % 64) return in_.fail("a number in data is wider than its type");
      p.numbers.push_back(word);
    }
  }

  void comments() {
    size_t count = in_.count("comments");
    for (size_t k = 0; k < count && in_.good(); ++k) {
      uint8_t place = in_.byte(), above = place & static_cast<uint8_t>(~comment_has_part);
      if (above > static_cast<uint8_t>(Module::Comment::Above::End)) return in_.fail("a comment is nowhere");
      uint32_t index = static_cast<uint32_t>(in_.below(uint64_t(1) << 32, "place"));
      uint32_t part = 0;
      if (place & comment_has_part) part = static_cast<uint32_t>(in_.below(uint64_t(1) << 32, "part"));
      std::string text(in_.text());
      if (!text.starts_with("--") || text.find('\n') != std::string::npos)
        return in_.fail("a comment is none");
      module_->comments.push_back({static_cast<Module::Comment::Above>(above), index, std::move(text), part});
    }
  }

  In& in_;
  uint64_t version_;
  std::unique_ptr<Module> module_;
  std::vector<Name> names_;
  std::vector<Position> positions_;
};

uint64_t fixed(std::string_view bytes, size_t at, unsigned count) {
  uint64_t v = 0;
  for (unsigned k = 0; k < count; ++k) v |= uint64_t(static_cast<uint8_t>(bytes[at + k])) << 8 * k;
  return v;
}

}  // namespace
}  // namespace packed

bool is_packed(std::string_view bytes) {
  return bytes.substr(0, sizeof(packed::magic)) == std::string_view(packed::magic, sizeof(packed::magic));
}

Result<std::unique_ptr<Module>> read_packed(Realm& realm, const std::string& name, std::string_view bytes) {
  auto refuse = [&](std::string message, std::string expected) {
    Diagnostic d = complaint(std::move(message), std::move(expected));
    d.file = name;
    return d;
  };
  if (!is_packed(bytes)) return refuse("this is no packed module", "a file that 'porphyry pack' wrote");
  if (bytes.size() < packed_header_bytes)
    return refuse("the file ends in its header", std::to_string(packed_header_bytes) + " bytes and more");
  uint64_t version = packed::fixed(bytes, 4, 4), size = packed::fixed(bytes, 8, 8);
  if (version == 0 || version > packed_version)
    return refuse("the file has version " + std::to_string(version),
                  "1 to " + std::to_string(packed_version) + ": a newer Porphyry reads newer files");
  std::string_view payload = bytes.substr(packed_header_bytes);
  if (payload.size() != size)
    return refuse("the file has " + std::to_string(payload.size()) + " bytes behind its header",
                  std::to_string(size) + ", as the header says");
  if (packed_checksum(payload) != packed::fixed(bytes, 16, 8))
    return refuse("the file was changed: its checksum is not that of its bytes",
                  "the file as it was written");
  packed::In in(payload);
  auto module = packed::ModuleReader(in, version, realm).run();
  if (in.good()) return module;
  return refuse("at byte " + std::to_string(packed_header_bytes + in.offset()) + ": " + in.problem(),
                "a file that 'porphyry pack' wrote");
}

}  // namespace porphyry
