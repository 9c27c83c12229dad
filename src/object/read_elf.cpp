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
    size_t sections = 0;
    bool counted = elf_getshdrnum(elf_.get(), &sections) == 0;
    if (!counted || header.e_shoff + sections * uint64_t(header.e_shentsize) > bytes_.size() ||
        header.e_shoff == 0)
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
    // Numbers of sections from 65,280 on stand in a table of their own.
    int far_table = elf_scnshndx(s);
    Elf_Data* far = far_table > 0
                        ? elf_getdata(elf_getscn(elf_.get(), static_cast<size_t>(far_table)), nullptr)
                        : nullptr;
    for (int k = 0; k < static_cast<int>(h.sh_size / h.sh_entsize); ++k) {
      GElf_Sym is;
      Elf32_Word number = 0;
      if (!gelf_getsymshndx(data, far, k, &is, &number)) return false;
      if (is.st_shndx != SHN_XINDEX) number = is.st_shndx >= SHN_LORESERVE ? 0 : is.st_shndx;
      const char* name = elf_strptr(elf_.get(), h.sh_link, is.st_name);
      ObjectFile::Symbol out{.name = name ? name : "", .value = is.st_value, .size = is.st_size};
      if (number > 0 && number <= out_.file.sections.size()) out.section = number - 1u;
      out.is_local = GELF_ST_BIND(is.st_info) == STB_LOCAL;
      out.is_weak = GELF_ST_BIND(is.st_info) == STB_WEAK;
      bool in_code = out.section != ObjectFile::undefined && out_.file.sections[out.section].is_code;
      unsigned type = GELF_ST_TYPE(is.st_info);
      // A label of code that others may call is a function, whatever the assembler was told of it.
      out.is_function =
          type == STT_FUNC || type == STT_GNU_IFUNC || (type == STT_NOTYPE && in_code && !out.is_local);
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
    std::vector<Placed> starts;  // of sections of code, where libdw has put them
    uint32_t number = 0;
    for (Elf_Scn* s = nullptr; placed && (s = elf_nextscn(placed, s)); ++number) {
      GElf_Shdr h;
      if (number < out_.file.sections.size() && out_.file.sections[number].is_code && gelf_getshdr(s, &h))
        starts.push_back({h.sh_addr + bias, number});
    }
    std::sort(starts.begin(), starts.end());
    Dwarf_Die* unit = nullptr;
    while ((unit = dwfl_module_nextcu(module, unit, &bias))) unit_lines(unit, starts);
    for (auto& list : out_.lines)
      std::stable_sort(list.begin(), list.end(),
                       [](const auto& a, const auto& b) { return a.offset < b.offset; });
  }

  struct Placed {
    uint64_t start;
    uint32_t section;
    bool operator<(const Placed& o) const { return start < o.start; }
  };
  void unit_lines(Dwarf_Die* unit, const std::vector<Placed>& starts) {
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
      auto in = std::upper_bound(starts.begin(), starts.end(), Placed{address, 0});
      if (in == starts.begin()) continue;
      --in;
      if (address - in->start >= out_.file.sections[in->section].size) continue;
      out_.lines[in->section].push_back(
          {address - in->start,
           column ? fmt::format("{}:{}:{}", name, number, column) : fmt::format("{}:{}", name, number)});
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
