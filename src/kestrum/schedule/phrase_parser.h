// Understanding a schedule as people say it.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "kestrum/schedule/phrase.h"

namespace kestrum {

// Understands the standard forms and what people make of them: "daily at 9pm", "Fridays 17:00",
// "mon-fri at 9". Nothing if the text is unclear.
std::optional<Phrase> parse_phrase(std::string_view text);

// The phrase nearest to one that is not understood; it parses.
std::string nearest_phrase(std::string_view text);

}  // namespace kestrum
