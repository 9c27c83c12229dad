// Reading: libelf finds sections, symbols and relocations, libdw the source lines.
#include <elfutils/libdwfl.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <gelf.h>
#include <sys/mman.h>
#include <unistd.h>

#include <algorithm>
#include <memory>

#include "porphyry/object/read.h"

namespace porphyry {
namespace {

struct EndElf {
  void operator()(Elf* e) const { elf_end(e); }
};
struct EndDwfl {
  void operator()(Dwfl* d) const { dwfl_end(d); }
};

class ElfReader {
 public:
  ElfReader(const std::string& name, std::string_view bytes) : name_(name), bytes_(bytes) {}

  Result<ReadObject> run() {
    elf_version(EV_CURRENT);
    elf_.reset(elf_memory(const_cast<char*>(bytes_.data()), bytes_.size()));
    GElf_Ehdr header;
    if (!elf_ || elf_kind(elf_.get()) != ELF_K_ELF || !gelf_getehdr(elf_.get(), &header))
      return refuse("is no whole ELF file");
    if (gelf_getclass(elf_.get()) != ELFCLASS64 || header.e_ident[EI_DATA] != ELFDATA2LSB)
      return refuse("is not for 64 bits, little-endian");
    if (header.e_type != ET_REL) return refuse("is not relocatable: it has been linked");
    if (header.e_shoff + uint64_t(header.e_shnum) * header.e_shentsize > bytes_.size() || header.e_shoff == 0)
      return refuse("is no whole ELF file: its sections lie behind its end");
    out_.file.machine = header.e_machine;
    size_t names = 0;
    if (elf_getshdrstrndx(elf_.get(), &names) != 0) return refuse("has no names of sections");
    for (Elf_Scn* s = nullptr; (s = elf_nextscn(elf_.get(), s));) section(s, names);
    for (Elf_Scn* s = nullptr; (s = elf_nextscn(elf_.get(), s));)
      if (!symbols(s) || !relocations(s))
        return refuse("is damaged: " +
                      std::string(elf_errmsg(-1) ? elf_errmsg(-1) : "an entry leads out of it"));
    out_.lines.resize(out_.file.sections.size());
    lines();
    return std::move(out_);
  }

 private:
  Result<ReadObject> refuse(const std::string& why) {
    return complaint("'" + name_ + "' " + why, "a relocatable ELF object of 64 bits");
  }

  void section(Elf_Scn* s, size_t names) {
    GElf_Shdr h;
    ObjectFile::Section out;
    if (gelf_getshdr(s, &h)) {
      const char* name = elf_strptr(elf_.get(), names, h.sh_name);
      out.name = name ? name : "";
      out.is_code = h.sh_flags & SHF_EXECINSTR;
      out.writable = h.sh_flags & SHF_WRITE;
      out.allocated = h.sh_flags & SHF_ALLOC;
      out.zeros = h.sh_type == SHT_NOBITS;
      out.align = h.sh_addralign;
      out.size = h.sh_size;
      Elf_Data* data = out.zeros ? nullptr : elf_rawdata(s, nullptr);
      if (data && data->d_buf) out.bytes.assign(static_cast<const char*>(data->d_buf), data->d_size);
    }
    out_.file.sections.push_back(std::move(out));
  }

  // Sections are numbered from 1 in the file.
  bool symbols(Elf_Scn* s) {
    GElf_Shdr h;
    if (!gelf_getshdr(s, &h)) return false;
    if (h.sh_type != SHT_SYMTAB || h.sh_entsize == 0) return true;
    Elf_Data* data = elf_getdata(s, nullptr);
    if (!data) return false;
    for (int k = 0; k < static_cast<int>(h.sh_size / h.sh_entsize); ++k) {
      GElf_Sym is;
      if (!gelf_getsym(data, k, &is)) return false;
      const char* name = elf_strptr(elf_.get(), h.sh_link, is.st_name);
      ObjectFile::Symbol out{.name = name ? name : "", .value = is.st_value, .size = is.st_size};
      if (is.st_shndx > 0 && is.st_shndx <= out_.file.sections.size()) out.section = is.st_shndx - 1u;
      out.is_local = GELF_ST_BIND(is.st_info) == STB_LOCAL;
      out.is_weak = GELF_ST_BIND(is.st_info) == STB_WEAK;
      out.is_function = GELF_ST_TYPE(is.st_info) == STT_FUNC;
      out.is_section = GELF_ST_TYPE(is.st_info) == STT_SECTION;
      if (out.is_section && out.section != ObjectFile::undefined)
        out.name = out_.file.sections[out.section].name;
      out_.file.symbols.push_back(std::move(out));
    }
    return true;
  }

