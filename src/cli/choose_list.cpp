#include "choose_list.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>

#include "editor.h"
#include "kestrum/base/file.h"
#include "kestrum/base/text.h"
#include "kestrum/base/units.h"
#include "kestrum/select/path_order.h"

namespace kestrum::cli {
namespace {

constexpr std::size_t kLongestList = std::size_t{1} << 30;

struct Totals {
  std::uint64_t files = 0, bytes = 0;
};

// What lies below each folder of the list, in the order in which they come.
std::vector<Totals> folder_totals(ReadSession& session, SetId set,
                                  const std::vector<std::string>& folders) {
  std::vector<Totals> totals;
  for (const std::string& top : folders) {
    std::vector<std::pair<std::string, std::size_t>> open;  // folders around, and where they count
    auto cursor = session.index().state_at(set, top);
    IndexEntry entry;
    while (cursor.next(entry)) {
      const Entry& e = entry.line.entry;
      while (!open.empty() && !is_within(e.path, open.back().first)) open.pop_back();
      if (e.type == EntryType::kFolder) {
        open.emplace_back(e.path, totals.size());
        totals.emplace_back();
        continue;
      }
      for (const auto& [path, at] : open) {
        ++totals[at].files;
        if (e.type == EntryType::kFile) totals[at].bytes += e.size;
      }
    }
  }
  return totals;
}

std::string line_of(const Entry& e, const Totals* totals) {
  std::string size = e.type == EntryType::kFile     ? format_size(e.size)
                     : e.type == EntryType::kFolder ? format_size(totals->bytes)
                                                    : type_name(e.type);
  std::string when = e.type == EntryType::kFolder ? counted(totals->files, "file")
                                                  : format_local(e.mtime.moment());
  return fmt::format("[ ] {:>9}  {:<16}  {}{}\n", size, when, one_line_name("/" + e.path),
                     e.type == EntryType::kFolder ? "/" : "");
}

std::string list_of(ReadSession& session, SetId set, const std::vector<std::string>& folders) {
  std::vector<Totals> totals = folder_totals(session, set, folders);
  std::string text = fmt::format(
      "# {} of {} (set {})\n"
      "# Put an x between the brackets of what you want back; a folder stands for all that is in "
      "it.\n"
      "# Then save the file and leave the editor. Nothing marked: nothing is done.\n"
      "# Only the x counts. Names stand as they are, but a control character as \\x0a, a backslash "
      "twice.\n\n",
      printable(session.job_name()), format_local_day(session.set(set).started),
      session.name_of(set));
  std::size_t folder = 0;
  for (const std::string& top : folders) {
    auto cursor = session.index().state_at(set, top);
    IndexEntry entry;
    while (cursor.next(entry)) {
      const Entry& e = entry.line.entry;
      text += line_of(e, e.type == EntryType::kFolder ? &totals[folder++] : nullptr);
      if (text.size() > kLongestList) {
        throw Error(ErrorKind::kUsage, "too many files for a list", "name a folder as PATH");
      }
    }
  }
  return text;
}

// Whether a line is marked; its name begins at the first slash, which size and date have none of.
bool is_marked(std::string_view line) {
  std::size_t slash = std::min(line.find('/'), line.size());
  std::string_view mark = trimmed(line.substr(0, slash));
  if (mark.starts_with('[')) mark = trimmed(mark.substr(1));
  return mark.starts_with('x') || mark.starts_with('X');
}

}  // namespace

std::string one_line_name(const std::string& name) {
  std::string out;
  std::string_view rest = name;
  while (!rest.empty()) {
    // Whole code points as they are.
    std::size_t length = 1;
    while (length < rest.size() && (static_cast<unsigned char>(rest[length]) & 0xC0) == 0x80) {
      ++length;
    }
    std::string piece(rest.substr(0, length));
    bool control = length == 1 && (static_cast<unsigned char>(piece[0]) < 0x20 || piece[0] == 0x7f);
    bool control_too = piece.size() == 2 && piece[0] == '\xc2' &&
                       static_cast<unsigned char>(piece[1]) < 0xa0;  // C1, by some terminals
    if (piece == "\\") {
      out += "\\\\";
    } else if (control || control_too || with_escaped_bytes(piece) != piece) {
      for (char c : piece) out += fmt::format("\\x{:02x}", static_cast<unsigned char>(c));
    } else {
      out += piece;
    }
    rest.remove_prefix(length);
  }
  return out;
}

std::string name_of_line(std::string_view text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '\\' || i + 1 == text.size()) {
      out += text[i];
      continue;
    }
    unsigned byte = 0;
    if (text[i + 1] == 'x' && i + 3 < text.size() &&
        std::from_chars(text.data() + i + 2, text.data() + i + 4, byte, 16).ptr ==
            text.data() + i + 4) {
      out += static_cast<char>(byte);
      i += 3;
    } else {
      out += text[++i];
    }
  }
  return out;
}

std::vector<ListedLine> edited_list(const Context& context, const std::string& text) {
  make_folders(context.home.state);
  EditedFile list(fmt::format("{}/choice-{}.txt", context.home.state, ::getpid()));
  write_file(list.path, text, 0600);
  if (!run_editor(list.path)) {
    throw Error(ErrorKind::kFailed, "the editor failed; nothing was done",
                "set EDITOR to one that is installed");
  }
  std::vector<ListedLine> lines;
  std::size_t number = 0;
  for (const std::string& line : split(read_file(list.path, 2 * kLongestList), '\n')) {
    ++number;
    if (line.starts_with('#') || trimmed(line).empty()) continue;
    std::size_t slash = line.find('/');
    std::string path = slash == std::string::npos ? "" : name_of_line(line.substr(slash));
    if (path.ends_with('\r')) path.pop_back();
    if (path.size() > 1 && path.ends_with('/')) path.pop_back();
    lines.push_back({number, is_marked(line), path, line});
  }
  return lines;
}

Error names_nothing(const ListedLine& line) {
  return Error(ErrorKind::kUsage,
               fmt::format("line {} of the list names nothing that was listed: {}", line.number,
                           printable(line.text)),
               "nothing was done");
}

std::vector<std::string> choose_in_editor(const Context& context, ReadSession& session, SetId set,
                                          const std::vector<std::string>& folders) {
  std::vector<std::string> marked;
  for (const ListedLine& line : edited_list(context, list_of(session, set, folders))) {
    if (!line.marked) continue;
    if (line.path.size() < 2 || !session.index().find(set, line.path.substr(1))) {
      throw names_nothing(line);
    }
    marked.push_back(line.path);
  }
  return marked;
}

}  // namespace kestrum::cli
