// What a server shares with other nodes by their database; what has served of one-time codes.
#include <fmt/format.h>

#include "accounting/sessions.h"
#include "engine/remembered.h"
#include "host/secret_file.h"
#include "server/accounting_writer.h"
#include "server/code_judge.h"
#include "server/deliverer.h"
#include "server/event_log.h"
#include "server/filler.h"
#include "server/log.h"
#include "server/plan_sharer.h"
#include "server/queue_sharer.h"
#include "server/server.h"
#include "server/sharer.h"
#include "store/code_book.h"
#include "store/plan_store.h"

namespace jembatan::server {

Result<shared::Wish> Server::shared_wish() {
  const std::string database(text_of(settings_.shared_database.reveal()));
  if (!shared::is_connection_string(database))
    return fail(
        Errc::malformed,
        fmt::format(
            "{}: [shared] database is no connection string; allowed: postgresql://USER@HOST/DATABASE, "
            "or host=HOST dbname=DATABASE user=USER",
            settings_.file.string()));
  const auto origin = host::open_secret_file(settings_.data_folder / "origin", "origin file", random_);
  if (!origin) return origin.error();
  return shared::Wish{database, settings_.name, std::string(text_of(origin->reveal()))};
}

// Before the plan is read: changes of it are asked about from the first one on. What was shared once and is
// not any more goes ways of its own, so it is never the shared one again.
Status Server::share_plan(const revision::SealKey& own) {
  auto store = store::PlanStore::open(settings_.data_folder);
  if (!store) return store.error();
  if (settings_.shared_plan.empty()) {
    auto was = (*store)->membership();
    if (!was) return was.error();
    if (was->origin.empty()) return {};
    log_warning(fmt::format("the plan was shared as '{}' and is this node's own from now on", was->plan));
    was->origin.clear();
    return (*store)->join(*was);
  }
  auto wish = shared_wish();
  if (!wish) return wish.error();
  plan_sharer_ = std::make_unique<PlanSharer>(
      PlanSharer::Parts{.wish = std::move(*wish),
                        .plan = settings_.shared_plan,
                        .own = own,
                        .store = std::move(*store),
                        .random = sharing_random_,
                        .use_key =
                            [this](const revision::SealKey& key) {
                              with_revisions([&](revision::Keeper& keeper) { keeper.use_key(key); });
                            },
                        .new_plan = [this] { return take_over_plan(); },
                        .new_tokens =
                            [this] {
                              const std::lock_guard lock(tokens_mutex_);
                              if (new_tokens_) new_tokens_();
                            }});
  return {};
}

Status Server::share_accounting() {
  if (settings_.shared_database.empty()) return {};
  auto wish = shared_wish();
  if (!wish) return wish.error();
  sharer_ = std::make_unique<Sharer>(Sharer::Parts{
      .wish = *wish,
      .version = JEMBATAN_VERSION,
      .revision = [this] { return plan_.current()->revision; },
      .records =
          [this](std::int64_t behind, std::size_t most) {
            return with_accounting([&](accounting::Store& store) {
              return store.records({.behind = behind, .kept_only = true, .most = most});
            });
          },
      .last = [this] { return with_accounting([](accounting::Store& store) { return store.last(); }); },
      .plan = settings_.shared_plan,
      .heard =
          [this](std::int64_t node) {
            Result<std::int64_t> out = fail(Errc::io, "the node is being stopped");
            filler_->work([&](accounting::Store& store) { out = store.heard(node); });
            return out;
          },
      .hear =
          [this](std::int64_t node, std::span<const accounting::Record> records) {
            Status out = fail(Errc::io, "the node is being stopped");
            filler_->work([&](accounting::Store& store) { out = store.hear(node, records); });
            return out;
          },
      .silence = settings_.housekeeping.silence.most,
      .events = *events_});
  if (!settings_.shared_plan.empty()) share_queues(std::move(*wish));
  return {};
}

void Server::share_queues(shared::Wish wish) {
  queue_sharer_ = std::make_unique<QueueSharer>(QueueSharer::Parts{
      .wish = std::move(wish),
      .plan = settings_.shared_plan,
      .take_over_after = settings_.take_over_after,
      .groups =
          [this] { return with_accounting([](accounting::Store& store) { return store.waiting_groups(); }); },
      .waiting =
          [this](const std::string& group, std::int64_t behind, std::size_t most) {
            return with_accounting(
                [&](accounting::Store& store) { return store.undelivered(group, behind, most); });
          },
      .handed_over =
          [this](std::vector<accounting::Delivered> records) {
            std::set<std::string> groups;
            for (const accounting::Delivered& one : records) groups.insert(one.group);
            Status out = fail(Errc::io, "the node is being stopped");
            filler_->work([&](accounting::Store& store) { out = store.delivered(records); });
            if (out) deliverer_->begin_anew(groups);
            return out;
          },
      .settled = [this] { deliverer_->release(); },
      .keep = [this](std::vector<accounting::Incoming> records) { return writer_->keep(std::move(records)); },
      .events = *events_});
}

Result<std::vector<accounting::Record>> Server::records_of(const accounting::Session& session) {
  if (sharer_ && accounting::is_elsewhere(session.id)) return sharer_->records_of(session);
  return with_accounting([&](accounting::Store& store) { return store.records_of(session); });
}

Status Server::take_over_plan() {
  const std::lock_guard lock(plan_mutex_);
  const auto newest = plan_store_->newest();
  if (!newest) return newest.error();
  if (*newest == plan_.current()->revision) return {};
  document::Problems problems;
  const auto applied = keeper_->load(problems);
  if (!applied)
    return applied.error().at(
        fmt::format("revision {} of the plan cannot be put into force here, so {} stays", *newest,
                    plan_.current()->revision));
  put_into_force(*applied);
  return {};
}

std::string Server::degraded() const {
  const std::string records = sharer_ ? sharer_->problem() : "";
  const std::string plan = plan_sharer_ ? plan_sharer_->problem() : "";
  std::string out = records.empty() ? "" : "records do not reach the shared database " + records;
  if (!plan.empty()) out += (out.empty() ? "" : "; ") + ("the plan is not followed " + plan);
  return out;
}

Result<std::vector<shared::Node>> Server::shared_nodes() const {
  if (sharer_) return sharer_->nodes();
  return fail(Errc::conflict,
              fmt::format("node {} shares no database with others ([shared] database in its node file)",
                          settings_.name));
}

Status Server::admit_node(const std::string& name, const std::string& fingerprint, const std::string& by) {
  if (plan_sharer_) return plan_sharer_->admit(name, fingerprint, by);
  return fail(
      Errc::conflict,
      fmt::format("node {} shares no plan with others ([shared] plan in its node file)", settings_.name));
}

void Server::on_new_tokens(std::function<void()> look) {
  const std::lock_guard lock(tokens_mutex_);
  new_tokens_ = std::move(look);
}

Status Server::open_codes() {
  auto book = store::CodeBook::open(settings_.data_folder);
  if (!book) return book.error();
  CodeJudge::OpenShared open;
  if (!settings_.shared_plan.empty()) {
    auto wish = shared_wish();
    if (!wish) return wish.error();
    open = [wish = std::move(*wish), plan = settings_.shared_plan] {
      return shared::SharedCodes::open(wish, plan);
    };
  }
  codes_ = std::make_unique<CodeJudge>(std::move(*book), *events_, std::move(open));
  remembered_ = std::make_shared<engine::Remembered>();
  return {};
}

}  // namespace jembatan::server
