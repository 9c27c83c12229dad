// ELF, as the system's own header has its structures: file header, section contents, symbols, names,
// relocations, section headers.
#include <elf.h>

#include <algorithm>
#include <cstring>
#include <unordered_map>

#include "porphyry/object/object.h"
#include "sink.h"

namespace porphyry {
namespace {

// Texts one behind the other, each once; the first is empty.
class Texts {
 public:
  uint32_t add(const std::string& text) {
    if (text.empty()) return 0;
    auto [at, is_new] = known_.try_emplace(text, static_cast<uint32_t>(bytes_.size()));
    if (is_new) bytes_ += text + '\0';
    return at->second;
  }
  const std::string& bytes() const { return bytes_; }

 private:
  std::string bytes_ = std::string(1, '\0');
  std::unordered_map<std::string, uint32_t> known_;
};

template <class T>
void append(std::string& out, const T& row) {
  out.append(reinterpret_cast<const char*>(&row), sizeof row);
}

class ElfWriter {
 public:
  explicit ElfWriter(const ObjectFile& object) : object_(object) {}

  std::string run() {
    out_.resize(sizeof(Elf64_Ehdr));
    headers_.push_back({});
    for (const auto& s : object_.sections) contents(s);
    order_symbols();
    uint32_t symbol_table = static_cast<uint32_t>(headers_.size() + relocated());
    for (size_t k = 0; k < object_.sections.size(); ++k)
      if (!object_.sections[k].relocations.empty()) relocations(k, symbol_table);
    symbols();
    texts();
    header();
    return std::move(out_);
  }

 private:
  size_t relocated() const {
    return static_cast<size_t>(
        std::count_if(object_.sections.begin(), object_.sections.end(),
                      [](const ObjectFile::Section& s) { return !s.relocations.empty(); }));
  }

  Elf64_Shdr& add(const std::string& name, uint32_t type, uint64_t flags, uint64_t align,
                  const std::string& bytes) {
    object::Sink(out_).align(std::max<uint64_t>(align, 1));
    Elf64_Shdr h{};
    h.sh_name = names_.add(name);
    h.sh_type = type;
    h.sh_flags = flags;
    h.sh_offset = out_.size();
    h.sh_size = bytes.size();
    h.sh_addralign = align;
    out_ += bytes;
    headers_.push_back(h);
    return headers_.back();
  }

  void contents(const ObjectFile::Section& s) {
    uint64_t flags = (s.allocated ? uint64_t(SHF_ALLOC) : 0) | (s.writable ? uint64_t(SHF_WRITE) : 0) |
                     (s.is_code ? uint64_t(SHF_EXECINSTR) : 0);
    Elf64_Shdr& h = add(s.name, s.zeros ? SHT_NOBITS : SHT_PROGBITS, flags, s.align, s.bytes);
    if (s.zeros) h.sh_size = s.size;
    h.sh_addr = s.address;
  }

  // Local symbols stand before the others, as the format wants it.
  void order_symbols() {
    rows_.resize(object_.symbols.size());
    uint32_t next = 1;
    for (bool local : {true, false}) {
      for (size_t k = 0; k < object_.symbols.size(); ++k)
        if (object_.symbols[k].is_local == local) rows_[k] = next++;
      if (local) first_global_ = next;
    }
  }

  void relocations(size_t section, uint32_t symbol_table) {
    std::string bytes;
    for (const auto& r : object_.sections[section].relocations) {
      Elf64_Rela row{};
      row.r_offset = r.offset;
      row.r_info = ELF64_R_INFO(uint64_t(rows_[r.symbol]), uint64_t(r.type));
      row.r_addend = r.addend;
      append(bytes, row);
    }
    Elf64_Shdr& h = add(".rela" + object_.sections[section].name, SHT_RELA, SHF_INFO_LINK, 8, bytes);
    h.sh_entsize = sizeof(Elf64_Rela);
    h.sh_link = symbol_table;
    h.sh_info = static_cast<uint32_t>(section + 1);
  }

  void symbols() {
    std::vector<Elf64_Sym> table(object_.symbols.size() + 1);
    for (size_t k = 0; k < object_.symbols.size(); ++k) {
      const auto& s = object_.symbols[k];
      Elf64_Sym& row = table[rows_[k]];
      bool defined = s.section != ObjectFile::undefined;
      unsigned type = s.is_section    ? STT_SECTION
                      : !defined      ? STT_NOTYPE
                      : s.is_function ? STT_FUNC
                                      : STT_OBJECT;
      unsigned binding = s.is_local ? STB_LOCAL : s.is_weak ? STB_WEAK : STB_GLOBAL;
      row.st_name = symbol_names_.add(s.name);
      row.st_info = static_cast<unsigned char>(ELF64_ST_INFO(binding, type));
      row.st_shndx = static_cast<uint16_t>(defined ? s.section + 1 : SHN_UNDEF);
      row.st_value = s.value;
      row.st_size = s.size;
    }
    std::string bytes;
    for (const Elf64_Sym& row : table) append(bytes, row);
    Elf64_Shdr& h = add(".symtab", SHT_SYMTAB, 0, 8, bytes);
    h.sh_entsize = sizeof(Elf64_Sym);
    h.sh_link = static_cast<uint32_t>(headers_.size());
    h.sh_info = first_global_;
  }

  void texts() {
    add(".strtab", SHT_STRTAB, 0, 1, symbol_names_.bytes());
    names_.add(".shstrtab");
    add(".shstrtab", SHT_STRTAB, 0, 1, names_.bytes());
  }

  void header() {
    object::Sink(out_).align(8);
    Elf64_Ehdr h{};
    std::memcpy(h.e_ident, ELFMAG, SELFMAG);
    h.e_ident[EI_CLASS] = ELFCLASS64;
    h.e_ident[EI_DATA] = ELFDATA2LSB;
    h.e_ident[EI_VERSION] = EV_CURRENT;
    h.e_type = ET_REL;
    h.e_machine = object_.machine;
    h.e_version = EV_CURRENT;
    h.e_shoff = out_.size();
    h.e_ehsize = sizeof(Elf64_Ehdr);
    h.e_shentsize = sizeof(Elf64_Shdr);
    h.e_shnum = static_cast<uint16_t>(headers_.size());
    h.e_shstrndx = static_cast<uint16_t>(headers_.size() - 1);
    for (const Elf64_Shdr& s : headers_) append(out_, s);
    std::memcpy(out_.data(), &h, sizeof h);
  }

  const ObjectFile& object_;
  std::string out_;
  std::vector<Elf64_Shdr> headers_;
  std::vector<uint32_t> rows_;  // by symbol of the object: row of the table
  uint32_t first_global_ = 1;
  Texts names_, symbol_names_;
};

}  // namespace

std::string elf_bytes(const ObjectFile& object) { return ElfWriter(object).run(); }

}  // namespace porphyry
