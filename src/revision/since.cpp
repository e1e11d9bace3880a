#include "revision/since.h"

#include <fmt/format.h>

#include "base/text.h"
#include "document/write.h"

namespace jembatan::revision {
namespace {

constexpr std::size_t kMostForms = 1000;

std::string value_of(const Object& object, std::string_view field) {
  const document::Value table = table_of(object);
  const document::Value* value = table.find(field);
  return value == nullptr ? "" : document::inline_text(*value);
}

}  // namespace

Result<Revision> last_change(Archive& archive, std::string_view kind, std::string_view name,
                             std::string_view field) {
  const auto forms = archive.forms(kind, name, kMostForms);
  if (!forms) return forms.error();
  if (forms->empty()) return fail(Errc::not_found, fmt::format("there is no {} '{}'", kind, escaped(name)));
  const std::string now = value_of(forms->front().object, field);
  std::uint64_t since = forms->front().since;
  for (const Form& form : *forms) {
    if (value_of(form.object, field) != now) break;
    since = form.since;
  }
  return archive.revision(since);
}

std::string since_text(const Revision& revision) {
  return fmt::format("since {}, by {}{}{}", second_text(revision.at), escaped(revision.author),
                     revision.message.empty() ? "" : ": ", escaped(revision.message));
}

}  // namespace jembatan::revision
