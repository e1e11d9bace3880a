#pragma once
// Where revisions, kept secrets, tokens and the audit record are stored. A database fulfils it.
#include <optional>

#include "base/clock.h"
#include "revision/difference.h"

namespace jembatan::revision {

/// Who does something, and from where.
enum class Role : std::uint8_t { viewer, operator_, administrator };
std::string_view name_of(Role role);
std::optional<Role> role_named(std::string_view name);

struct Author {
  std::string name;  ///< of the token, or "plan folder"
  Role role = Role::administrator;
  std::string from;  ///< the address the call came from; empty: the node itself
};

struct Counts {
  std::size_t added = 0;
  std::size_t changed = 0;
  std::size_t removed = 0;
  std::size_t moved = 0;
};
Counts count(const std::vector<ObjectChange>& changes);
/// "2 added, 1 changed"; "nothing" if all are 0.
std::string counts_text(const Counts& counts);

struct Revision {
  std::uint64_t number = 0;
  WallTime at{};
  std::string author;
  std::string source;  ///< "plan folder", "apply", "change", "restore"
  std::string message;
  Counts counts;
  std::string summary = {};  ///< of a few objects, which: "client kerapu-deck-2 changed"; may be empty
};

/// One line of the record of what people did.
struct AuditEntry {
  std::int64_t id = 0;
  WallTime at{};
  std::string author;
  std::string role;
  std::string from;
  std::string action;   ///< "plan apply", "secret show", "token create", …
  std::string subject;  ///< "revision 7", "client kerapu-deck-2"
  std::string detail;
};

/// A part of the past; an empty end is open.
struct When {
  std::optional<WallTime> since;
  std::optional<WallTime> until;
};

struct AuditQuery {
  std::string author;
  std::string action;
  std::string subject;  ///< a part of it
  When when;
  std::size_t most = 100;
};

struct Token {
  std::string name;
  Role role = Role::viewer;
  WallTime made{};
  std::string made_by;
  std::optional<WallTime> revoked;
};

/// A token as it is recognised: by the SHA-256 of its text.
struct KnownToken {
  Octets hash;
  Token token;
};

struct KeptSecret {
  std::string mark;
  Octets sealed;
};

/// One of the forms that an object has had.
struct Form {
  Object object;
  std::uint64_t since = 0;  ///< the revision that made it
};

/// One revision as it is stored: all of it or nothing.
struct Commit {
  Revision revision;
  std::vector<ObjectChange> changes;
  std::vector<KeptSecret> secrets;
  AuditEntry audit;
};

/// One thread at a time. Every error is Errc::io with the store's reason, unless said otherwise.
class Archive {
 public:
  virtual ~Archive() = default;

  /// The number of the newest revision; 0 if there is none.
  virtual Result<std::uint64_t> newest() = 0;
  /// errors  Errc::not_found
  virtual Result<Revision> revision(std::uint64_t number) = 0;
  /// The newest first.
  virtual Result<std::vector<Revision>> history(const When& when, std::size_t most) = 0;
  virtual Result<Objects> objects(std::uint64_t revision) = 0;
  /// The forms of one object, the newest first; none if it is not in force. Stops where it was not there.
  virtual Result<std::vector<Form>> forms(std::string_view kind, std::string_view name, std::size_t most) = 0;
  virtual Status commit(const Commit& commit) = 0;

  /// What was sealed under a mark; empty if nothing was.
  virtual Result<Octets> kept(const std::string& mark) = 0;

  virtual Status record(const AuditEntry& entry) = 0;
  virtual Result<std::vector<AuditEntry>> audit(const AuditQuery& query) = 0;  ///< newest first

  /// errors  Errc::conflict: a token has that name
  virtual Status add_token(const Token& token, const Octets& hash, const AuditEntry& audit) = 0;
  /// errors  Errc::not_found
  virtual Status revoke_token(const std::string& name, WallTime at, const AuditEntry& audit) = 0;
  virtual Result<std::vector<Token>> tokens() = 0;
  /// Those that were not revoked.
  virtual Result<std::vector<KnownToken>> tokens_in_force() = 0;
};

}  // namespace jembatan::revision
