#include "support/schema.h"

#include <valijson/adapters/nlohmann_json_adapter.hpp>
#include <valijson/schema.hpp>
#include <valijson/schema_parser.hpp>
#include <valijson/validator.hpp>

#include "support/test.h"

namespace jh::test {

std::string check_schema(const std::string& text) {
  using Adapter = valijson::adapters::NlohmannJsonAdapter;
  static const auto schema = [] {
    auto out = std::make_unique<valijson::Schema>();
    const auto source = nlohmann::json::parse(
        read_file(std::string(JUNEHEATH_SOURCE) + "/../docs/schema/juneheath-1.schema.json"));
    valijson::SchemaParser parser;
    parser.populateSchema(Adapter(source), *out);
    return out;
  }();
  const auto document = nlohmann::json::parse(text, nullptr, /*allow_exceptions=*/false);
  if (document.is_discarded()) return "no JSON: " + text.substr(0, 200);
  valijson::ValidationResults results;
  valijson::Validator validator;
  if (validator.validate(*schema, Adapter(document), &results)) return {};
  std::ostringstream words;
  valijson::ValidationResults::Error error;
  while (results.popError(error)) {
    for (const std::string& part : error.context) words << part;
    words << ": " << error.description << "\n";
  }
  return words.str() + document.dump(1).substr(0, 2000);
}

}  // namespace jh::test
