// Names and words as people read and write them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace kestrum {

// Decimal digits and nothing else; nothing if the number is above `most`.
std::optional<std::uint32_t> parse_number(std::string_view text, std::uint32_t most = UINT32_MAX);

// The same, up to what 64 bits hold.
std::optional<std::uint64_t> parse_count(std::string_view text);

bool is_utf8(std::string_view text);
// Control characters and bytes that are not UTF-8 escaped as \n, \t, \x1b..., fit for a terminal.
std::string printable(std::string_view name);
// Bytes that are not UTF-8 as \xe9, for what must be text; and from 80 on back again, but for those
// behind a second backslash.
std::string with_escaped_bytes(std::string_view bytes);
std::string without_escaped_bytes(std::string_view text);
// Columns that a text takes in a terminal: East Asian wide characters take two, combining marks
// none.
std::size_t display_width(std::string_view text);
// At most `columns` columns wide: the middle of a longer text becomes "...".
std::string shortened(std::string_view text, std::size_t columns);

// Whether it looks like the address of a mailbox: one "@", and no character that would end it.
bool is_mail_address(const std::string& text);

std::string lower_ascii(std::string_view text);
std::string_view trimmed(std::string_view text);
std::vector<std::string> split(std::string_view text, char separator);
// The word of `words` nearest to `word` by edit distance, if it is near enough to be meant.
std::optional<std::string> nearest_word(std::string_view word,
                                        const std::vector<std::string>& words);

}  // namespace kestrum
