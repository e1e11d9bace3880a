#pragma once
// A plan while it is being read: objects with the places they came from, references not yet looked up.
#include "document/reading.h"
#include "plan/plan.h"
#include "plan/read.h"

namespace jembatan::plan {

/// A reference to another object: looked up when every file has been read.
using Reference = std::optional<document::Entry>;

/// What reading needs besides the files.
struct Context {
  const Outside& outside;
  const dictionary::Catalogue& catalogue;
};

template <class Object>
struct Draft {
  const Context& context;
  std::size_t file = 0;
  document::Position at;
  Object object{};
};

struct ClientParts {
  Client client;
  bool has_address = false;
  std::optional<IpAddress> resolved;
  Reference address;  ///< a host name
};

struct UserParts {
  User user;
  Reference clients;
};

struct DirectoryParts {
  Directory directory;
  bool has_secret = false;
};

struct RealmParts {
  Realm realm;
  Reference directory;
  Reference aliases;
  Reference handle;
  Reference accounting;
};

struct RealmDefaultParts {
  RealmDefault realm_default;
  Reference unknown;
  Reference missing;
  Reference accounting;
};

struct ServerParts {
  Server server;
  std::vector<IpAddress> resolved;
  Reference host;
  Reference source;
};

struct MirrorParts {
  Mirror mirror;
  document::Entry to;
};

struct GroupParts {
  Group group;
  std::optional<MirrorParts> mirror;
  std::vector<document::Position> servers_at;
};

struct RouteParts {
  std::string name;
  std::optional<condition::Condition> when;
  Reference handle;
  std::string message;
  bool access = true;
  bool accounting = true;
  std::optional<MirrorParts> mirror;
};

struct EnrolmentParts {
  Enrolment enrolment;
  Reference factor;
};

struct AccessParts {
  AccessRule rule;
  Reference factors;
  Reference reply;
  Reference also;
};

struct EditParts {
  Edit edit;
  Reference sets;
  Reference adds;
};

using RouteDraft = Draft<RouteParts>;
using AccessDraft = Draft<AccessParts>;
using ReplySetDraft = Draft<ReplySet>;
using EditDraft = Draft<EditParts>;
using ClientDraft = Draft<ClientParts>;
using UserDraft = Draft<UserParts>;
using DirectoryDraft = Draft<DirectoryParts>;
using FactorDraft = Draft<Factor>;
using EnrolmentDraft = Draft<EnrolmentParts>;
using RealmDraft = Draft<RealmParts>;
using SignInDraft = Draft<SignIn>;
using RealmDefaultDraft = Draft<RealmDefaultParts>;
using GroupDraft = Draft<GroupParts>;
using ServerDraft = Draft<ServerParts>;

/// The tables of fields that drive reading, checking and the reference.
std::span<const document::Field<ClientDraft>> client_fields();
std::span<const document::Field<UserDraft>> user_fields();
std::span<const document::Field<DirectoryDraft>> directory_fields();
std::span<const document::Field<FactorDraft>> factor_fields();
std::span<const document::Field<EnrolmentDraft>> enrolment_fields();
std::span<const document::Field<RealmDraft>> realm_fields();
std::span<const document::Field<RealmDefaultDraft>> realm_default_fields();
std::span<const document::Field<SignInDraft>> sign_in_fields();
std::span<const document::Field<GroupDraft>> group_fields();
std::span<const document::Field<ServerDraft>> server_fields();
std::span<const document::Field<RouteDraft>> route_fields();
std::span<const document::Field<AccessDraft>> access_fields();
std::span<const document::Field<ReplySetDraft>> reply_set_fields();
std::span<const document::Field<EditDraft>> edit_fields();

/// "client 'kerapu-deck-2'", or "a client" while it has no name.
std::string owner_text(std::string_view section, const document::Value& table);

}  // namespace jembatan::plan
