#include "support/tree.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <fstream>

#include "kestrum/base/file.h"
#include "kestrum/crypto/digest.h"
#include "support/temp_folder.h"

namespace kestrum::test {
namespace fs = std::filesystem;

Tree tree_of(const std::string& folder, const TreeOptions& options) {
  Tree tree;
  std::map<std::pair<dev_t, ino_t>, std::string> first_names;
  std::vector<std::string> paths;
  for (const auto& entry : fs::recursive_directory_iterator(folder)) paths.push_back(entry.path());
  std::sort(paths.begin(), paths.end());
  for (const auto& path : paths) {
    struct stat st {};
    ::lstat(path.c_str(), &st);
    std::string line = fmt::format("{:o} {}:{} {}.{:09}", st.st_mode, st.st_uid, st.st_gid,
                                   st.st_mtim.tv_sec, st.st_mtim.tv_nsec);
    if (S_ISLNK(st.st_mode)) line += " -> " + fs::read_symlink(path).string();
    if (S_ISREG(st.st_mode)) {
      line += fmt::format(" {} bytes {}", st.st_size,
                          to_hex(digest_of(as_bytes(read_file(path, 1 << 30)))));
      if (options.hard_links && st.st_nlink > 1) {
        auto [it, first] =
            first_names.try_emplace({st.st_dev, st.st_ino}, path.substr(folder.size()));
        if (!first) line += " is " + it->second;
      }
    }
    if (options.attributes) {
      char names[4096];
      ssize_t length = ::llistxattr(path.c_str(), names, sizeof names);
      std::set<std::string> sorted;
      for (const char* name = names; length > 0 && name < names + length;
           name += std::char_traits<char>::length(name) + 1) {
        sorted.insert(name);
      }
      for (const auto& name : sorted) {
        char value[4096];
        ssize_t n = ::lgetxattr(path.c_str(), name.c_str(), value, sizeof value);
        if (n < 0) continue;
        std::string_view bytes(value, static_cast<std::size_t>(n));
        line += fmt::format(" {}={}", name, to_hex(as_bytes(bytes)));
      }
    }
    tree[path.substr(folder.size())] = line;
  }
  return tree;
}

std::string difference(const Tree& expected, const Tree& found) {
  std::string text;
  int shown = 0;
  auto add = [&](const std::string& line) {
    if (++shown <= 12) text += line + "\n";
  };
  for (const auto& [path, line] : expected) {
    auto it = found.find(path);
    if (it == found.end()) {
      add("missing: " + path);
    } else if (it->second != line) {
      add("differs: " + path + "\n  expected " + line + "\n  found    " + it->second);
    }
  }
  for (const auto& [path, line] : found) {
    if (!expected.contains(path)) add("too much: " + path);
  }
  return text;
}

std::string TreeMaker::some_name() {
  static const std::vector<std::string> kAwkward = {"a",
                                                    "a-b",
                                                    "a.b",
                                                    "a b",
                                                    "-x",
                                                    "a,b",
                                                    "new\nline",
                                                    "tab\t",
                                                    "quote'\"",
                                                    "$HOME",
                                                    "back\\slash",
                                                    "\xff\xfe-not-utf8",
                                                    "\xd0\x9c\xd0\xbe\xd1\x80\xd0\xb5",
                                                    "\xe6\xb5\xb7",
                                                    "*",
                                                    "[x]",
                                                    "a\x01z",
                                                    "caf\xc3\xa9",
                                                    "cafe\xcc\x81"};
  std::string name = kAwkward[static_cast<std::size_t>(below(static_cast<int>(kAwkward.size())))];
  if (below(4) != 0) name += std::to_string(below(100000));
  if (below(60) == 0) name += std::string(200, 'n');
  return name;
}

std::string TreeMaker::content() {
  int kind = below(10);
  if (kind == 0) return "";
  if (kind == 1) return "the same words everywhere\n";
  if (kind == 2) return noise(70'000, static_cast<unsigned>(below(3)));  // known content, linked
  if (kind == 3)
    return noise(static_cast<std::size_t>(below(40'000)), static_cast<unsigned>(random_()));
  std::string text;
  for (int i = below(200); i > 0; --i) text += fmt::format("line {} of a letter\n", below(1000));
  return text;
}

std::string TreeMaker::some_folder() {
  if (folders_.empty()) return folder_;
  return folders_[static_cast<std::size_t>(below(static_cast<int>(folders_.size())))];
}

std::string TreeMaker::some_file() {
  return files_.empty() ? ""
                        : files_[static_cast<std::size_t>(below(static_cast<int>(files_.size())))];
}

void TreeMaker::add() {
  std::string path = some_folder() + "/" + some_name();
  if (path_exists(path) || path.size() > 3000) return;
  int kind = below(20);
  if (kind < 4) {
    std::error_code ec;
    if (fs::create_directory(path, ec)) folders_.push_back(path);
    return;
  }
  if (kind == 4) {
    std::error_code ec;
    fs::create_symlink(below(2) == 0 ? "nowhere/at all" : some_file(), path, ec);
  } else if (kind == 5) {
    ::mkfifo(path.c_str(), 0640);
  } else if (kind == 6 && !some_file().empty()) {
    std::error_code ec;
    fs::create_hard_link(some_file(), path, ec);
  } else {
    std::ofstream(path, std::ios::binary) << content();
    ::chmod(path.c_str(), static_cast<mode_t>(0600 + below(0200)));
    timespec times[2] = {{1'700'000'000 + below(1'000'000), below(1'000'000'000)},
                         {1'700'000'000 + below(1'000'000), below(1'000'000'000)}};
    ::utimensat(AT_FDCWD, path.c_str(), times, 0);
    if (below(20) == 0) {
      std::string value = "value " + std::to_string(below(10));
      ::setxattr(path.c_str(), "user.note", value.data(), value.size(), 0);
    }
    files_.push_back(path);
  }
}

// What moves and removals left of the lists.
void TreeMaker::remember() {
  folders_.clear();
  files_.clear();
  for (const auto& entry : fs::recursive_directory_iterator(folder_)) {
    if (entry.is_symlink()) continue;
    if (entry.is_directory()) folders_.push_back(entry.path());
    if (entry.is_regular_file()) files_.push_back(entry.path());
  }
  std::sort(folders_.begin(), folders_.end());
  std::sort(files_.begin(), files_.end());
}

void TreeMaker::grow(int entries) {
  for (int i = 0; i < entries; ++i) add();
  remember();
}

void TreeMaker::change(int steps) {
  std::error_code ec;
  for (int i = 0; i < steps; ++i) {
    std::string file = some_file();
    if (file.empty() || !fs::is_regular_file(fs::symlink_status(file))) {
      remember();
      add();
      continue;
    }
    switch (below(12)) {
      case 0:
      case 1:
      case 2:
        add();
        break;
      case 3:
      case 4:  // edit
        std::ofstream(file, std::ios::binary | std::ios::app) << "one more line " << below(1000);
        break;
      case 5:  // move
        fs::rename(file, some_folder() + "/" + some_name(), ec);
        break;
      case 6:  // move a folder
        fs::rename(some_folder(), some_folder() + "/" + some_name(), ec);
        remember();
        break;
      case 7:  // copy
        fs::copy_file(file, some_folder() + "/" + some_name(), ec);
        break;
      case 8:  // re-tag
        ::chmod(file.c_str(), static_cast<mode_t>(0600 + below(0200)));
        break;
      case 9:
        fs::remove(file, ec);
        break;
      case 10:  // file becomes folder
        fs::remove(file, ec);
        fs::create_directory(file, ec);
        put_file(file + "/within", content());
        break;
      case 11: {  // folder becomes link
        std::string folder = some_folder();
        if (below(3) != 0 || folder == folder_) break;
        fs::remove_all(folder, ec);
        fs::create_symlink("somewhere", folder, ec);
        remember();
        break;
      }
    }
    if (i % 50 == 49) remember();
  }
  remember();
  for (std::size_t i = 0; i < folders_.size(); i += 37) ::chmod(folders_[i].c_str(), 0555);
  for (std::size_t i = 5; i < folders_.size(); i += 37) ::chmod(folders_[i].c_str(), 0755);
}

}  // namespace kestrum::test
