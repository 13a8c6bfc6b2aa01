#include "kestrum/base/text.h"

#include <fmt/format.h>
#include <utf8proc.h>

#include <algorithm>
#include <array>
#include <charconv>

namespace kestrum {
namespace {

// The code point that begins at `text[at]` and its length in bytes; length 0 if it is not valid
// UTF-8.
struct CodePoint {
  utf8proc_int32_t value = -1;
  std::size_t length = 0;
};

CodePoint code_point_at(std::string_view text, std::size_t at) {
  CodePoint point;
  utf8proc_ssize_t n =
      utf8proc_iterate(reinterpret_cast<const utf8proc_uint8_t*>(text.data()) + at,
                       static_cast<utf8proc_ssize_t>(text.size() - at), &point.value);
  point.length = n > 0 ? static_cast<std::size_t>(n) : 0;
  return point;
}

// What can rewrite a terminal line, break it, or hide in it: control characters, separators of
// lines, marks and overrides of direction, characters without a width. Joiners stay, which names in
// some scripts need (U+200C, U+200D).
bool rewrites_lines(utf8proc_int32_t point) {
  static constexpr std::array<std::pair<utf8proc_int32_t, utf8proc_int32_t>, 11> kRanges = {{
      {0x00, 0x1F},
      {0x7F, 0x9F},
      {0xAD, 0xAD},
      {0x061C, 0x061C},
      {0x180E, 0x180E},
      {0x200B, 0x200B},
      {0x200E, 0x200F},
      {0x2028, 0x202E},
      {0x2060, 0x206F},
      {0xFEFF, 0xFEFF},
      {0xFFF9, 0xFFFB},
  }};
  bool tag = point >= 0xE0000 && point <= 0xE007F;
  return tag || std::any_of(kRanges.begin(), kRanges.end(), [&](const auto& range) {
           return point >= range.first && point <= range.second;
         });
}

// Columns of a terminal. A byte that is not valid UTF-8 is taken for one column.
std::size_t columns_of(const CodePoint& point) {
  return point.length == 0 ? 1 : static_cast<std::size_t>(utf8proc_charwidth(point.value));
}

}  // namespace

std::optional<std::uint64_t> parse_count(std::string_view text) {
  std::uint64_t value = 0;
  auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), value);
  bool all_read = ec == std::errc() && !text.empty() && end == text.data() + text.size();
  return all_read ? std::optional(value) : std::nullopt;
}

std::optional<std::uint32_t> parse_number(std::string_view text, std::uint32_t most) {
  auto value = parse_count(text);
  if (!value || *value > most) return std::nullopt;
  return static_cast<std::uint32_t>(*value);
}

bool is_utf8(std::string_view text) {
  bool ascii = std::all_of(text.begin(), text.end(), [](char c) { return c >= 0; });
  if (ascii) return true;
  for (std::size_t i = 0; i < text.size();) {
    std::size_t n = code_point_at(text, i).length;
    if (n == 0) return false;
    i += n;
  }
  return true;
}

std::string printable(std::string_view name) {
  std::string out;
  out.reserve(name.size());
  for (std::size_t i = 0; i < name.size();) {
    CodePoint point = code_point_at(name, i);
    std::string_view bytes = name.substr(i, std::max<std::size_t>(point.length, 1));
    if (bytes == "\n") {
      out += "\\n";
    } else if (bytes == "\t") {
      out += "\\t";
    } else if (bytes == "\r") {
      out += "\\r";
    } else if (point.length == 0 || rewrites_lines(point.value)) {
      for (char c : bytes) out += fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
    } else {
      out.append(bytes);
    }
    i += bytes.size();
  }
  return out;
}

std::string with_escaped_bytes(std::string_view bytes) {
  std::string out;
  for (std::size_t i = 0; i < bytes.size();) {
    std::size_t length = code_point_at(bytes, i).length;
    if (length == 0) {
      out += fmt::format("\\x{:02x}", static_cast<unsigned char>(bytes[i]));
    } else {
      out.append(bytes.substr(i, length));
    }
    i += std::max<std::size_t>(length, 1);
  }
  return out;
}

