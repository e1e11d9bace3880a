#pragma once
// What a plan without errors could do better.
#include <functional>

#include "document/value.h"
#include "plan/plan.h"

namespace jembatan::plan {

/// Where an object stands: the number of its file, and the position in it.
struct Place {
  std::size_t file = 0;
  document::Position at;
};

/// Places of a plan's objects, in the order of the plan's own lists.
struct Places {
  std::vector<Place> clients;
  std::vector<Place> users;
  std::vector<Place> groups;
  std::vector<Place> directories;
  std::vector<Place> factors;
  std::vector<Place> enrolments;
  std::vector<Place> realms;
  std::vector<Place> routes;
  std::vector<Place> access_rules;
};

struct Advice {
  std::string rule;  ///< one of advice_rules()
  std::string text;  ///< what was found, one sentence; never a secret
  std::string mend;  ///< what would mend it
};

/// Calls `report` for each thing that could be better.
///   now  what dates are compared with; empty: they are not looked at
void advise(const Plan& plan, const Places& places, std::optional<WallTime> now,
            const std::function<void(const Place&, const Advice&)>& report);
/// The same about directories alone; advise() calls it.
void advise_of_directories(const Plan& plan, const Places& places,
                           const std::function<void(const Place&, const Advice&)>& report);
/// The same about second factors.
void advise_of_factors(const Plan& plan, const Places& places,
                       const std::function<void(const Place&, const Advice&)>& report);

/// Every rule with what it is about, for the reference.
std::vector<std::pair<std::string_view, std::string_view>> advice_rules();

}  // namespace jembatan::plan
