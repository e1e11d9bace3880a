#include "store/code_book.h"

#include <SQLiteCpp/Transaction.h>
#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::store {
namespace {

constexpr const char* kCodesFile = "codes.sqlite";
constexpr int kCodesVersion = 1;
constexpr const char* kCodesTables =
    "CREATE TABLE page (factor TEXT NOT NULL, user TEXT NOT NULL, octets BLOB NOT NULL, apart INTEGER NOT "
    "NULL, "
    "PRIMARY KEY (factor, user)) WITHOUT ROWID;";

}  // namespace

CodeBook::CodeBook(std::filesystem::path folder, SQLite::Database database)
    : folder_(std::move(folder)),
      database_(std::move(database)),
      read_(database_, "SELECT octets, apart FROM page WHERE factor = ?1 AND user = ?2"),
      write_(database_, "INSERT OR REPLACE INTO page VALUES (?1, ?2, ?3, ?4)"),
      remove_(database_, "DELETE FROM page WHERE factor = ?1 AND user = ?2") {}

Result<std::unique_ptr<CodeBook>> CodeBook::open(const std::filesystem::path& folder) {
  return attempt(folder, [&]() -> Result<std::unique_ptr<CodeBook>> {
    SQLite::Database database = open_to_write(folder / kCodesFile);
    // FULL: a code that has served does not serve again, whatever becomes of the machine.
    database.exec("PRAGMA synchronous = FULL");
    if (const Status made = make_tables(database, kCodesTables, kCodesVersion); !made)
      return made.error().at(fmt::format("'{}'", (folder / kCodesFile).string()));
    return std::unique_ptr<CodeBook>(new CodeBook(folder, std::move(database)));
  });
}

Result<CodeBook::Page> CodeBook::read(const Key& key) {
  return attempt(folder_, [&]() -> Result<Page> {
    const Rewound rewound(read_);
    bind_all(read_, std::string_view(key.factor), std::string_view(key.user));
    if (!read_.executeStep()) return Page{{}, false};
    auto page = identity::unpacked_page(octets_in(read_.getColumn(0)));
    if (!page) return page.error();
    return Page{std::move(*page), read_.getColumn(1).getInt() != 0};
  });
}

Status CodeBook::write(const Key& key, const Page& page) {
  return attempt(folder_, [&]() -> Status {
    const Octets octets = identity::packed(page.page);
    bind_all(write_, std::string_view(key.factor), std::string_view(key.user), OctetView(octets),
             std::int64_t{page.apart ? 1 : 0});
    run(write_);
    return {};
  });
}

Status CodeBook::remove(const Key& key) {
  return attempt(folder_, [&]() -> Status {
    bind_all(remove_, std::string_view(key.factor), std::string_view(key.user));
    run(remove_);
    return {};
  });
}

Result<std::vector<CodeBook::Key>> CodeBook::apart() {
  return attempt(folder_, [&]() -> Result<std::vector<Key>> {
    SQLite::Statement rows(database_, "SELECT factor, user FROM page WHERE apart <> 0");
    return all_rows(rows, [](SQLite::Statement& row) {
      return Key{text_in(row.getColumn(0)), text_in(row.getColumn(1))};
    });
  });
}

Status CodeBook::together(const std::function<Status()>& work) {
  return attempt(folder_, [&]() -> Status {
    SQLite::Transaction whole(database_);
    if (const Status done = work(); !done) return done;
    whole.commit();
    return {};
  });
}

}  // namespace jembatan::store
