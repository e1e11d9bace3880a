#pragma once
// The words for each step of a request's course.
#include "decide/compose.h"
#include "decide/factor.h"

namespace jembatan::decide {

/// Gets a line for each step that a course takes, in their order.
class Telling {
 public:
  enum class Of : std::uint8_t {
    assumed,  ///< nothing was sent: a person asks what would happen, and is helped with names
    done,     ///< it has happened
  };
  explicit Telling(Of of) : of_(of) {}

  /// Whose request it is.
  ///   from  where it came from, if it came
  void client(const plan::Client& client, const std::optional<IpAddress>& from = {});
  /// How the name was understood, and where that leads.
  void way(const Request& request, const Way& way, const Trail& trail);
  ///   known  somebody has this name
  void nothing_proved(const plan::Plan& plan, const Way& way, bool known);
  /// What a directory said.
  void person(const plan::Directory& directory, const Way& way, const Person& person);
  /// Of a method that is not answered here.
  void method(std::string_view method);
  ///   known    somebody has this name, or a directory has been asked for it
  ///   why_not  empty: it was right
  void proof(const plan::Plan& plan, const Way& way, bool known, const std::string& why_not);
  /// What a conversation that goes on had proved.
  void resumed(const Resumed& so_far);
  void factor(const FactorProof& proof);
  /// The rules that were looked at, each with what decided it.
  ///   facts  that they were looked at with
  void rules(const plan::Plan& plan, const condition::Facts& facts, const Trail& trail);
  /// What the reply has, and from whom; also what was left out, and why.
  void reply(const plan::Plan& plan, const std::vector<ReplyPart>& parts);
  ///   kind, owner  "access rule", "crew"
  void reply(const plan::Plan& plan, OctetView attributes, std::string_view kind, std::string_view owner);
  /// Says so if the plan gives VLANs and these attributes have none.
  void missing_vlan(const plan::Plan& plan, OctetView attributes);
  void say(std::string line) { lines.push_back(std::move(line)); }

  std::vector<std::string> lines;

 private:
  void realm_table(const plan::Plan& plan, const Way& way);
  template <class Named>
  std::string nearest_in(const std::vector<Named>& all, std::string_view wanted) const;
  void no_user(const plan::Plan& plan, const Way& way);
  Of of_;
};

/// How a name was understood: "name 'REEF\sari' (realm\user): user 'sari', realm 'REEF'".
std::string name_text(const plan::Plan& plan, const Way& way);

}  // namespace jembatan::decide
