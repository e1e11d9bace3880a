#include "directory/check.h"

#include <fmt/format.h>

#include "base/text.h"
#include "host/certificate.h"

namespace jembatan::directory {
namespace {

using decide::Person;
using plan::Directory;
using plan::DirectoryAccess;
using Verdict = CheckStep::Verdict;

class Checking {
 public:
  Checking(const Directory& directory, const CheckWish& wish) : directory_(directory), wish_(wish) {}

  std::vector<CheckStep> run() {
    for (const auto& server : directory_.access.servers) {
      server_ = &server;
      auto connection = reach();
      if (connection && first_ == nullptr) {
        first_ = std::move(connection);
        asked_ = &server;
      }
    }
    server_ = asked_;
    if (first_ != nullptr && find_base() && wish_.person) find_person();
    return std::move(steps_);
  }

 private:
  bool say(std::string what, Verdict verdict, std::string text, std::string advice = {}) {
    steps_.push_back({std::move(what), server_->url, verdict, std::move(text), std::move(advice)});
    return verdict != Verdict::bad;
  }
  bool good(std::string what, std::string text) {
    return say(std::move(what), Verdict::good, std::move(text));
  }
  bool bad(std::string what, std::string text, std::string advice) {
    return say(std::move(what), Verdict::bad, std::move(text), std::move(advice));
  }

  // Null: it cannot be asked.
  std::unique_ptr<Connection> reach() {
    const auto addresses = wish_.resolve(server_->host);
    if (!addresses) {
      bad("name", addresses.error().text, "is the name right, and does this machine's name server know it?");
      return nullptr;
    }
    if (*addresses != server_->host) good("name", fmt::format("{} is {}", server_->host, *addresses));
    if (const Status reached = Connection::reach(directory_.access, *server_); !reached) {
      bad("connect", reached.error().text,
          "does a directory run there, at that port, and does a firewall let this machine in?");
      return nullptr;
    }
    good("connect", "somebody listens there");
    auto opened = Connection::open(directory_.access, *server_);
    if (!look_at_tls(opened)) return nullptr;
    if (directory_.access.account.empty()) {
      say("account", Verdict::doubtful,
          "the plan names none: whatever the directory shows to anybody is what this node sees",
          "account and secret of the directory, if people are not found");
      return std::move(*opened);
    }
    const auto bound = (*opened)->bind(directory_.access.account, directory_.access.secret.reveal());
    if (!bound || !bound->right) {
      const std::string why = bound ? bound->text : bound.error().text;
      bad("account", fmt::format("{} is refused: {}", directory_.access.account, why),
          fmt::format(
              "is that its whole name, and its password? jembatan directory set {} account=… secret=…",
              directory_.name));
      return nullptr;
    }
    good("account", directory_.access.account + " is let in");
    return std::move(*opened);
  }

  bool look_at_tls(const Result<std::unique_ptr<Connection>>& opened) {
    if (directory_.access.plain && !server_->is_tls) {
      if (!opened) return bad("encryption", opened.error().text, "look at the directory's own log");
      return say("encryption", Verdict::doubtful, "none: passwords travel in the clear",
                 fmt::format("jembatan directory set {} encryption=starttls", directory_.name));
    }
    const auto certificate =
        opened ? (*opened)->certificate() : Connection::certificate_of(directory_.access, *server_);
    const auto seen = certificate.empty() ? std::nullopt : std::optional(host::certificate_in(certificate));
    const bool known = seen && *seen;
    const std::string text = known ? host::text_of(**seen) : "it shows no certificate";
    if (!opened)
      return bad("encryption", fmt::format("{}; {}", opened.error().text, text),
                 tls_advice(known ? &**seen : nullptr));
    const std::string soon = known ? host::expiry_text((*seen)->expires, wish_.now) : "";
    return soon.empty()
               ? good("encryption", text)
               : say("encryption", Verdict::doubtful, fmt::format("{}; {}", text, soon), "a new certificate");
  }

  std::string tls_advice(const host::Certificate* certificate) const {
    if (server_->host == "localhost")
      return "the library takes localhost for this machine's own name: say that, or 127.0.0.1";
    if (certificate == nullptr)
      return "does the server speak TLS there? ldaps:// for TLS at once, ldap:// for StartTLS";
    if (certificate->expires <= wish_.now) return "a new certificate for the server";
    const auto& names = certificate->names;
    if (std::find(names.begin(), names.end(), server_->host) == names.end())
      return fmt::format("ask it by a name that the certificate has ({})", join(names, ", "));
    return fmt::format("who has signed it? jembatan directory set {} authorities=FILE", directory_.name);
  }

