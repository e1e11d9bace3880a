#include "shared/shared_codes.h"

#include "shared/connection.h"

namespace jembatan::shared {
namespace {

class PostgresCodes final : public SharedCodes {
 public:
  PostgresCodes(const std::string& database, std::string plan) : at_(database), plan_(std::move(plan)) {}

  Status prepare(const Wish& wish) { return at_.prepare(wish); }

  Status with_page(const Key& key, const std::function<void(identity::CodePage&)>& change) override {
    return attempt_sql([&]() -> Status {
      pqxx::work whole(*at_);
      const std::string factor = hex(view_of(key.factor));
      const std::string user = hex(view_of(key.user));
      whole.exec_params("INSERT INTO code_page VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING", plan_, factor,
                        user, hex(identity::packed({})));
      const auto row = whole.exec_params1(
          "SELECT encode(page, 'hex') FROM code_page WHERE plan = $1 AND factor = $2 AND person = $3 FOR "
          "UPDATE",
          plan_, factor, user);
      const auto kept = identity::unpacked_page(octets_in(row[0]));
      identity::CodePage page = kept ? *kept : identity::CodePage{};
      const identity::CodePage before = page;
      change(page);
      if (page != before)
        whole.exec_params("UPDATE code_page SET page = $4 WHERE plan = $1 AND factor = $2 AND person = $3",
                          plan_, factor, user, hex(identity::packed(page)));
      whole.commit();
      return {};
    });
  }

  void interrupt() override { at_.interrupt(); }

 private:
  Connection at_;
  std::string plan_;
};

}  // namespace

Result<std::unique_ptr<SharedCodes>> SharedCodes::open(const Wish& wish, const std::string& plan) {
  return attempt_sql([&]() -> Result<std::unique_ptr<SharedCodes>> {
    auto out = std::make_unique<PostgresCodes>(wish.database, plan);
    if (const Status prepared = out->prepare(wish); !prepared) return prepared.error();
    return std::unique_ptr<SharedCodes>(std::move(out));
  });
}

}  // namespace jembatan::shared
