#include "directory/connection.h"

#include <fmt/format.h>
#include <ldap.h>
#include <openldap.h>
#include <unistd.h>

#include <charconv>

#include "base/text.h"
#include "directory/socket.h"

namespace jembatan::directory {
namespace {

using decide::Person;
using plan::Directory;
using plan::DirectoryAccess;

constexpr std::size_t kMostValues = 10000;  // of one attribute
constexpr std::size_t kLongestValue = 65536;
constexpr std::int64_t kMostOctets = 16 << 20;  // of one answer
constexpr std::chrono::milliseconds kGoodbye{100};
constexpr const char* kSystemsAuthorities = "/etc/ssl/certs/ca-certificates.crt";

timeval timeval_of(Duration time) {
  const auto seconds = std::chrono::duration_cast<std::chrono::seconds>(time);
  return {seconds.count(), static_cast<suseconds_t>((time - seconds).count() * 1000)};
}

bool is_lost(int code) {
  return code == LDAP_SERVER_DOWN || code == LDAP_CONNECT_ERROR || code == LDAP_UNAVAILABLE ||
         code == LDAP_LOCAL_ERROR;
}

bool is_late(int code) {
  return code == LDAP_TIMEOUT || code == LDAP_TIMELIMIT_EXCEEDED || code == LDAP_BUSY;
}

Errc errc_of(int code) {
  if (is_lost(code)) return Errc::unreachable;
  if (is_late(code)) return Errc::busy;
  if (code == LDAP_NO_SUCH_OBJECT) return Errc::not_found;
  if (code == LDAP_INSUFFICIENT_ACCESS || code == LDAP_STRONG_AUTH_REQUIRED ||
      code == LDAP_CONFIDENTIALITY_REQUIRED || code == LDAP_INAPPROPRIATE_AUTH)
    return Errc::not_allowed;
  return Errc::malformed;
}

std::string diagnostic_of(ldap* handle) {
  char* text = nullptr;
  ldap_get_option(handle, LDAP_OPT_DIAGNOSTIC_MESSAGE, &text);
  if (text == nullptr) return {};
  std::string out = escaped(cut(text, 200));
  ldap_memfree(text);
  return out;
}

std::string text_of(int code, const std::string& diagnostic) {
  if (code == LDAP_TIMEOUT) return "no answer in time";
  if (diagnostic == "(unknown error code)")  // what the library says when the name differs
    return "no TLS: its certificate has another name, or nobody here trusts it";
  const std::string words = ldap_err2string(code);
  return diagnostic.empty() ? words : fmt::format("{}: {}", words, diagnostic);
}

template <class Value>
void set(ldap* handle, int option, const Value& value) {
  ldap_set_option(handle, option, &value);
}

// Nothing is taken from the machine's own settings for LDAP: the plan says it all.
void prepare(ldap* handle, const DirectoryAccess& access) {
  set(handle, LDAP_OPT_PROTOCOL_VERSION, int{LDAP_VERSION3});
  ldap_set_option(handle, LDAP_OPT_REFERRALS, LDAP_OPT_OFF);
  ldap_set_option(handle, LDAP_OPT_RESTART, LDAP_OPT_ON);
  set(handle, LDAP_OPT_DEREF, int{LDAP_DEREF_NEVER});
  const timeval within = timeval_of(access.answer_within);
  set(handle, LDAP_OPT_TIMEOUT, within);
}

// Reading all whom the system trusts takes 20 ms: only where it is needed.
void prepare_tls(ldap* handle, const DirectoryAccess& access, int certificate) {
  set(handle, LDAP_OPT_X_TLS_REQUIRE_CERT, certificate);
  ldap_set_option(handle, LDAP_OPT_X_TLS_CACERTFILE,
                  access.authorities.empty() ? kSystemsAuthorities : access.authorities.c_str());
  set(handle, LDAP_OPT_X_TLS_PROTOCOL_MIN, int{LDAP_OPT_X_TLS_PROTOCOL_TLS1_2});
  set(handle, LDAP_OPT_X_TLS_NEWCTX, int{0});
}

// Some servers add the reason in their own words: "… data 533, …", a number in hexadecimal.
Person::Account account_in(std::string_view text) {
  constexpr std::string_view kData = "data ";
  const std::size_t at = text.find(kData);
  if (at == std::string_view::npos) return Person::Account::usable;
  const std::string_view digits = text.substr(at + kData.size());
  unsigned number = 0;
  std::from_chars(digits.data(), digits.data() + digits.size(), number, 16);
  switch (number) {
    case 0x532:
      return Person::Account::password_expired;
    case 0x533:
      return Person::Account::disabled;
    case 0x701:
      return Person::Account::expired;
    case 0x773:
      return Person::Account::must_change;
    case 0x775:
      return Person::Account::locked;
    default:
      return Person::Account::usable;
  }
}

// What the password policy's control says (draft-behera-ldap-password-policy-10 §6.2).
Person::Account account_of(ldap* handle, LDAPControl** controls) {
  LDAPControl* found = controls == nullptr
                           ? nullptr
                           : ldap_control_find(LDAP_CONTROL_PASSWORDPOLICYRESPONSE, controls, nullptr);
  if (found == nullptr) return Person::Account::usable;
  int expires = 0;
  int grace = 0;
  LDAPPasswordPolicyError error = PP_noError;
  if (ldap_parse_passwordpolicy_control(handle, found, &expires, &grace, &error) != LDAP_SUCCESS)
    return Person::Account::usable;
  switch (error) {
    case PP_passwordExpired:
      return Person::Account::password_expired;
    case PP_accountLocked:
      return Person::Account::locked;
    case PP_changeAfterReset:
      return Person::Account::must_change;
    default:
      return Person::Account::usable;
  }
}

Entry entry_of(ldap* handle, LDAPMessage* message) {
  Entry out;
  if (char* name = ldap_get_dn(handle, message); name != nullptr) {
    out.name = name;
    ldap_memfree(name);
  }
  BerElement* position = nullptr;
  for (char* attribute = ldap_first_attribute(handle, message, &position); attribute != nullptr;
       attribute = ldap_next_attribute(handle, message, position)) {
    auto& values = out.values[lower(attribute)];
    if (berval** found = ldap_get_values_len(handle, message, attribute); found != nullptr) {
      for (std::size_t i = 0; found[i] != nullptr && values.size() < kMostValues; ++i)
        if (found[i]->bv_len <= kLongestValue) values.emplace_back(found[i]->bv_val, found[i]->bv_len);
      ldap_value_free_len(found);
    }
    ldap_memfree(attribute);
  }
  ber_free(position, 0);
  return out;
}

int scope_of(Directory::Scope scope) {
  if (scope == Directory::Scope::base) return LDAP_SCOPE_BASE;
  return scope == Directory::Scope::one ? LDAP_SCOPE_ONELEVEL : LDAP_SCOPE_SUBTREE;
}

}  // namespace

const std::string* Entry::first(std::string_view attribute) const {
  const auto found = values.find(lower(attribute));
  return found == values.end() || found->second.empty() ? nullptr : &found->second.front();
}

void Connection::Closing::operator()(ldap* handle) const {
  ldap_unbind_ext_s(handle, nullptr, nullptr);
}

Connection::Connection(Handle handle, Duration answer_within)
    : limit_(std::make_unique<Limit>()), handle_(std::move(handle)), answer_within_(answer_within) {}

// It says goodbye, and has a moment for that.
Connection::~Connection() {
  *limit_ = {std::chrono::steady_clock::now() + kGoodbye, 0};
}

Result<std::unique_ptr<Connection>> Connection::open(const DirectoryAccess& access,
                                                     const DirectoryAccess::Server& server) {
  return open(access, server, LDAP_OPT_X_TLS_DEMAND);
}

Result<std::unique_ptr<Connection>> Connection::open(const DirectoryAccess& access,
                                                     const DirectoryAccess::Server& server, int certificate) {
  const auto socket = connected_socket(server, access.answer_within);
  if (!socket) return socket.error();
  const bool v6 = server.host.find(':') != std::string::npos;
  const std::string url =
      fmt::format("ldap://{}{}{}:{}", v6 ? "[" : "", server.host, v6 ? "]" : "", server.port);
  ldap* made = nullptr;
  if (const int code = ldap_init_fd(*socket, LDAP_PROTO_TCP, url.c_str(), &made); code != LDAP_SUCCESS) {
    ::close(*socket);
    return fail(Errc::unreachable, ldap_err2string(code));
  }
  std::unique_ptr<Connection> out(new Connection(Handle(made), access.answer_within));
  prepare(made, access);
  Sockbuf* below = nullptr;
  ldap_get_option(made, LDAP_OPT_SOCKBUF, &below);
  ber_len_t most = kMostOctets;
  ber_sockbuf_ctrl(below, LBER_SB_OPT_SET_MAX_INCOMING, &most);
  hold_to(below, *out->limit_);
  out->begin();
  if (!server.is_tls && access.plain) return out;
  prepare_tls(made, access, certificate);
  const int code = server.is_tls ? ldap_install_tls(made) : ldap_start_tls_s(made, nullptr, nullptr);
  if (code == LDAP_SUCCESS) return out;
  return fail(Errc::unreachable, out->error_of(code).text);
}

void Connection::begin() {
  *limit_ = {std::chrono::steady_clock::now() + answer_within_, kMostOctets};
}

Status Connection::reach(const DirectoryAccess& access, const DirectoryAccess::Server& server) {
  const auto socket = connected_socket(server, access.answer_within);
  if (!socket) return socket.error();
  ::close(*socket);
  return {};
}

Octets Connection::certificate_of(const DirectoryAccess& access, const DirectoryAccess::Server& server) {
  const auto opened = open(access, server, LDAP_OPT_X_TLS_ALLOW);
  return opened ? (*opened)->certificate() : Octets{};
}

Octets Connection::certificate() const {
  berval found{0, nullptr};
  if (ldap_get_option(handle_.get(), LDAP_OPT_X_TLS_PEERCERT, &found) != LDAP_SUCCESS ||
      found.bv_val == nullptr)
    return {};
  const auto* octets = reinterpret_cast<const std::uint8_t*>(found.bv_val);
  Octets out(octets, octets + found.bv_len);
  ldap_memfree(found.bv_val);
  return out;
}

// A connection that was ended because it took too long looks like one that is lost.
Error Connection::error_of(int code) const {
  if (is_lost(code) && std::chrono::steady_clock::now() >= limit_->until) code = LDAP_TIMEOUT;
  return fail(errc_of(code), text_of(code, diagnostic_of(handle_.get())));
}

Result<Bound> Connection::bind(const std::string& name, OctetView password) {
  begin();
  if (password.empty())
    return Bound{false, Person::Account::usable, true, "an empty password proves nothing"};
  std::string octets(jembatan::text_of(password));
  berval credentials{octets.size(), octets.data()};
  LDAPControl policy{const_cast<char*>(LDAP_CONTROL_PASSWORDPOLICYREQUEST), {0, nullptr}, 0};
  LDAPControl* controls[] = {&policy, nullptr};
  int message = 0;
  const int code = ldap_sasl_bind(handle_.get(), name.c_str(), LDAP_SASL_SIMPLE, &credentials, controls,
                                  nullptr, &message);
  wipe(OctetSpan(reinterpret_cast<std::uint8_t*>(octets.data()), octets.size()));
  if (code != LDAP_SUCCESS) return error_of(code);
  return bound(message);
}

Result<Bound> Connection::bound(int message) {
  LDAPMessage* answer = nullptr;
  timeval within = timeval_of(answer_within_);
  const int kind = ldap_result(handle_.get(), message, LDAP_MSG_ALL, &within, &answer);
  if (kind == 0) ldap_abandon_ext(handle_.get(), message, nullptr, nullptr);
  if (kind <= 0) return error_of(kind == 0 ? LDAP_TIMEOUT : LDAP_SERVER_DOWN);
  int code = LDAP_SUCCESS;
  char* text = nullptr;
  LDAPControl** controls = nullptr;
  const int parsed =
      ldap_parse_result(handle_.get(), answer, &code, nullptr, &text, nullptr, &controls, /*freeit=*/1);
  if (parsed != LDAP_SUCCESS) return error_of(parsed);
  Bound out;
  out.right = code == LDAP_SUCCESS;
  const std::string words = text == nullptr ? "" : escaped(cut(text, 200));
  out.account = account_of(handle_.get(), controls);
  if (out.account == Person::Account::usable && !out.right) out.account = account_in(words);
  if (!out.right) out.text = text_of(code, words);
  out.wrong = code == LDAP_INVALID_CREDENTIALS && out.account == Person::Account::usable;
  ldap_memfree(text);
  ldap_controls_free(controls);
  if (is_lost(code) || is_late(code)) return fail(errc_of(code), out.text);
  return out;
}

Result<std::vector<Entry>> Connection::search(const Query& query) {
  begin();
  std::vector<char*> wanted;
  for (const std::string& attribute : query.attributes)
    wanted.push_back(const_cast<char*>(attribute.c_str()));
  if (wanted.empty()) wanted.push_back(const_cast<char*>(LDAP_NO_ATTRS));
  wanted.push_back(nullptr);
  timeval within = timeval_of(answer_within_);
  LDAPMessage* answer = nullptr;
  const int code =
      ldap_search_ext_s(handle_.get(), query.base.c_str(), scope_of(query.scope), query.filter.c_str(),
                        wanted.data(), 0, nullptr, nullptr, &within, query.most, &answer);
  std::vector<Entry> out;
  if (code == LDAP_SUCCESS || code == LDAP_SIZELIMIT_EXCEEDED) {
    for (LDAPMessage* one = ldap_first_entry(handle_.get(), answer); one != nullptr;
         one = ldap_next_entry(handle_.get(), one))
      out.push_back(entry_of(handle_.get(), one));
  }
  ldap_msgfree(answer);
  if (code != LDAP_SUCCESS && code != LDAP_SIZELIMIT_EXCEEDED) return error_of(code);
  return out;
}

}  // namespace jembatan::directory
