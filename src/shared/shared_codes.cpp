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
      const Row row{plan_, hex(view_of(key.factor)), hex(view_of(key.user))};
      while (!changed(row, change)) {
      }
      return {};
    });
  }

  void interrupt() override { at_.interrupt(); }

 private:
  struct Row {
    std::string plan, factor, user;
  };
  // False: another node made the row meanwhile. One that is only looked at is not made.
  bool changed(const Row& row, const std::function<void(identity::CodePage&)>& change) {
    pqxx::work whole(*at_);
    const auto kept = whole.exec_params(
        "SELECT encode(page, 'hex') FROM code_page WHERE plan = $1 AND factor = $2 AND person = $3 FOR "
        "UPDATE",
        row.plan, row.factor, row.user);
    const Result<identity::CodePage> read =
        kept.empty() ? identity::CodePage{} : identity::unpacked_page(octets_in(kept[0][0]));
    const identity::CodePage before = read ? *read : identity::CodePage{};
    identity::CodePage page = before;
    change(page);
    if (page == before) return true;
    const auto written = whole.exec_params(
        kept.empty() ? "INSERT INTO code_page VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING"
                     : "UPDATE code_page SET page = $4 WHERE plan = $1 AND factor = $2 AND person = $3",
        row.plan, row.factor, row.user, hex(identity::packed(page)));
    whole.commit();
    return written.affected_rows() > 0;
  }

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
