#pragma once
// Revisions through the keeper into SQLite, in a folder of their own.
#include <gtest/gtest.h>

#include "revision/keeper.h"
#include "store/plan_store.h"
#include "support/fakes.h"
#include "support/process.h"

namespace jembatan::store {

class KeeperOnDisk {
 protected:
  KeeperOnDisk() { reopen(); }

  /// As a restart does.
  void reopen() {
    keeper.reset();
    store.reset();
    store = *PlanStore::open(folder.path());
    keeper = std::make_unique<revision::Keeper>(
        *store, *revision::SealKey::parse(Secret(std::string(64, '7'))), random);
  }

  support::TemporaryFolder folder;
  support::FixedRandom random{3};
  support::FakeClock clock;
  std::unique_ptr<PlanStore> store;
  std::unique_ptr<revision::Keeper> keeper;
};

}  // namespace jembatan::store
