// kinds NAME { … }: a kind a line, NAME under PARENT align n, and records, record NAME size n { offset name:
// kind }.
#include "items.h"

namespace porphyry::text {

using Above = Module::Comment::Above;

void ItemReader::kinds_block() {
  Token token = cursor_.peek();
  auto name = cursor_.name("the name of the kinds");
  if (!name || !cursor_.expect('{', "before the kinds")) return skip_body();
  Name n = module().realm().name(*name);
  if (module().kinds.find_tree(n).exists())
    cursor_.complain(token, "kinds called '" + *name + "' stand above already", "another name");
  cursor_.end_line();
  KindTree tree = module().kinds.add_tree(n);
  anchor(item_offset_, Above::Kinds, tree.index);
  std::vector<WrittenKind> kinds;
  std::vector<WrittenRecord> records;
  while (!cursor_.at_mark('}') && !cursor_.at_end()) {
    bool is_record = cursor_.at_word("record") && cursor_.at_name(1) &&
                     cursor_.peek(2).kind == TokenKind::Name && cursor_.text(cursor_.peek(2)) == "size";
    bool good = is_record ? record_line(tree, records) : kind_line(tree, kinds);
    if (good)
      cursor_.end_line();
    else
      cursor_.skip_line();
  }
  anchor(cursor_.peek().offset, Above::KindsEnd, tree.index);
  if (!cursor_.expect('}', "after the kinds")) return;
  cursor_.end_line();
  add_kinds(kinds, records);
}

// count under cell align 4 grows from 1 to 100
bool ItemReader::kind_line(KindTree tree, std::vector<WrittenKind>& kinds) {
  WrittenKind out{};
  out.token = cursor_.peek();
  if (!cursor_.at_name()) {
    cursor_.complain("a kind's name is missing", "NAME, NAME under PARENT, or record NAME size n { … }");
    return false;
  }
  out.row.name = take_name();
  out.row.tree = tree;
  if (cursor_.accept_word("under")) {
    out.parent = cursor_.peek();
    if (!cursor_.name("the kind above")) return false;
    out.has_parent = true;
  }
  if (cursor_.accept_word("align")) {
    auto align = cursor_.alignment(4096);
    if (!align) return false;
    out.row.align = *align;
  }
  out.row.grows = cursor_.accept_word("grows");
  if (out.row.grows && cursor_.accept_word("from")) {
    Token t = cursor_.peek();
    auto least = cursor_.number(~uint64_t(0));
    auto most = least && cursor_.accept_word("to") ? cursor_.number(~uint64_t(0)) : std::nullopt;
    if (!most || *least > *most)
      return cursor_.complain(t, "the bounds of what grows are missing or turned round",
                              "from LEAST to MOST"),
             false;
    out.row.least = *least, out.row.most = *most;
  }
  kinds.push_back(out);
  return true;
}

// record Reading size 12 { 0 tally: count, 4 dry: degree }
bool ItemReader::record_line(KindTree tree, std::vector<WrittenRecord>& records) {
  cursor_.take();
  WrittenRecord out{};
  out.token = cursor_.peek();
  out.row.name = take_name();
  out.row.tree = tree;
  cursor_.take();
  Token t = cursor_.peek();
  auto size = cursor_.number(uint64_t(1) << 48);
  if (!size)
    return cursor_.complain(t, "the record's size is missing", "a number of bytes up to 2^48"), false;
  out.row.size = *size;
  if (!cursor_.expect('{', "before the members")) return false;
  while (!cursor_.at_mark('}')) {
    WrittenMember m{};
    t = cursor_.peek();
    m.offset = t.offset;
    auto offset = cursor_.number(uint64_t(1) << 48);
    if (!offset || !cursor_.at_name()) {
      cursor_.complain(offset ? cursor_.peek() : t, "this is no member",
                       "offset name: kind, such as 4 dry: degree");
      return false;
    }
    m.member.offset = *offset;
    m.member.name = take_name();
    if (!cursor_.expect(':', "between a member and its kind")) return false;
    m.kind = cursor_.peek();
    if (!cursor_.name("a kind or a record")) return false;
    if (out.members.size() == 65535) return cursor_.complain(t, "too many members", "at most 65535"), false;
    out.members.push_back(m);
    if (!cursor_.accept(',')) break;
  }
  out.end = cursor_.peek().offset;
  if (!cursor_.expect('}', "after the members")) return false;
  records.push_back(std::move(out));
  return true;
}

// Names are looked up when all of the tree are known.
void ItemReader::add_kinds(std::vector<WrittenKind>& kinds, std::vector<WrittenRecord>& records) {
  Kinds& all = module().kinds;
  Realm& realm = module().realm();
  size_t first_kind = all.kind_count(), first_record = all.record_count();
  std::map<uint32_t, Kind> kind_names;
  std::map<uint32_t, Record> record_names;
  auto taken = [&](const Token& t, Name n) {
    if (!kind_names.contains(n.index) && !record_names.contains(n.index)) return;
    cursor_.complain(t, "a second kind or record is called '" + std::string(realm.text(n)) + "'",
                     "another name");
  };
  for (size_t k = 0; k < kinds.size(); ++k) {
    taken(kinds[k].token, kinds[k].row.name);
    kind_names.try_emplace(kinds[k].row.name.index, Kind(first_kind + k));
  }
  for (size_t k = 0; k < records.size(); ++k) {
    taken(records[k].token, records[k].row.name);
    record_names.try_emplace(records[k].row.name.index, Record(first_record + k));
  }
  for (WrittenKind& k : kinds) {
    if (k.has_parent) {
      auto parent = kind_names.find(realm.name(cursor_.plain(k.parent)).index);
      if (parent == kind_names.end())
        cursor_.complain(k.parent, "no kind is called '" + cursor_.plain(k.parent) + "' here",
                         "a kind of these kinds");
      else
        k.row.parent = parent->second;
    }
    anchor(k.token.offset, Above::Kind, all.add_kind(k.row).index);
    out_.places.kinds.push_back({k.token.offset, k.token.length});
  }
  for (WrittenRecord& r : records) {
    for (WrittenMember& m : r.members) {
      Name n = realm.name(cursor_.plain(m.kind));
      auto kind = kind_names.find(n.index);
      auto record = record_names.find(n.index);
      if (kind != kind_names.end())
        m.member.kind = kind->second;
      else if (record != record_names.end())
        m.member.record = record->second;
      else
        cursor_.complain(m.kind, "no kind or record is called '" + cursor_.plain(m.kind) + "' here",
                         "a kind or record of these kinds");
      r.row.members.push_back(m.member);
    }
    size_t record = all.add_record(std::move(r.row)).index;
    anchor(r.token.offset, Above::Record, record);
    for (size_t k = 0; k < r.members.size(); ++k) anchor(r.members[k].offset, Above::Record, record, k + 1);
    anchor(r.end, Above::Record, record, r.members.size() + 1);
    out_.places.records.push_back({r.token.offset, r.token.length});
  }
}

}  // namespace porphyry::text
