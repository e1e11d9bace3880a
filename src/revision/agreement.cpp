#include "revision/agreement.h"

#include "base/compact.h"

namespace jembatan::revision {
namespace {

constexpr std::uint64_t kVersion = 1;

void write(CompactWriter& out, const Counts& counts) {
  for (const std::size_t count : {counts.added, counts.changed, counts.removed, counts.moved})
    out.number(count);
}

Counts read_counts(CompactReader& in) {
  Counts out;
  for (std::size_t* count : {&out.added, &out.changed, &out.removed, &out.moved})
    *count = static_cast<std::size_t>(in.number());
  return out;
}

void write(CompactWriter& out, const AuditEntry& audit) {
  out.moment(audit.at);
  for (const auto* text :
       {&audit.author, &audit.role, &audit.from, &audit.action, &audit.subject, &audit.detail})
    out.text(*text);
}

AuditEntry read_audit(CompactReader& in) {
  AuditEntry out;
  out.at = in.moment();
  for (auto* text : {&out.author, &out.role, &out.from, &out.action, &out.subject, &out.detail})
    *text = in.text();
  return out;
}

// Only what is stored: which fields differ can be found again.
void write(CompactWriter& out, const Commit& commit) {
  const Revision& r = commit.revision;
  out.number(r.number);
  out.moment(r.at);
  for (const auto* text : {&r.author, &r.source, &r.message}) out.text(*text);
  write(out, r.counts);
  out.number(commit.changes.size());
  for (const ObjectChange& change : commit.changes) {
    out.number(change.what == What::added ? 0 : 1);
    out.text(change.kind);
    out.text(change.stored);
    out.number(change.after == nullptr ? 0 : 1);
    if (change.after == nullptr) continue;
    out.text(change.after->name);
    out.difference(change.after->rank);
    out.text(change.after->text);
  }
  out.number(commit.secrets.size());
  for (const KeptSecret& secret : commit.secrets) {
    out.text(secret.mark);
    out.octets(secret.sealed);
  }
}

SharedRevision read_revision(CompactReader& in) {
  SharedRevision out;
  Revision& r = out.commit.revision;
  r.number = in.number();
  r.at = in.moment();
  for (auto* text : {&r.author, &r.source, &r.message}) *text = in.text();
  r.counts = read_counts(in);
  auto objects = std::make_shared<Objects>();
  std::vector<std::string> names;  // under which they will be found, once all are there
  for (std::uint64_t left = in.number(); left > 0 && in.ok(); --left) {
    ObjectChange& change = out.commit.changes.emplace_back();
    const bool was = in.number() != 0;
    change.kind = in.text();
    change.stored = in.text();
    const bool is = in.number() != 0;
    change.what = !was ? What::added : is ? What::changed : What::removed;
    names.emplace_back();
    if (!is) continue;
    Object object{change.kind, std::string(in.text()), in.difference(), std::string(in.text())};
    names.back() = object.name;
    objects->put(std::move(object));
  }
  for (std::size_t i = 0; i < names.size(); ++i) {
    ObjectChange& change = out.commit.changes[i];
    if (change.what != What::removed) change.after = objects->find(change.kind, names[i]);
  }
  for (std::uint64_t left = in.number(); left > 0 && in.ok(); --left) {
    KeptSecret& secret = out.commit.secrets.emplace_back();
    secret.mark = in.text();
    const OctetView sealed = in.octets();
    secret.sealed.assign(sealed.begin(), sealed.end());
  }
  out.objects = std::move(objects);
  return out;
}

SharedToken read_token(CompactReader& in) {
  SharedToken out;
  out.token.name = in.text();
  if (const auto role = role_named(in.text())) {
    out.token.role = *role;
  } else {
    in.fail();
  }
  out.token.made = in.moment();
  out.token.made_by = in.text();
  const OctetView hash = in.octets();
  out.hash.assign(hash.begin(), hash.end());
  return out;
}

}  // namespace

Octets packed(const SharedChange& change) {
  Octets octets;
  CompactWriter out(octets);
  out.number(kVersion);
  out.number(change.what.index());
  if (const auto* revision = std::get_if<SharedRevision>(&change.what)) write(out, revision->commit);
  if (const auto* made = std::get_if<SharedToken>(&change.what)) {
    out.text(made->token.name);
    out.text(name_of(made->token.role));
    out.moment(made->token.made);
    out.text(made->token.made_by);
    out.octets(made->hash);
  }
  if (const auto* revoked = std::get_if<RevokedToken>(&change.what)) {
    out.text(revoked->name);
    out.moment(revoked->at);
  }
  write(out, change.audit);
  return octets;
}

Result<SharedChange> unpacked(OctetView octets) {
  CompactReader in(octets);
  const std::uint64_t version = in.number();
  if (version != kVersion)
    return fail(Errc::malformed, "a change of the plan was made by another version of this program");
  SharedChange out;
  const std::uint64_t kind = in.number();  // its place in the variant
  if (kind == 0) {
    out.what = read_revision(in);
  } else if (kind == 1) {
    out.what = read_token(in);
  } else if (kind == 2) {
    RevokedToken revoked;
    revoked.name = in.text();
    revoked.at = in.moment();
    out.what = std::move(revoked);
  } else {
    in.fail();
  }
  out.audit = read_audit(in);
  if (auto* revision = std::get_if<SharedRevision>(&out.what)) revision->commit.audit = out.audit;
  if (!in.ok() || !in.at_end()) return fail(Errc::malformed, "a change of the plan is damaged");
  return out;
}

}  // namespace jembatan::revision
