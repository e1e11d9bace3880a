#pragma once
#include <deque>

#include "plan/draft.h"

namespace jembatan::plan {

/// All objects of a plan's files, in their order.
struct Drafts {
  std::deque<ClientDraft> clients;
  std::deque<UserDraft> users;
  std::deque<RealmDraft> realms;
  std::deque<GroupDraft> groups;
  std::deque<DirectoryDraft> directories;
  std::deque<FactorDraft> factors;
  std::deque<EnrolmentDraft> enrolments;
  std::deque<RouteDraft> routes;
  std::deque<AccessDraft> access;
  std::deque<ReplySetDraft> reply_sets;
  std::deque<EditDraft> edits;
  std::optional<RealmDefaultDraft> realm_default;
  std::optional<SignInDraft> sign_in;
};

/// Where something stands among the files of a plan.
struct FileOf {
  const std::vector<document::File>& files;
  std::size_t number;
};

/// Adds the objects of one file; what is wrong with them becomes problems.
///   context  outlives the drafts
void read_drafts(const FileOf& file, const Context& context, document::Problems& problems, Drafts& out);

}  // namespace jembatan::plan
