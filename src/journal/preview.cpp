#include "journal/preview.h"

#include <fmt/format.h>

#include <algorithm>

#include "decide/reasons.h"
#include "dictionary/describe.h"
#include "identity/methods.h"
#include "journal/pack.h"
#include "journal/scrub.h"
#include "journal/tell.h"

namespace jembatan::journal {
namespace {

using decide::Next;
using engine::Given;
using engine::Outcome;

/// How a request ends by another plan.
struct Would {
  bool known = true;  ///< false: it depends on what nobody found out then
  Outcome outcome{};
  std::string text;     ///< "rejected (no access rule matches)"
  std::string sent_to;  ///< the group whose answer is not known; empty: it is
  Octets attributes;    ///< of the reply
};

// Takes the course of a kept request by another plan, with the results of then.
class Rerun {
 public:
  Rerun(const KeptStory& kept, const Record& record, const plan::Plan& by)
      : story_(kept.story), record_(record), by_(by), packet_(*wire::PacketView::parse(story_.request)) {}

  Would run() {
    const plan::Client* client = by_.client_at(record_.source.address);
    if (client == nullptr) return dropped(Outcome::unknown_client, "nobody entered this address");
    if (!client->enabled) return dropped(Outcome::client_off, "the client is switched off");
    const bool accounting = packet_.code() == wire::Code::accounting_request;
    decide::Course course({by_, packet_, *client, accounting, story_.arrived},
                          {{client->secret, packet_.authenticator()}, random_}, random_);
    if (const auto* resumed = given<decide::ResumedPtr>()) course.resume(*resumed);
    Next next = course.begin();
    for (int steps = 0; steps < 8; ++steps) {
      if (next.what == Next::What::record) {
        const auto* kept = given<decide::Kept>();
        next = course.on(kept == nullptr ? decide::Kept{} : *kept);
      } else if (next.what == Next::What::look_up) {
        const auto* person = given<decide::PersonPtr>();
        if (person == nullptr || course.directory()->name != directory_then()) return not_known();
        next = course.on(*person);
      } else if (next.what == Next::What::prove) {
        const auto* compared = given<Given::Compared>();
        const bool nobody_then = compared != nullptr && compared->proof.because == identity::kNoUser;
        if (compared == nullptr || (nobody_then && course.is_known())) return not_known();
        next = course.on(compared->proof);
      } else if (next.what == Next::What::factor) {
        const auto* challenge = given<decide::Challenge>();
        const auto* proof = factor_proof(by_.factors[course.factor()].name);
        if (proof == nullptr && challenge == nullptr) return not_known();
        next = proof == nullptr ? course.on(*challenge) : course.on(*proof);
      } else if (next.what == Next::What::ask) {
        const plan::Group& group = by_.groups[course.way().destination.group];
        if (const auto answer = answer_of(group)) {
          next = course.on(*answer);
        } else if (const auto* silence = given<decide::Silence>();
                   silence != nullptr && group.name == group_then()) {
          next = course.on(*silence);
        } else {
          return sent_to(group.name);
        }
      } else {
        break;
      }
    }
    return {true, next.ending.outcome,
            fmt::format("{} ({})", engine::name_of(next.ending.outcome),
                        decide::with_detail(next.ending.because, next.ending.detail)),
            "", next.attributes};
  }

 private:
  static Would dropped(Outcome outcome, std::string_view because) {
    return {true, outcome, fmt::format("{} ({})", engine::name_of(outcome), because), "", {}};
  }
  static Would not_known() {
    Would out;
    out.known = false;
    return out;
  }
  static Would sent_to(const std::string& group) {
    Would out;
    out.sent_to = group;
    out.text = "sent to group " + group;
    return out;
  }

