#pragma once
// Who signs in, wherever they are kept.
#include "decide/person.h"
#include "plan/plan.h"

namespace jembatan::decide {

/// A person or a device that wants to come in. Rules, replies, facts and reasons know subjects only; a plan's
/// user is one source of them. Views: whoever keeps the subject outlives it.
struct Subject {
  enum class Source : std::uint8_t {
    plan,         ///< a user of the plan
    directory,    ///< asked for elsewhere
    certificate,  ///< what it says
    client,       ///< nobody here knows them: the client vouches for the name
  };
  std::string_view name;  ///< as its source writes it, with its realm
  Source source = Source::client;
  std::string_view proven;                            ///< by which method; empty: the client vouches
  const std::vector<std::string>* groups = nullptr;   ///< null: not known
  const std::vector<std::string>* clients = nullptr;  ///< where it may come from; null or empty: from all
  bool enabled = true;
  std::optional<WallTime> valid_from;
  std::optional<WallTime> valid_until;
  std::string_view barred;  ///< why its source lets it nowhere; a literal, may be empty
  const std::map<std::string, std::string>* attributes = nullptr;  ///< that a directory has of it; null: none
  const plan::Assignments* reply = nullptr;                        ///< of its own
  std::string_view reply_of;   ///< the directory that gives it; empty: the user
  std::uint64_t sessions = 0;  ///< that are open at other places; counted if the plan asks

  bool is_proven() const { return !proven.empty(); }
};

/// A user of the plan, who has proved nothing yet.
Subject subject_of(const plan::User& user);
/// Somebody whom a directory knows.
///   name  with the realm
Subject subject_of(const Person& person, const plan::Directory& directory, std::string_view name);
/// The plan's user of that name (with its realm); nothing if it has none.
std::optional<Subject> find_subject(const plan::Plan& plan, std::string_view full_name);

}  // namespace jembatan::decide