std::string without_escaped_bytes(std::string_view text) {
  std::string out;
  for (std::size_t i = 0; i < text.size();) {
    unsigned byte = 0;
    bool escaped = text.substr(i, 2) == "\\x" && i + 4 <= text.size();
    if (escaped) {
      auto [end, ec] = std::from_chars(text.data() + i + 2, text.data() + i + 4, byte, 16);
      escaped = ec == std::errc() && end == text.data() + i + 4 && byte >= 0x80;
    }
    if (text.substr(i, 2) == "\\\\") out += text[i++];  // a backslash that is one
    out += escaped ? static_cast<char>(byte) : text[i];
    i += escaped ? 4 : 1;
  }
  return out;
}

std::size_t display_width(std::string_view text) {
  std::size_t width = 0;
  for (std::size_t i = 0; i < text.size();) {
    CodePoint point = code_point_at(text, i);
    width += columns_of(point);
    i += std::max<std::size_t>(point.length, 1);
  }
  return width;
}

std::string shortened(std::string_view text, std::size_t columns) {
  std::size_t width = display_width(text);
  if (width <= columns) return std::string(text);
  if (columns < 5) return std::string(columns, '.');
  // Where the text has taken `wanted` columns at most, or, `at_least`, that many or more.
  auto position = [&](std::size_t wanted, bool at_least) {
    std::size_t i = 0;
    for (std::size_t seen = 0; i < text.size();) {
      CodePoint point = code_point_at(text, i);
      std::size_t next = seen + columns_of(point);
      if (at_least ? seen >= wanted : next > wanted) break;
      seen = next;
      i += std::max<std::size_t>(point.length, 1);
    }
    return i;
  };
  std::size_t head = (columns - 3) / 3, tail = columns - 3 - head;
  return std::string(text.substr(0, position(head, false))) + "..." +
         std::string(text.substr(position(width - tail, true)));
}

bool is_mail_address(const std::string& text) {
  std::size_t at = text.find('@');
  bool plain = std::all_of(text.begin(), text.end(), [](char c) {
    auto byte = static_cast<unsigned char>(c);
    return byte > 0x20 && byte != 0x7f && std::string("<>()[],;:\\\"").find(c) == std::string::npos;
  });
  return plain && is_utf8(text) && at != std::string::npos && at > 0 && at + 1 < text.size() &&
         text.find('@', at + 1) == std::string::npos && text.size() <= 254 && text[0] != '-';
}

std::string lower_ascii(std::string_view text) {
  std::string out(text);
  for (char& c : out) {
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  }
  return out;
}

std::string_view trimmed(std::string_view text) {
  constexpr std::string_view kBlank = " \t\r\n";
  std::size_t begin = text.find_first_not_of(kBlank);
  if (begin == std::string_view::npos) return {};
  return text.substr(begin, text.find_last_not_of(kBlank) - begin + 1);
}

std::vector<std::string> split(std::string_view text, char separator) {
  std::vector<std::string> parts;
  for (std::size_t begin = 0;;) {
    std::size_t end = text.find(separator, begin);
    parts.emplace_back(text.substr(begin, end - begin));
    if (end == std::string_view::npos) return parts;
    begin = end + 1;
  }
}

std::optional<std::string> nearest_word(std::string_view word,
                                        const std::vector<std::string>& words) {
  // Letters added, dropped, changed, or two swapped.
  auto distance = [](std::string_view a, std::string_view b) {
    std::vector<std::vector<std::size_t>> d(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
    for (std::size_t i = 0; i <= a.size(); ++i) d[i][0] = i;
    for (std::size_t j = 0; j <= b.size(); ++j) d[0][j] = j;
    for (std::size_t i = 1; i <= a.size(); ++i) {
      for (std::size_t j = 1; j <= b.size(); ++j) {
        d[i][j] =
            std::min({d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + (a[i - 1] != b[j - 1])});
        bool swapped = i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1];
        if (swapped) d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
      }
    }
    return d[a.size()][b.size()];
  };
  std::optional<std::string> best;
  std::size_t limit = std::max<std::size_t>(1, word.size() / 3) + 1;
  for (const auto& candidate : words) {
    std::size_t d = candidate.starts_with(word) && word.size() >= 3 ? 1 : distance(word, candidate);
    if (d < limit) {
      limit = d;
      best = candidate;
    }
  }
  return best;
}

}  // namespace kestrum
