#pragma once
// Changing the plan: check, difference, seal, store. Whole or not at all.
#include "revision/archive.h"
#include "revision/edit.h"
#include "revision/seal.h"

namespace jembatan::revision {

/// What every change comes with.
struct Wish {
  Author author;
  std::string message;
  std::optional<std::uint64_t> base;  ///< refuse if another revision is in force by now
  bool dry_run = false;               ///< find out what would happen, store nothing
  bool force = false;                 ///< even if most clients would be gone: see Keeper::apply
  WallTime at = {};
  /// What it is, for the record of what people did: of files "apply" or "plan folder", of changes
  /// "client set".
  std::string what = {};
};

/// What came of it.
struct Applied {
  std::uint64_t revision = 0;         ///< in force now; of a dry run: unchanged
  bool changed = false;               ///< false: the plan was that one already
  plan::PlanPtr plan;                 ///< as it is now, or would be
  std::vector<ObjectChange> changes;  ///< `after` leads into `objects`
  std::shared_ptr<const Objects> objects;
};

/// The plan's revisions. One thread at a time.
///
/// Errors of all changes: Errc::malformed (the plan would have errors: see the problems), Errc::conflict
/// (somebody else changed it since `base`), Errc::not_found, Errc::io (the store: nothing has changed).
class Keeper {
 public:
  Keeper(Archive& archive, SealKey key, Random& random);

  /// From now on secrets are sealed with that.
  void use_key(SealKey key) { key_ = std::move(key); }

  /// The newest revision, ready to be put into force. Revision 0 is a plan without anything in it.
  Result<Applied> load(document::Problems& problems);

  /// Makes the files the plan. What would take away all clients, or more than half of ten and more, is
  /// refused unless it is forced: a folder that is being written looks like that.
  Result<Applied> apply(std::span<const plan::SourceFile> files, plan::Outside outside, const Wish& wish,
                        document::Problems& problems);

  /// Makes all of the changes, or none.
  Result<Applied> change(const std::vector<Edit>& edits, plan::Outside outside, const Wish& wish,
                         document::Problems& problems);

  /// Looks the host names of clients and servers up; where they lead elsewhere by now, that is a revision.
  Result<Applied> look_up_again(plan::Outside outside, const Wish& wish, document::Problems& problems);

  /// Makes an earlier revision the plan again, as a new one.
  Result<Applied> restore(std::uint64_t revision, const Wish& wish, document::Problems& problems);

  /// The differences from one revision to another.
  Result<Applied> difference(std::uint64_t from, std::uint64_t to);

  /// The plan of a revision, with its secrets.
  ///   errors  Errc::malformed: this version reads it no more
  Result<plan::PlanPtr> plan_of(std::uint64_t revision);

  /// The files of a revision; with Secrets::shown, the secrets stand in them.
  enum class Secrets : std::uint8_t { kept, shown };
  Result<std::vector<plan::SourceFile>> files(std::uint64_t revision, Secrets secrets);

  /// A secret of an object in force: "secret" of a client, "server.reef-1.secret" of a group.
  ///   errors  Errc::not_found
  Result<Secret> secret(std::string_view kind, std::string_view name, std::string_view field);

  Archive& archive() { return archive_; }

 private:
  struct Sealing;
  plan::Outside with_kept(plan::Outside outside);
  Result<Secret> open_kept(const std::string& mark);
  Status check_base(const Wish& wish, std::uint64_t newest);
  Status seal_secrets(Sealing& sealing, std::string_view kind, document::Value& table);
  Status seal_changes(Sealing& sealing, const Objects& before, Objects& after);
  Result<Objects> objects_of(const std::vector<document::File>& files, Sealing& sealing);
  /// A change that was looked at and can be stored.
  struct Prepared {
    std::uint64_t newest = 0;
    const Objects& before;
    Objects after;
    plan::PlanPtr plan;
    std::map<std::string, Octets> secrets = {};  ///< sealed, by their marks
  };
  Result<Applied> store(Prepared prepared, const Wish& wish, Commit commit);

  Archive& archive_;
  SealKey key_;
  Random& random_;
};

}  // namespace jembatan::revision