  bool relocations(Elf_Scn* s) {
    GElf_Shdr h;
    if (!gelf_getshdr(s, &h)) return false;
    if (h.sh_type != SHT_RELA || h.sh_entsize == 0) return true;
    if (h.sh_info == 0 || h.sh_info > out_.file.sections.size()) return false;
    Elf_Data* data = elf_getdata(s, nullptr);
    if (!data) return false;
    auto& list = out_.file.sections[h.sh_info - 1].relocations;
    for (int k = 0; k < static_cast<int>(h.sh_size / h.sh_entsize); ++k) {
      GElf_Rela is;
      if (!gelf_getrela(data, k, &is)) return false;
      list.push_back({is.r_offset, static_cast<uint32_t>(GELF_R_TYPE(is.r_info)),
                      static_cast<uint32_t>(GELF_R_SYM(is.r_info)), is.r_addend});
    }
    std::sort(list.begin(), list.end(), [](const auto& a, const auto& b) { return a.offset < b.offset; });
    return true;
  }

  // libdw wants a file, since it relocates the lines' addresses on the way. What it cannot read has no lines.
  void lines() {
    int file = memfd_create("object", MFD_CLOEXEC);
    if (file < 0) return;
    if (write(file, bytes_.data(), bytes_.size()) == static_cast<ssize_t>(bytes_.size())) lines_of(file);
    close(file);
  }

  void lines_of(int file) {
    static const Dwfl_Callbacks callbacks = {.find_elf = dwfl_build_id_find_elf,
                                             .find_debuginfo = dwfl_standard_find_debuginfo,
                                             .section_address = dwfl_offline_section_address,
                                             .debuginfo_path = nullptr};
    std::unique_ptr<Dwfl, EndDwfl> session(dwfl_begin(&callbacks));
    if (!session) return;
    Dwfl_Module* module = dwfl_report_offline(session.get(), name_.c_str(), name_.c_str(), dup(file));
    dwfl_report_end(session.get(), nullptr, nullptr);
    if (!module) return;
    Dwarf_Addr bias = 0;
    Elf* placed = dwfl_module_getelf(module, &bias);
    std::vector<uint64_t> starts;  // of sections, where libdw has put them
    for (Elf_Scn* s = nullptr; placed && (s = elf_nextscn(placed, s));) {
      GElf_Shdr h;
      starts.push_back(gelf_getshdr(s, &h) ? h.sh_addr + bias : 0);
    }
    Dwarf_Die* unit = nullptr;
    while ((unit = dwfl_module_nextcu(module, unit, &bias))) unit_lines(unit, starts);
    for (auto& list : out_.lines)
      std::stable_sort(list.begin(), list.end(),
                       [](const auto& a, const auto& b) { return a.offset < b.offset; });
  }

  void unit_lines(Dwarf_Die* unit, const std::vector<uint64_t>& starts) {
    size_t count = 0;
    dwfl_getsrclines(unit, &count);
    for (size_t k = 0; k < count; ++k) {
      Dwfl_Line* line = dwfl_onesrcline(unit, k);
      Dwarf_Addr address = 0;
      int number = 0, column = 0;
      const char* path = line ? dwfl_lineinfo(line, &address, &number, &column, nullptr, nullptr) : nullptr;
      if (!path || number == 0) continue;
      std::string_view name(path);
      name.remove_prefix(name.rfind('/') == name.npos ? 0 : name.rfind('/') + 1);
      for (size_t s = 0; s < starts.size() && s < out_.lines.size(); ++s) {
        const auto& section = out_.file.sections[s];
        if (!section.is_code || address < starts[s] || address - starts[s] >= section.size) continue;
        out_.lines[s].push_back({address - starts[s], column ? fmt::format("{}:{}:{}", name, number, column)
                                                             : fmt::format("{}:{}", name, number)});
      }
    }
  }

  const std::string& name_;
  std::string_view bytes_;
  std::unique_ptr<Elf, EndElf> elf_;
  ReadObject out_;
};

}  // namespace

bool is_object(std::string_view bytes) {
  return bytes.starts_with(
      "\x7f"
      "ELF");
}

Result<ReadObject> read_object(const std::string& name, std::string_view bytes) {
  return ElfReader(name, bytes).run();
}

}  // namespace porphyry
