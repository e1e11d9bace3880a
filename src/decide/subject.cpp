#include "decide/subject.h"

namespace jembatan::decide {

Subject subject_of(const plan::User& user) {
  Subject out;
  out.name = user.name;
  out.source = Subject::Source::plan;
  out.groups = &user.groups;
  out.clients = &user.clients;
  out.enabled = user.enabled;
  out.valid_from = user.valid_from;
  out.valid_until = user.valid_until;
  out.reply = &user.reply;
  return out;
}

Subject subject_of(const Person& person, const plan::Directory& directory, std::string_view name) {
  Subject out;
  out.name = name;
  out.source = Subject::Source::directory;
  out.groups = &person.groups;
  out.barred = reason_of(person.account);
  out.attributes = &person.attributes;
  out.reply = &directory.reply;
  out.reply_of = directory.name;
  return out;
}

std::optional<Subject> find_subject(const plan::Plan& plan, std::string_view full_name) {
  const plan::User* user = plan.user_named(full_name);
  if (user == nullptr) return std::nullopt;
  return subject_of(*user);
}

}  // namespace jembatan::decide