  template <class What>
  const What* given() const {
    for (const Given& one : story_.given)
      if (const auto* what = std::get_if<What>(&one.what)) return what;
    return nullptr;
  }
  const decide::FactorProof* factor_proof(const std::string& factor) const {
    for (const Given& one : story_.given) {
      const auto* proof = std::get_if<decide::FactorProof>(&one.what);
      if (proof != nullptr && proof->factor == factor) return proof;
    }
    return nullptr;
  }
  std::string group_then() const {
    const auto& groups = story_.live->plan->groups;
    return story_.group < groups.size() ? groups[story_.group].name : "";
  }
  // Where the person was looked for.
  std::string directory_then() const {
    const plan::Plan& then = *story_.live->plan;
    const plan::Client& client = *story_.client;
    const decide::Way way = decide::find_way({then, packet_, client});
    const plan::Directory* directory = decide::directory_of(then, way);
    return directory == nullptr ? "" : directory->name;
  }
  // What a server said then, if the group would be the same one and still has it.
  std::optional<decide::Answer> answer_of(const plan::Group& group) const {
    const auto* answered = given<Given::Answered>();
    if (answered == nullptr || group.name != group_then()) return std::nullopt;
    const std::string& name = story_.live->plan->groups[story_.group].servers[answered->server].name;
    const auto server = std::find_if(group.servers.begin(), group.servers.end(),
                                     [&](const plan::Server& one) { return one.name == name; });
    if (server == group.servers.end()) return std::nullopt;
    return decide::Answer{
        *wire::PacketView::parse(answered->packet), {server->secret, answered->request}, &*server};
  }

  const engine::Story& story_;
  const Record& record_;
  const plan::Plan& by_;
  wire::PacketView packet_;
  NoRandom random_;
};

// Lines of a reply that can be compared: not what is secret, or new each time, or of the hop.
std::vector<std::string> lines_of(OctetView attributes, const dictionary::Catalogue& names) {
  std::vector<std::string> out;
  Octets open;
  add_without_secrets(attributes, names, open);
  for (const auto& line : dictionary::describe(names, open)) {
    if (is_secret(line.path, names)) continue;
    if (line.name == "Message-Authenticator" || line.name == "Proxy-State" || line.name == "State") continue;
    out.push_back(line.name + " " + line.value);
  }
  std::sort(out.begin(), out.end());
  return out;
}

std::vector<std::string> differences_of(OctetView was, OctetView would, const dictionary::Catalogue& names) {
  const auto before = lines_of(was, names);
  const auto after = lines_of(would, names);
  std::vector<std::string> out;
  std::vector<std::string> only;
  std::set_difference(before.begin(), before.end(), after.begin(), after.end(), std::back_inserter(only));
  for (const std::string& line : only) out.push_back("no more " + line);
  only.clear();
  std::set_difference(after.begin(), after.end(), before.begin(), before.end(), std::back_inserter(only));
  for (const std::string& line : only) out.push_back("now " + line);
  return out;
}

// Whether it was sent to a group then.
bool was_sent_to(const engine::Story& story, const std::string& group) {
  const auto& groups = story.live->plan->groups;
  const bool asked = std::any_of(story.given.begin(), story.given.end(), [](const Given& one) {
    return std::holds_alternative<Given::Asked>(one.what);
  });
  return asked && story.group < groups.size() && groups[story.group].name == group;
}

}  // namespace

Result<Preview> preview(Blocks& blocks, const Query& query, const PlanOf& plans, const plan::PlanPtr& by,
                        const std::function<bool()>& go_on) {
  Preview out;
  const auto look = [&](const Record& record) {
    if (record.story.empty()) return true;
    ++out.looked_at;
    const auto then = plans(record.revision);
    const auto kept = then ? story_of(record, *then) : Result<KeptStory>(then.error());
    if (!kept) {
      ++out.not_told;
      return true;
    }
    const Would would = Rerun(*kept, record, *by).run();
    if (!would.known) {
      ++out.not_told;
      return true;
    }
    Otherwise one;
    if (!would.sent_to.empty()) {
      if (was_sent_to(kept->story, would.sent_to)) return true;
      one.would = would.text;
    } else if (would.outcome != record.outcome) {
      one.would = would.text;
    } else if (!kept->story.reply.empty()) {
      one.differences = differences_of(OctetView(kept->story.reply).subspan(wire::kHeader), would.attributes,
                                       *by->catalogue);
    }
    if (one.would.empty() && one.differences.empty()) return true;
    ++out.differ;
    one.was = heading_of(record);
    if (out.otherwise.size() < query.most) out.otherwise.push_back(std::move(one));
    return true;
  };
  const auto stopped = each_match(blocks, query, plans, go_on, look);
  if (!stopped) return stopped.error();
  out.stopped_before = *stopped;
  return out;
}

}  // namespace jembatan::journal
