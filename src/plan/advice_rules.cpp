// What the kinds of advice are called, for the reference.
#include "plan/advice.h"

namespace jembatan::plan {

std::vector<std::pair<std::string_view, std::string_view>> advice_rules() {
  return {
      {"weak-secret", "a secret that is short, or repeats few characters"},
      {"shared-by-clients", "one secret of several clients"},
      {"overlap", "a client's prefix that lies inside another's"},
      {"unsigned-rotation", "two secrets of a client whose requests need not be signed"},
      {"gives-up-early", "a client that waits for a shorter time than a group needs to ask a second server"},
      {"unused-group", "a group that nothing is forwarded to"},
      {"lone-weight", "a weight of a server that is alone in its priority"},
      {"no-share", "a server of weight 0 beside others"},
      {"late-tier", "a priority whose turn comes after 30 s"},
      {"near-miss", "names or label values that differ in letter case, spaces, '-' or '_' alone"},
      {"space-in-name", "a client or group whose name has a space"},
      {"secret-of-lines", "a secret of several lines, as of a file that holds more than the secret"},
      {"empty-password", "a user whose NT hash is that of no password at all"},
      {"busy-interim", "an Acct-Interim-Interval below 60 s"},
      {"circle", "a server that is asked, and may ask, too: requests can go round"},
      {"shadowed", "a route or access rule that an earlier one leaves nothing to"},
      {"unused-user-group", "a group of a user that no access rule asks for"},
      {"empty-user-group", "a group that an access rule asks for, and no user is in"},
      {"method-mismatch",
       "a user whose password proves none of the methods that a rule for his group accepts"},
      {"in-the-clear", "a directory that passwords travel to without encryption"},
      {"unused-directory", "a directory that no realm has its people in"},
      {"unused-factor", "a second factor that no access rule asks for"},
      {"no-token", "a second factor that a rule asks for, and nobody has a token for"},
      {"token-of-nobody", "a token of a user whom neither the plan nor a directory has"},
      {"expired", "a user, or an old secret, whose time is over"}};
}

}  // namespace jembatan::plan
