#include "kestrum/select/litter.h"

#include <fcntl.h>
#include <unistd.h>

#include <cstring>

#include "kestrum/base/below.h"

namespace kestrum {

const std::vector<std::string>& litter_patterns() {
  static const std::vector<std::string> kPatterns = {
      // caches
      ".cache", ".thumbnails", "__pycache__", "Thumbs.db", ".DS_Store",
      // trash
      ".Trash", ".Trash-[0-9]*", ".local/share/Trash", "$RECYCLE.BIN", "lost+found",
      // temporary files
      "*.tmp", "*.temp", ".nfs[0-9a-f]*", ".fuse_hidden*",
      // editor leftovers and locks
      "*~", ".*.sw[a-p]", "#*#", ".#*", "~$*", ".~lock.*#"};
  return kPatterns;
}

bool has_cache_tag(int folder_fd) {
  static constexpr char kSignature[] = "Signature: 8a477f597d28d172789f06886806bc55";
  constexpr std::size_t kLength = sizeof kSignature - 1;
  Fd fd = below::open_regular(folder_fd, "CACHEDIR.TAG", O_RDONLY);
  char text[kLength];
  return fd && ::pread(fd.get(), text, kLength, 0) == static_cast<ssize_t>(kLength) &&
         std::memcmp(text, kSignature, kLength) == 0;
}

const std::vector<FileCategory>& file_categories() {
  static const std::vector<FileCategory> kCategories = {
      {"documents", {"doc", "docx", "docm", "dot",  "dotx", "odt", "ott",   "fodt", "rtf", "pdf",
                     "txt", "md",   "tex",  "epub", "ps",   "wpd", "pages", "odp",  "ppt", "pptx",
                     "pps", "ppsx", "odg",  "vsd",  "vsdx", "xps", "djvu",  "html", "htm"}},
      {"spreadsheets",
       {"ods", "ots", "fods", "xls", "xlsx", "xlsm", "xlsb", "xlt", "xltx", "csv", "tsv", "numbers",
        "gnumeric"}},
      {"pictures", {"jpg",  "jpeg", "png", "gif", "tif", "tiff", "bmp", "webp", "svg",
                    "heic", "heif", "raw", "cr2", "cr3", "nef",  "arw", "dng",  "orf",
                    "rw2",  "psd",  "xcf", "kra", "ico", "avif", "ai",  "eps"}},
      {"music",
       {"mp3", "flac", "ogg", "oga", "opus", "wav", "aac", "m4a", "wma", "aif", "aiff", "mid",
        "midi", "m3u", "m3u8", "pls", "ape", "wv"}},
      {"video",
       {"mp4", "m4v", "mkv", "avi", "mov", "webm", "mpg", "mpeg", "wmv", "flv", "ogv", "3gp", "ts",
        "mts", "m2ts", "vob", "srt"}},
      {"mail", {"eml", "emlx", "mbox", "msg", "pst", "ost", "msf", "dbx", "vcf", "ics", "ldif"}},
      {"archives",
       {"zip", "tar", "gz", "tgz", "bz2", "tbz2", "xz", "txz", "zst", "7z", "rar", "iso", "cab",
        "lz", "lzma", "jar"}},
      {"programs",
       {"exe", "msi", "dll", "deb", "rpm", "appimage", "so", "bin", "run", "apk", "dmg", "com",
        "sys", "flatpak"}},
      {"source code",
       {"c",   "h",     "cc",    "cpp",  "cxx", "hpp",  "hh",  "java", "py",    "js",   "mjs",
        "jsx", "tsx",   "go",    "rs",   "rb",  "php",  "pl",  "pm",   "sh",    "bash", "cs",
        "kt",  "swift", "scala", "sql",  "lua", "r",    "m",   "f90",  "pas",   "asm",  "s",
        "css", "scss",  "vue",   "json", "xml", "yaml", "yml", "toml", "cmake", "make"}}};
  return kCategories;
}

}  // namespace kestrum