  bool find_base() {
    const auto found = first_->search({directory_.base, Directory::Scope::base, "(objectClass=*)", {}, 1});
    if (found && !found->empty()) return good("base", directory_.base + " is there");
    const std::string why =
        found ? "it is there for others, but not shown to this account" : found.error().text;
    return bad("base", fmt::format("{}: {}", directory_.base, why), base_advice());
  }

  // The nearest entry above that is there: most mistakes are in one part.
  std::string base_advice() {
    std::string above = directory_.base;
    for (int parts = 0; parts < 16; ++parts) {
      const std::size_t comma = above.find(',');
      if (comma == std::string::npos) break;
      above = above.substr(comma + 1);
      const auto found = first_->search({above, Directory::Scope::one, "(objectClass=*)", {}, 12});
      if (!found) continue;
      std::vector<std::string> below;
      for (const Entry& entry : *found) below.push_back(escaped(entry.name));
      return fmt::format("{} is there, and has: {}", above, below.empty() ? "nothing" : join(below, "; "));
    }
    return "may the account read it?";
  }

  void find_person() {
    auto found = find_entries(*first_, directory_, *wish_.person);
    const std::string filter = escaped(filter_for(directory_, *wish_.person));
    if (!found) {
      bad("person", found.error().text, "may the account search there?");
    } else if (found->empty()) {
      bad("person", fmt::format("nobody below {} is {}", directory_.base, filter),
          "is the base one level too low, the filter's attribute another one, or may the account not see the "
          "entry?");
    } else if (found->size() > 1) {
      bad("person",
          fmt::format("more than one entry is {}: {}; {}", filter, escaped(found->at(0).name),
                      escaped(found->at(1).name)),
          "a filter that only one entry fits");
    } else {
      Entry& entry = found->front();
      const auto barred = decide::reason_of(account_in(entry, wish_.now));
      const std::string name = escaped(entry.name);
      say("person", barred.empty() ? Verdict::good : Verdict::bad,
          barred.empty() ? name : fmt::format("{}; {}", name, barred));
      find_groups(entry);
      prove(entry);
    }
  }

  void find_groups(const Entry& entry) {
    if (directory_.member_of.empty() && directory_.group_base.empty()) {
      say("groups", Verdict::doubtful, "the plan says nowhere where groups are", "member_of, or group_base");
      return;
    }
    const auto groups = directory::find_groups(*first_, directory_, *wish_.person, entry);
    if (!groups) {
      bad("groups", groups.error().text, "is group_base right, and may the account search there?");
    } else if (groups->empty()) {
      say("groups", Verdict::doubtful, "in no group",
          "is member_of an attribute that the directory keeps, or does group_filter name another attribute?");
    } else {
      good("groups", join({groups->begin(), groups->end()}, ", "));
    }
  }

  void prove(Entry& entry) {
    const auto methods = identity::methods_of(plan::form_of(directory_.passwords));
    good("methods", "what it says of passwords proves " + join({methods.begin(), methods.end()}, ", "));
    if (directory_.passwords != Directory::Passwords::bind)
      return prove_stored(take_stored(entry, directory_));
    if (!wish_.typed) return;
    auto connection = Connection::open(directory_.access, *server_);
    const auto bound = connection ? (*connection)->bind(entry.name, wish_.typed->reveal())
                                  : Result<Bound>(connection.error());
    const auto barred = bound ? decide::reason_of(bound->account) : std::string_view{};
    if (bound && bound->right && barred.empty()) {
      good("password", "right");
    } else {
      const std::string why = bound ? bound->text : bound.error().text;
      bad("password", barred.empty() ? why : fmt::format("{} ({})", barred, why), "");
    }
  }

  void prove_stored(const identity::StoredPassword& stored) {
    if (stored.form() == identity::StoredPassword::Form::none) {
      bad("password", fmt::format("the entry shows no {} that can be understood", directory_.kept_password),
          "may the account read it?");
    } else if (!wish_.typed) {
      good("password", fmt::format("the entry shows {}", directory_.kept_password));
    } else if (stored.matches(wish_.typed->reveal())) {
      good("password", "right");
    } else {
      bad("password", "wrong", "");
    }
  }

  const Directory& directory_;
  const CheckWish& wish_;
  const DirectoryAccess::Server* server_ = nullptr;
  const DirectoryAccess::Server* asked_ = nullptr;
  std::unique_ptr<Connection> first_;
  std::vector<CheckStep> steps_;
};

}  // namespace

std::vector<CheckStep> check(const Directory& directory, const CheckWish& wish) {
  return Checking(directory, wish).run();
}

}  // namespace jembatan::directory
