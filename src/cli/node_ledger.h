#pragma once
// A node's accounting, to be compared with another's over its management API.
#include "accounting/ledger.h"
#include "cli/node_access.h"

namespace jembatan::cli {

class NodeLedger final : public accounting::Ledger {
 public:
  NodeLedger(NodeClient& node, const accounting::LedgerQuery& query, const std::string& salt);

  Result<std::map<accounting::Hour, accounting::Sum>> hours() override;
  Result<std::map<accounting::Hour, accounting::SlotSums>> slots(
      std::span<const accounting::Hour> hours) override;
  Result<std::vector<accounting::Entry>> entries(std::span<const accounting::Place> places) override;
  Result<Late> late(std::chrono::seconds by, std::size_t most) override;

 private:
  using Parts = std::vector<std::pair<std::string, std::string>>;
  Result<nlohmann::json> ask(const char* what, const std::pair<std::string, std::string>& more = {});
  NodeClient& node_;
  Parts query_;
};

}  // namespace jembatan::cli
