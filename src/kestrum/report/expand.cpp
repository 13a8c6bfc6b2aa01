#include "kestrum/report/expand.h"

#include <ctemplate/template.h>

#include <memory>

#include "kestrum/base/error.h"

namespace kestrum {
namespace {

std::string expanded(std::string_view text, ctemplate::TemplateDictionary& dictionary) {
  ctemplate::TemplateString source(text.data(), text.size());
  // Made for each text: what is kept by name is shared by the whole process.
  std::unique_ptr<ctemplate::Template> page(
      ctemplate::Template::StringToTemplate(source, ctemplate::STRIP_BLANK_LINES));
  std::string out;
  if (page == nullptr || !page->Expand(&out, &dictionary)) {
    throw Error(ErrorKind::kFailed, "a template of the report is wrong");
  }
  return out;
}

}  // namespace

std::string expand_script(std::string_view text,
                          const std::vector<std::pair<std::string, std::string>>& values) {
  ctemplate::TemplateDictionary dictionary("script");
  for (const auto& [name, value] : values) dictionary.SetValue(name, value);
  return expanded(text, dictionary);
}

std::string expand_page(std::string_view text, ctemplate::TemplateDictionary& dictionary) {
  return expanded(text, dictionary);
}

}  // namespace kestrum
