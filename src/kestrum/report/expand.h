// Templates of ctemplate, filled in.
#pragma once

#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace ctemplate {
class TemplateDictionary;
}

namespace kestrum {

// A script in which the names of `values` stand for their texts, which go in as they are.
std::string expand_script(std::string_view text,
                          const std::vector<std::pair<std::string, std::string>>& values);

// An HTML page; what goes in is escaped by where it stands, unless the template says otherwise.
std::string expand_page(std::string_view text, ctemplate::TemplateDictionary& dictionary);

}  // namespace kestrum
