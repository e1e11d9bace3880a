// A server's accounting: its parts, and what is asked of them.
#include <fmt/format.h>

#include "accounting/memory.h"
#include "host/secret_file.h"
#include "server/accounting_writer.h"
#include "server/deliverer.h"
#include "server/filler.h"
#include "server/log.h"
#include "server/prober.h"
#include "server/queue_sharer.h"
#include "server/server.h"
#include "server/sharer.h"
#include "server/worker.h"
#include "store/accounting_store.h"
#include "store/inbox.h"

namespace jembatan::server {
namespace {

constexpr std::chrono::seconds kOthersKnownWithin{10};  // what other nodes of the plan have sent from here
constexpr std::size_t kMostKnown = 1U << 19U;  // records that a resend is known of before it is answered

}  // namespace

// The parts of accounting, each with a connection of its own: who writes the inbox, who fills the store from
// it, who sends on what waits there.
Status Server::start_accounting() {
  auto inbox = store::Inbox::open(settings_.data_folder);
  if (!inbox) return inbox.error();
  if (const auto damaged = (*inbox)->damaged(); damaged > 0)
    log_error(fmt::format(
        "accounting inbox: {} commits cannot be read; they are set aside in the table 'damaged' of '{}'",
        damaged, (settings_.data_folder / "inbox.sqlite").string()));
  auto inbox_to_read = store::Inbox::open_for_reading(settings_.data_folder);
  if (!inbox_to_read) return inbox_to_read.error();
  std::array<std::unique_ptr<accounting::Store>, 2> readers;
  for (auto& reader : readers) {
    auto opened = store::AccountingStore::open_for_reading(settings_.data_folder);
    if (!opened) return opened.error();
    reader = std::move(*opened);
  }
  const auto follow = [online = online_](const accounting::Session& session) { online->follow(session); };
  if (const Status read = store_->each_session({.open_only = true}, follow); !read) return read;
  store_->watch(follow);
  auto memory = accounting::remembered(*store_, **inbox, kMostKnown);
  if (!memory) return memory.error();

  deliverer_ =
      std::make_unique<Deliverer>(std::move(readers[0]), settings_.send_from,
                                  Deliverer::Parts{plan_, *events_, tap_, [this] { prober_->look(); }});
  filler_ = std::make_unique<Filler>(Filler::Parts{
      .inbox = std::move(*inbox_to_read),
      .store = std::move(store_),
      .housekeeping = settings_.housekeeping,
      .filled =
          [this](std::int64_t up_to) {
            writer_->filled(up_to);
            if (sharer_) sharer_->look();
          },
      .settled = [this](std::int64_t up_to) { writer_->settled(up_to); },
      .queued = [this](const std::set<std::string>& groups) { deliverer_->look(groups); },
      .queued_again =
          [this](const std::set<std::string>& groups) {
            deliverer_->begin_anew(groups);
            if (queue_sharer_) queue_sharer_->begin_anew();
          },
      .taken_off =
          [this](std::vector<accounting::Delivered> records) { deliverer_->taken_off(std::move(records)); }});
  writer_ = std::make_unique<AccountingWriter>(AccountingWriter::Parts{
      .inbox = std::move(*inbox),
      .known = std::move(memory->known),
      .last = memory->last,
      .find_older = [older = std::shared_ptr<accounting::Store>(std::move(readers[1]))](
                        const accounting::Arrival& arrival) { return older->find(arrival); },
      .recorded =
          [this](std::size_t worker, std::vector<AccountingWriter::Done> done) {
            workers_[worker]->recorded(std::move(done));
          },
      .kept = [this] { filler_->look(); }});
  if (const Status shared = share_accounting(); !shared) return shared;
  if (queue_sharer_) deliverer_->hold(kOthersKnownWithin);
  filler_->start();
  deliverer_->start(*filler_);
  return {};
}

Result<std::unique_ptr<accounting::Store>> Server::accounting_reader() {
  {
    const std::lock_guard lock(accounting_mutex_);
    if (!accounting_readers_.empty()) {
      auto out = std::move(accounting_readers_.back());
      accounting_readers_.pop_back();
      return out;
    }
  }
  auto opened = store::AccountingStore::open_for_reading(settings_.data_folder);
  if (!opened) return opened.error();
  return std::unique_ptr<accounting::Store>(std::move(*opened));
}

void Server::put_back(std::unique_ptr<accounting::Store> reader) {
  constexpr std::size_t kMostKept = 3;
  const std::lock_guard lock(accounting_mutex_);
  if (accounting_readers_.size() < kMostKept) accounting_readers_.push_back(std::move(reader));
}

void Server::catch_up() {
  filler_->work([](accounting::Store&) {});
}

Result<std::uint64_t> Server::redirect_accounting(const std::string& group,
                                                  const std::optional<std::string>& to) {
  Result<std::uint64_t> out = fail(Errc::unreachable, "the node is being stopped");
  filler_->work([&](accounting::Store& store) { out = store.redirect(group, to); });
  if (!out) return out;
  std::set<std::string> changed{group};
  if (to) changed.insert(*to);
  deliverer_->begin_anew(changed);
  if (queue_sharer_) queue_sharer_->begin_anew();
  return out;
}

std::map<std::string, engine::Progress::OfGroup> Server::accounting_progress() const {
  return deliverer_->progress().all(host::SystemClock().now());
}

}  // namespace jembatan::server
