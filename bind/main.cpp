// bookbind BOOK IDENTIFIER OUTPUT: writes the book's tables as a C++ file.
#include <fmt/format.h>

#include "book.h"
#include "porphyry/base/files.h"
#include "porphyry/formats/text.h"
#include "porphyry/print/print.h"
#include "porphyry/render/diagnostics.h"

int main(int count, char** arguments) {
  using namespace porphyry;
  if (count != 4) {
    fmt::print(stderr, "bookbind is called with a book, an identifier and a file to write\n");
    return 2;
  }
  auto text = read_file(arguments[1]);
  if (!text) return fmt::print(stderr, "{}", render(text.why())), 1;
  auto book = bind::read_book(SourceText(arguments[1], *text));
  if (!book) return fmt::print(stderr, "{}", render(book.why())), 1;
  std::string tables = bind::write_tables(*book, arguments[2]);
  if (auto old = read_file(arguments[3]); old && *old == tables)
    return 0;  // what was built from it is up to date
  Diagnostics failed = write_file(arguments[3], tables);
  if (!failed.empty()) return fmt::print(stderr, "{}", render(failed)), 1;
}
