#pragma once
// How the findings of a comparison are told.
#include <memory>
#include <optional>

#include "accounting/reconcile.h"
#include "cli/node_ledger.h"

namespace jembatan::cli {

/// One side: a node, or a file of one.
struct Side {
  std::string name;
  std::optional<NodeClient> node;
  std::unique_ptr<accounting::Ledger> ledger;
};

/// The findings, with what the nodes' records say: the first hundred of each kind.
///   sent_to  the group whose evidence the ledger here was made of; may be empty
nlohmann::json told_json(const accounting::Findings& found, Side& here, Side& there,
                         const std::string& sent_to);
void print_compared(const nlohmann::json& told, Terminal& out);
/// All of them in one table.
void print_findings_csv(const nlohmann::json& all, Terminal& out);

}  // namespace jembatan::cli
