// Second factors and enrolments: their fields.
#include <fmt/format.h>

#include <array>

#include "base/text.h"
#include "plan/draft.h"
#include "plan/field_values.h"
#include "plan/names.h"

namespace jembatan::plan {
namespace {

using namespace std::chrono_literals;
using document::Entry;
using document::Field;
using document::Need;
using document::Reading;

constexpr std::array<std::string_view, 1> kFactorKinds{"code"};
constexpr std::array<std::string_view, 2> kCounts{"time", "uses"};
constexpr std::array<std::string_view, 3> kHashes{"sha1", "sha256", "sha512"};

void read_key(Reading& r, const Entry& e, EnrolmentDraft& d) {
  const auto text = read_secret(r, e, d.context.outside);
  if (!text || (is_kept(e.value) && !d.context.outside.kept)) return;
  auto key = identity::key_in(text_of(text->reveal()));
  if (!key) return r.wrong(e, fmt::format("'secret' is {}", key.error().text));
  d.object.enrolment.token.key = std::move(*key);
}

const Field<FactorDraft> kFactor[] = {
    {"name", Need::required, "the name that access rules call it by",
     [](Reading& r, const Entry& e, FactorDraft& d) { d.object.name = read_name(r, e); }},
    {"kind", Need::required, "code: a one-time code out of a token (RFC 4226, RFC 6238)",
     [](Reading& r, const Entry& e, FactorDraft&) { (void)r.choice(e, kFactorKinds); }},
    {"digits", Need::optional, "how many digits its codes have, 6 (default) to 8",
     [](Reading& r, const Entry& e, FactorDraft& d) {
       d.object.digits = static_cast<unsigned>(r.integer(e, 6, 8).value_or(6));
     }},
    {"behind_when", Need::optional,
     "a condition (docs/conditions.md): the requests in which the code stands behind the password, in one "
     "field; in all others it is asked for by an Access-Challenge",
     [](Reading& r, const Entry& e, FactorDraft& d) {
       d.object.behind_when = read_request_condition(r, e, d.context.catalogue, "a factor");
     }},
    {"before_when", Need::optional, "the same for a code in front of the password",
     [](Reading& r, const Entry& e, FactorDraft& d) {
       d.object.before_when = read_request_condition(r, e, d.context.catalogue, "a factor");
     }},
    {"message", Need::optional, "Reply-Message of the Access-Challenge; default \"One-time code:\"",
     [](Reading& r, const Entry& e, FactorDraft& d) { d.object.message = read_message(r, e); }},
    {"answer_within", Need::optional,
     "how long the code is waited for when it is asked for, 10s to 10m; default 60s",
     [](Reading& r, const Entry& e, FactorDraft& d) {
       d.object.answer_within = r.duration(e, 10s, 600s).value_or(60s);
     }},
    {"tries", Need::optional, "how many codes may be tried when one is asked for, 1 (default) to 5",
     [](Reading& r, const Entry& e, FactorDraft& d) {
       d.object.tries = static_cast<unsigned>(r.integer(e, 1, 5).value_or(1));
     }},
    {"remember", Need::optional,
     "how long a user's station (Calling-Station-Id) is not asked again, 0s (default) to 720h; the station "
     "says itself who it is",
     [](Reading& r, const Entry& e, FactorDraft& d) {
       d.object.remember = r.duration(e, 0s, 720h).value_or(0s);
     }},
    {"drift", Need::optional,
     "how many steps of time a token's clock may be off, 0 to 10; default 1; a clock that drifts is followed",
     [](Reading& r, const Entry& e, FactorDraft& d) {
       d.object.limits.drift = static_cast<unsigned>(r.integer(e, 0, 10).value_or(1));
     }},
    {"look_ahead", Need::optional,
     "how many codes of a token that counts uses may be left out, 0 to 100; default 10",
     [](Reading& r, const Entry& e, FactorDraft& d) {
       d.object.limits.look_ahead = static_cast<unsigned>(r.integer(e, 0, 100).value_or(10));
     }},
    {"lock_after", Need::optional,
     "after how many wrong codes in a row a user's are not looked at any more, 0 to 100; default 10; 0: "
     "never",
     [](Reading& r, const Entry& e, FactorDraft& d) {
       d.object.limits.lock_after = static_cast<unsigned>(r.integer(e, 0, 100).value_or(10));
     }},
    {"lock_for", Need::optional, "for how long, 1m to 720h; default 15m; 'user unlock' ends it",
     [](Reading& r, const Entry& e, FactorDraft& d) {
       d.object.limits.lock_for = r.duration(e, 60s, 720h).value_or(15min);
     }},
};

const Field<EnrolmentDraft> kEnrolment[] = {
    {"name", Need::required, "what people call the token, unlike all others",
     [](Reading& r, const Entry& e, EnrolmentDraft& d) { d.object.enrolment.token.name = read_name(r, e); }},
    {"user", Need::required, "whose it is, with the realm; of the plan or of a directory",
     [](Reading& r, const Entry& e, EnrolmentDraft& d) { d.object.enrolment.user = read_name(r, e); }},
    {"factor", Need::required, "the factor that it is for",
     [](Reading& r, const Entry& e, EnrolmentDraft& d) {
       if (r.expect(e, document::Kind::text)) d.object.factor = e;
     }},
    {"secret", Need::required,
     "what the token and the node share, in Base32 (RFC 4648 §6): text, { file = \"PATH\" } or { env = "
     "\"VARIABLE\" }",
     read_key},
    {"counts", Need::optional, "what makes the next code: time (default, RFC 6238) or uses (RFC 4226)",
     [](Reading& r, const Entry& e, EnrolmentDraft& d) {
       d.object.enrolment.token.counts =
           static_cast<identity::Token::Counts>(r.choice(e, kCounts).value_or(0));
     }},
    {"hash", Need::optional, "sha1 (default), sha256 or sha512; many programs know sha1 alone",
     [](Reading& r, const Entry& e, EnrolmentDraft& d) {
       d.object.enrolment.token.hash = static_cast<identity::Token::Hash>(r.choice(e, kHashes).value_or(0));
     }},
    {"step", Need::optional, "how long a code by time is shown, 10s to 5m; default 30s",
     [](Reading& r, const Entry& e, EnrolmentDraft& d) {
       d.object.enrolment.token.step =
           std::chrono::floor<std::chrono::seconds>(r.duration(e, 10s, 300s).value_or(30s));
     }},
};

}  // namespace

std::span<const Field<FactorDraft>> factor_fields() {
  return kFactor;
}
std::span<const Field<EnrolmentDraft>> enrolment_fields() {
  return kEnrolment;
}

}  // namespace jembatan::plan
