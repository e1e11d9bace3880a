#include "identity/directory_filter.h"

#include <gtest/gtest.h>

namespace jembatan::identity {
namespace {

const std::vector<std::string> kPlaces{"user", "realm"};

TEST(DirectoryFilter, ComparesWhatAPersonTypesAndNothingElse) {
  EXPECT_EQ(as_filter_value("sari"), "sari");
  EXPECT_EQ(as_filter_value("*)(uid=*"), "\\2a\\29\\28uid=\\2a");  // RFC 4515 §4
  EXPECT_EQ(as_filter_value(std::string_view("a\0b\\", 4)), "a\\00b\\5c");
  EXPECT_EQ(as_filter_value("Lučić"), "Lučić");
  EXPECT_EQ(filled_filter("(&(uid={user})(o={realm}))", {{"user", "sari)("}, {"realm", "reef.example"}}),
            "(&(uid=sari\\29\\28)(o=reef.example))");
  EXPECT_EQ(filled_filter("(uid={user})", {{"user", "{realm}"}, {"realm", "x"}}), "(uid={realm})");
}

TEST(DirectoryFilter, IsReadBeforeItIsUsed) {
  for (const char* right :
       {"(uid={user})", "(&(uid={user})(!(objectClass=alias)))", "(|(uid={user})(mail={user}@x))", "(cn=*)",
        "(member=cn={user},ou=crew)", "(uid:caseExactMatch:={user})"})
    EXPECT_EQ(mistake_in_filter(right, kPlaces), "") << right;
  const std::pair<const char*, const char*> wrong[] = {{"", "a filter begins with '('"},
                                                       {"uid={user}", "a filter begins with '('"},
                                                       {"(uid={user}", "')' is missing"},
                                                       {"(uid={user}))", "')' stands behind its end"},
                                                       {"(uid)", "'uid' is no comparison like uid={user}"},
                                                       {"(=x)", "'=x' is no comparison like uid={user}"},
                                                       {"(&)", "nothing stands behind '&' or '|'"},
                                                       {"(!uid=x)", "'(' is missing"},
                                                       {"(uid={usr})", "nothing is known of '{usr}'"},
                                                       {"(uid={user)", "'}' is missing"}};
  for (const auto& [filter, mistake] : wrong)
    EXPECT_EQ(mistake_in_filter(filter, kPlaces), mistake) << filter;
  std::string deep;
  for (int i = 0; i < 100; ++i) deep += "(!";
  EXPECT_EQ(mistake_in_filter(deep, kPlaces), "it is too deep");
}

}  // namespace
}  // namespace jembatan::identity
