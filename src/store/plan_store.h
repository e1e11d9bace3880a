#pragma once
#include <filesystem>

#include "revision/agreement.h"
#include "store/database.h"

namespace jembatan::store {

/// The plan's revisions, kept secrets, tokens and audit record in SQLite. Each object has a row for each form
/// it had, with the revisions from and before which it had it: what a change costs is what it changes.
class PlanStore final : public revision::Archive {
 public:
  /// Opens or makes FOLDER/plan.sqlite, readable by its owner alone.
  ///   others  those who share the plan: revisions and tokens are stored when they have agreed; null: nobody
  ///   errors  Errc::io; Errc::conflict: made by a newer version
  static Result<std::unique_ptr<PlanStore>> open(const std::filesystem::path& folder,
                                                 revision::Agreement* others = nullptr);

  Result<std::uint64_t> newest() override;
  Result<revision::Revision> revision(std::uint64_t number) override;
  Result<std::vector<revision::Revision>> history(const revision::When& when, std::size_t most) override;
  Result<revision::Objects> objects(std::uint64_t revision) override;
  Result<std::vector<revision::Form>> forms(std::string_view kind, std::string_view name,
                                            std::size_t most) override;
  Status commit(const revision::Commit& commit) override;
  Result<Octets> kept(const std::string& mark) override;
  Status record(const revision::AuditEntry& entry) override;
  Result<std::vector<revision::AuditEntry>> audit(const revision::AuditQuery& query) override;
  Status add_token(const revision::Token& token, const Octets& hash,
                   const revision::AuditEntry& audit) override;
  Status revoke_token(const std::string& name, WallTime at, const revision::AuditEntry& audit) override;
  Result<std::vector<revision::Token>> tokens() override;
  Result<std::vector<revision::KnownToken>> tokens_in_force() override;

  /// The plan that this one is shared as; without a name if it is not.
  Result<revision::Membership> membership();
  /// All that stands here, as the first changes of a plan that is shared from now on: the newest revision, as
  /// if all of it had been added, and the tokens in force.
  Result<std::vector<revision::SharedChange>> beginning(const revision::AuditEntry& audit);
  /// From now on this is that plan.
  Status join(const revision::Membership& membership);
  /// Takes over a change that others made; one that is here already is passed over.
  ///   errors  Errc::conflict: those before it are missing
  Status follow(std::uint64_t number, const revision::SharedChange& change);

  /// For tests: the database may not grow beyond so many pages, as if the disk were full.
  Status limit_pages(std::int64_t pages);

 private:
  PlanStore(std::filesystem::path folder, SQLite::Database database, revision::Agreement* others);
  // Asks the others, within the transaction that makes the change here.
  Status agree(const revision::SharedChange& change);
  // These throw what SQLite does.
  std::uint64_t last_shared();
  void note_shared(std::uint64_t number);
  void write_revision(const revision::Commit& commit);
  void write_token(const revision::Token& token, const Octets& hash);
  int write_revoked(const std::string& name, WallTime at);
  void write_changes(const revision::Commit& commit);
  void sum_up(std::vector<revision::Revision>& revisions);
  void write_audit(const revision::AuditEntry& entry);

  std::filesystem::path folder_;
  SQLite::Database database_;
  revision::Agreement* others_;
  SQLite::Statement kept_;  // asked for once a secret
};

}  // namespace jembatan::store
