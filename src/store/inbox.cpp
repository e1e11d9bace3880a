#include "store/inbox.h"

#include <fmt/format.h>

#include "accounting/packed.h"

namespace jembatan::store {
namespace {

using accounting::Incoming;

constexpr const char* kInboxFile = "inbox.sqlite";
constexpr int kInboxVersion = 1;
constexpr const char* kInboxTables =
    "CREATE TABLE inbox (last_id INTEGER PRIMARY KEY, records BLOB NOT NULL);"
    "CREATE TABLE damaged (last_id INTEGER PRIMARY KEY, records BLOB NOT NULL);";

OctetView view_of_blob(const SQLite::Column& column) {
  return {static_cast<const std::uint8_t*>(column.getBlob()), static_cast<std::size_t>(column.getBytes())};
}

void set_damaged_aside(SQLite::Database& database) {
  std::vector<std::int64_t> ids;
  SQLite::Statement rows(database, "SELECT last_id, records FROM inbox");
  while (rows.executeStep()) {
    if (!accounting::unpacked(view_of_blob(rows.getColumn(1)))) ids.push_back(rows.getColumn(0).getInt64());
  }
  rows.reset();
  for (const std::int64_t id : ids)
    database.exec(fmt::format(
        "BEGIN; INSERT OR IGNORE INTO damaged SELECT * FROM inbox WHERE last_id = {0}; DELETE FROM "
        "inbox WHERE last_id = {0}; COMMIT",
        id));
}

}  // namespace

Inbox::Inbox(std::filesystem::path folder, SQLite::Database database)
    : folder_(std::move(folder)),
      database_(std::move(database)),
      insert_(database_, "INSERT INTO inbox VALUES (?1, ?2)"),
      behind_(database_, "SELECT records FROM inbox WHERE last_id > ?1 ORDER BY last_id"),
      forget_(database_, "DELETE FROM inbox WHERE last_id <= ?1") {}

Result<std::unique_ptr<Inbox>> Inbox::open(const std::filesystem::path& folder) {
  return attempt(folder, [&]() -> Result<std::unique_ptr<Inbox>> {
    SQLite::Database database = open_to_write(folder / kInboxFile);
    // FULL: a commit is on the disk when it returns, as an acknowledged record must be.
    database.exec("PRAGMA synchronous = FULL");
    if (const Status made = make_tables(database, kInboxTables, kInboxVersion); !made)
      return made.error().at(fmt::format("'{}'", (folder / kInboxFile).string()));
    set_damaged_aside(database);
    return std::unique_ptr<Inbox>(new Inbox(folder, std::move(database)));
  });
}

Result<std::unique_ptr<Inbox>> Inbox::open_for_reading(const std::filesystem::path& folder) {
  return attempt(folder, [&]() -> Result<std::unique_ptr<Inbox>> {
    return std::unique_ptr<Inbox>(new Inbox(folder, open_to_read(folder / kInboxFile)));
  });
}

Status Inbox::append(std::span<const Incoming> records) {
  if (records.empty()) return {};
  return attempt(folder_, [&]() -> Status {
    const Octets octets = accounting::packed(records);
    const Rewound rewound(insert_);
    insert_.bind(1, records.back().arrival.id);
    bind_octets(insert_, 2, octets);
    insert_.exec();
    return {};
  });
}

Result<std::vector<Incoming>> Inbox::behind(std::int64_t id, std::size_t most) {
  return attempt(folder_, [&]() -> Result<std::vector<Incoming>> {
    std::vector<Incoming> out;
    const Rewound rewound(behind_);
    behind_.bind(1, id);
    while (out.size() < most && behind_.executeStep()) {
      auto records = accounting::unpacked(view_of_blob(behind_.getColumn(0)));
      if (!records) return records.error().at("inbox");
      for (Incoming& one : *records) {
        if (one.arrival.id > id) out.push_back(std::move(one));
      }
    }
    return out;
  });
}

Status Inbox::forget(std::int64_t up_to) {
  return attempt(folder_, [&]() -> Status {
    const Rewound rewound(forget_);
    forget_.bind(1, up_to);
    forget_.exec();
    return {};
  });
}

Result<std::int64_t> Inbox::last() {
  return attempt(folder_, [&]() -> Result<std::int64_t> {
    return number_of(database_, "SELECT max(last_id) FROM inbox");
  });
}

std::int64_t Inbox::damaged() {
  return number_of(database_, "SELECT count(*) FROM damaged");
}

void Inbox::limit_pages(std::int64_t most) {
  database_.exec(fmt::format("PRAGMA max_page_count={}", most));
}

}  // namespace jembatan::store
