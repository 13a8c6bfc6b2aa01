#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "kestrum/base/text.h"

namespace kestrum {

/// The words of a phrase that a person typed ("Last  Week"), in lower case: what stands between
/// blanks, none of them empty.
inline std::vector<std::string> lower_words(std::string_view phrase) {
  std::vector<std::string> words = split(lower_ascii(trimmed(phrase)), ' ');
  std::erase(words, std::string());
  return words;
}

}  // namespace kestrum
