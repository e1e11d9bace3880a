#include "bodies/attribute.h"

#include <charconv>
#include <nlohmann/json.hpp>

namespace jembatan::bodies {
namespace {

bool is_number(const dictionary::Definition& definition) {
  using dictionary::DataType;
  return definition.type == DataType::integer || definition.type == DataType::enumeration ||
         definition.type == DataType::integer64;
}

}  // namespace

nlohmann::json json_of(const dictionary::Described& line) {
  const std::string& text = line.value;
  if (line.definition != nullptr && line.problem.empty() && is_number(*line.definition)) {
    std::uint64_t number = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
    if (error == std::errc{} && end == text.data() + text.size()) return number;
  }
  const bool quoted = text.size() >= 2 && text.front() == '"' && text.back() == '"';
  return quoted ? text.substr(1, text.size() - 2) : text;
}

}  // namespace jembatan::bodies
