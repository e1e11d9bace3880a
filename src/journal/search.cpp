#include "journal/search.h"

#include <algorithm>

#include "base/compact.h"
#include "base/text.h"
#include "identity/name.h"
#include "journal/tell.h"

namespace jembatan::journal {
namespace {

// One search; what it compares with is made once.
class Search {
 public:
  Search(const Query& query, const PlanOf& plans)
      : query_(query), user_(identity::comparable(query.user)), text_(lower(query.text)) {
    CompactWriter(asked_).number(query.asked);
    // Requests that stand beside each other have one plan; what cannot be had is not asked for each of them.
    plans_ = [&plans, last = std::uint64_t{0},
              plan = Result<plan::PlanPtr>(nullptr)](std::uint64_t revision) mutable {
      if (revision != last || last == 0) plan = plans(revision);
      last = revision;
      return plan;
    };
  }

  bool matches(const Record& record) const {
    if (query_.before > 0 && record.number >= query_.before) return false;
    if (query_.since && record.at < *query_.since) return false;
    if (query_.until && record.at >= *query_.until) return false;
    if (!query_.client.empty() && record.client != query_.client) return false;
    if (!query_.outcome.empty() && engine::name_of(record.outcome) != query_.outcome) return false;
    if (query_.leg != 0 && record.leg != query_.leg) return false;
    if (query_.asked != 0 && !holds(record.story, asked_)) return false;
    if (!query_.realm.empty() && escaped(record.realm) != query_.realm) return false;
    return (user_.empty() || is_user(record)) && (text_.empty() || has_text(record));
  }

 private:
  // A number by chance is in no story where it is not meant; what it means is told when the entry is read.
  static bool holds(OctetView story, const Octets& number) {
    return std::search(story.begin(), story.end(), number.begin(), number.end()) != story.end();
  }
  bool is_user(const Record& record) const {
    const std::string name = identity::comparable(record.name);
    return name == user_ || (name.starts_with(user_) && name[user_.size()] == '@');
  }
  // Words are made only if what is at hand does not have the text.
  bool has_text(const Record& record) const {
    if (has_text(escaped(record.user)) || has_text(record.reason)) return true;
    const Entry all = entry_of(record, plans_);
    return std::any_of(all.trail.begin(), all.trail.end(),
                       [this](const std::string& line) { return has_text(line); });
  }
  bool has_text(std::string_view in) const { return lower(in).find(text_) != std::string::npos; }

  const Query& query_;
  PlanOf plans_;
  std::string user_;
  std::string text_;
  Octets asked_;
};

}  // namespace

Result<std::uint64_t> each_match(Blocks& blocks, const Query& query, const PlanOf& plans,
                                 const std::function<bool()>& go_on,
                                 const std::function<bool(const Record&)>& visit) {
  Search search(query, plans);
  for (std::uint64_t below = query.before > 0 ? query.before : ~std::uint64_t{0};;) {
    const auto block = blocks.below(below, query.since, query.until);
    if (!block) return block.error();
    if (!*block) return 0;
    const auto records = records_in(**block);
    if (!records) return records.error();
    for (auto at = records->rbegin(); at != records->rend(); ++at)
      if (search.matches(*at) && !visit(*at)) return 0;  // within a block, as it may be
    below = (*block)->first;
    if (!go_on()) return below;
  }
}

Result<Found> find(Blocks& blocks, const Query& query, const PlanOf& plans,
                   const std::function<bool()>& go_on) {
  Found out;
  if (query.most == 0) return out;
  const auto stopped = each_match(blocks, query, plans, go_on, [&](const Record& record) {
    out.entries.push_back(heading_of(record));
    return out.entries.size() < query.most;
  });
  if (!stopped) return stopped.error();
  out.stopped_before = *stopped;
  return out;
}

Result<std::optional<Entry>> entry(Blocks& blocks, std::uint64_t number, const PlanOf& plans) {
  const auto block = blocks.below(number + 1);
  if (!block) return block.error();
  if (!*block) return std::optional<Entry>{};
  const auto records = records_in(**block);
  if (!records) return records.error();
  const auto found = std::find_if(records->begin(), records->end(),
                                  [&](const Record& record) { return record.number == number; });
  if (found == records->end()) return std::optional<Entry>{};
  return std::optional(entry_of(*found, plans));
}

}  // namespace jembatan::journal
