#include <gtest/gtest.h>

#include "kestrum/archive/acl_text.h"
#include "kestrum/archive/pax_time.h"
#include "kestrum/archive/tar_head.h"
#include "kestrum/archive/tar_reader.h"
#include "kestrum/base/error.h"
#include "kestrum/base/file.h"
#include "support/program.h"

namespace kestrum {
namespace {

TEST(PaxTimes, AreExactWhateverTheYear) {
  for (FileTime time : {FileTime(0, 0), FileTime(0, 1), FileTime(-1, 999'999'999), FileTime(-1, 0),
                        FileTime(-2, 500'000'000), FileTime(-11'644'473'600, 250'000'000),
                        FileTime(9'223'372'037, 1), FileTime(884'541'340'800, 7)}) {
    auto back = parse_pax_time(pax_time(time));
    ASSERT_TRUE(back) << pax_time(time);
    EXPECT_TRUE(*back == time) << pax_time(time);
  }
  EXPECT_EQ(pax_time(FileTime(-2, 750'000'000)), "-1.25");
  EXPECT_EQ(pax_time(FileTime(-1, 750'000'000)), "-0.25");
  EXPECT_TRUE(*parse_pax_time("-0.25") == FileTime(Nanos{-250'000'000}));
  EXPECT_FALSE(parse_pax_time("9223372036854775808"));
  EXPECT_FALSE(parse_pax_time("--1"));
  EXPECT_EQ(FileTime(884'541'340'800, 7).moment(), INT64_MAX) << "the nearest there is";
  EXPECT_EQ(FileTime(-11'644'473'600, 0).moment(), INT64_MIN);
}

Entry file_entry(const std::string& path, std::uint64_t size) {
  Entry entry;
  entry.path = path;
  entry.size = size;
  entry.mode = 0640;
  entry.mtime = 1'772'485'200'123'456'789;
  entry.user = "presenter";
  return entry;
}

TarEntry read_back(const std::string& bytes) {
  MemorySource source{std::string_view(bytes)};
  bool end = false;
  return read_tar_entry(source, 0, "tar", end);
}

TEST(Tar, CarriesWhatUstarCannot) {
  Entry entry = file_entry("a/" + std::string(300, 'n') + "/caf\xc3\xa9\nnew,line", 0);
  entry.uid = 3'000'000;
  entry.gid = 4'000'000'000;
  entry.group = std::string(40, 'g');
  entry.mtime = -1'500'000'000;
  entry.xattrs["user.a=b%c"] = std::string("raw\0\n=", 6);
  Entry found = read_back(tar_entry_head(entry)).entry;
  EXPECT_EQ(found.path, entry.path);
  EXPECT_EQ(found.uid, entry.uid);
  EXPECT_EQ(found.gid, entry.gid);
  EXPECT_EQ(found.user, entry.user);
  EXPECT_EQ(found.group, entry.group);
  EXPECT_EQ(found.mtime, entry.mtime);
  EXPECT_EQ(found.mode, entry.mode);
  EXPECT_EQ(found.xattrs, entry.xattrs);
}

TEST(Tar, NamesSizesBeyondEightGibibytesInTheHeader) {
  Entry entry = file_entry("huge", 9ULL << 30);
  std::string head = tar_entry_head(entry);
  EXPECT_NE(head.find("size=9663676416\n"), std::string::npos);
  EXPECT_THROW(read_back(head), Error);  // the archive is not that long
}

TEST(Tar, EveryTypeComesBack) {
  for (EntryType type : {EntryType::kFile, EntryType::kFolder, EntryType::kLink,
                         EntryType::kHardlink, EntryType::kFifo, EntryType::kDevice}) {
    Entry entry = file_entry("entry", 0);
    entry.type = type;
    if (type == EntryType::kLink || type == EntryType::kHardlink)
      entry.target = std::string(150, 't');
    if (type == EntryType::kDevice) entry.device_major = 8, entry.device_minor = 17;
    Entry found = read_back(tar_entry_head(entry)).entry;
    EXPECT_EQ(found.type, type);
    EXPECT_EQ(found.target, entry.target);
    EXPECT_EQ(found.device_minor, entry.device_minor);
  }
}

TEST(Tar, TheRootOfTheFilesystemIsADot) {
  Entry entry = file_entry("", 0);
  entry.type = EntryType::kFolder;
  EXPECT_EQ(tar_name(entry), "./");
  EXPECT_EQ(read_back(tar_entry_head(entry)).entry.path, "");
}

TEST(Tar, HolesAreReadableByTheStandardTool) {
  test::TempFolder folder;
  Entry entry = file_entry("sparse file", 3'000'000);
  entry.holes = true;
  std::vector<DataRun> runs = {{0, 4096}, {1'048'576, 8192}};
  std::string data = test::noise(4096 + 8192, 1);
  std::string archive = tar_entry_head(entry, runs) + data + std::string(1024, '\0');
  TarEntry found = read_back(archive);
  EXPECT_EQ(found.entry.size, entry.size);
  EXPECT_EQ(found.entry.path, "sparse file");
  ASSERT_EQ(found.runs.size(), 2U);
  EXPECT_EQ(found.stored_size, data.size());
  EXPECT_EQ(archive.substr(found.content_offset, data.size()), data);

  write_file(folder / "a.tar", archive);
  auto ran = test::run_script("tar -xf " + (folder / "a.tar") + " -C " + folder.path());
  ASSERT_EQ(ran.exit, 0) << ran.err;
  std::string expected(3'000'000, '\0');
  expected.replace(0, 4096, data, 0, 4096);
  expected.replace(1'048'576, 8192, data, 4096, 8192);
  EXPECT_EQ(read_file(folder / "sparse file"), expected);
}

TEST(Tar, ReadsWhatTheStandardToolWrites) {
  test::TempFolder folder;
  test::put_file(folder / "in/some file", "content");
  auto ran = test::run_script("cd " + folder.path() + "; tar --format=pax -cf a.tar in");
  ASSERT_EQ(ran.exit, 0);
  MemorySource source{std::string_view(read_file(folder / "a.tar"))};
  bool end = false;
  TarEntry first = read_tar_entry(source, 0, "a.tar", end);
  EXPECT_EQ(first.entry.type, EntryType::kFolder);
  TarEntry second = read_tar_entry(source, first.next_offset, "a.tar", end);
  EXPECT_EQ(second.entry.path, "in/some file");
  EXPECT_EQ(second.stored_size, 7U);
  read_tar_entry(source, second.next_offset, "a.tar", end);
  EXPECT_TRUE(end);
}

TEST(Tar, DamagedHeadersAreRefusedNotFollowed) {
  Entry entry = file_entry("caf\xc3\xa9", 100);
  std::string good = tar_entry_head(entry) + std::string(512, 'x');
  for (std::size_t i = 0; i < good.size() - 512; ++i) {
    for (char flip : {'\x01', '\x40', '\x7f'}) {
      std::string damaged = good;
      damaged[i] = static_cast<char>(damaged[i] ^ flip);
      try {
        TarEntry found = read_back(damaged);
        EXPECT_LE(found.stored_size, damaged.size());
      } catch (const Error& error) {
        EXPECT_EQ(error.kind(), ErrorKind::kDamage);
      }
    }
  }
}

TEST(AccessLists, AreWrittenAsText) {
  // version 2; user::rw-, user:1000:r--, group::r--, mask::r--, other::---
  std::string raw(
      "\x02\0\0\0"
      "\x01\0\x06\0\xff\xff\xff\xff"
      "\x02\0\x04\0\xe8\x03\0\0"
      "\x04\0\x04\0\xff\xff\xff\xff"
      "\x10\0\x04\0\xff\xff\xff\xff"
      "\x20\0\0\0\xff\xff\xff\xff",
      44);
  EXPECT_EQ(acl_text(raw), "user::rw-,user:1000:r--,group::r--,mask::r--,other::---");
  EXPECT_EQ(acl_text("short"), "");
}

}  // namespace
}  // namespace kestrum
