#include "demo/desk_data.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <functional>

namespace kestrum::demo {
namespace fs = std::filesystem;
namespace {

constexpr int kMails = 12'000;  // in the inbox at the beginning: a large file

constexpr std::array<const char*, 6> kRoles = {"presenter",  "producer",  "editor",
                                               "technician", "volunteer", "reporter"};
constexpr std::array<const char*, 7> kDays = {"monday", "tuesday",  "wednesday", "thursday",
                                              "friday", "saturday", "sunday"};
constexpr std::array<const char*, 16> kWords = {
    "the",     "tide",  "programme", "marsh", "listener", "evening", "request", "meeting",
    "weather", "choir", "harvest",   "ferry", "bridge",   "market",  "school",  "lighthouse"};

long long today = 0;

// Times of files are made up like everything else; a few minutes apart by their names.
void stamp(const std::string& path) {
  if (today == 0) return;
  long long time = today - static_cast<long long>(
                               std::hash<std::string>{}(path.substr(path.rfind('/'))) % 28800);
  timespec times[2] = {{time, 0}, {time, 0}};
  for (const auto& stamped : {path, path.substr(0, path.rfind('/'))}) {
    if (::utimensat(AT_FDCWD, stamped.c_str(), times, 0) != 0) return;
  }
}

void put(const std::string& path, const std::string& content) {
  fs::create_directories(fs::path(path).parent_path());
  std::ofstream(path, std::ios::binary) << content;
  stamp(path);
}

void append(const std::string& path, const std::string& content) {
  std::ofstream(path, std::ios::binary | std::ios::app) << content;
  stamp(path);
}

std::string prose(std::mt19937& random, int words) {
  std::string text;
  for (int i = 0; i < words; ++i) {
    text += kWords[random() % kWords.size()];
    text += i % 12 == 11 ? ".\n" : " ";
  }
  return text + "\n";
}

// What is compressed already: pictures, music, office files.
std::string dense(std::mt19937& random, std::size_t bytes, const std::string& head) {
  std::string content = head;
  while (content.size() < bytes) {
    std::uint32_t word = random();
    content.append(reinterpret_cast<const char*>(&word), sizeof word);
  }
  return content;
}

std::string rota(std::mt19937& random, int week) {
  std::string csv = "week,day,hour,role,programme\n";
  for (const char* day : kDays) {
    for (int hour = 7; hour < 22; ++hour) {
      csv += fmt::format("{},{},{}:00,{},{} hour\n", week, day, hour,
                         kRoles[random() % kRoles.size()], kWords[random() % kWords.size()]);
    }
  }
  return csv;
}

std::string mail(std::mt19937& random, int number) {
  return fmt::format("From desk@saltmarsh.invalid\nSubject: {} {}, number {}\n\n{}\n",
                     kWords[random() % kWords.size()], kWords[random() % kWords.size()], number,
                     prose(random, 120));
}

std::string poster(std::mt19937& random) {
  std::string svg = "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"420\" height=\"594\">\n";
  for (int i = 0; i < 60; ++i) {
    svg += fmt::format("  <circle cx=\"{}\" cy=\"{}\" r=\"{}\" fill=\"#{:06x}\"/>\n",
                       random() % 420, random() % 594, random() % 80, random() % 0x1000000);
  }
  return svg + "</svg>\n";
}

// 16-bit mono at 22 kHz: a tone with noise in it, which hardly shrinks.
std::string audio(std::mt19937& random, int seconds) {
  constexpr int kRate = 22050;
  std::string samples;
  for (int i = 0; i < seconds * kRate; ++i) {
    double wave = 9000 * std::sin(i * 0.05) + static_cast<double>(random() % 8192);
    auto sample = static_cast<std::int16_t>(wave);
    samples.append(reinterpret_cast<const char*>(&sample), sizeof sample);
  }
  std::string head = "RIFF....WAVEfmt ";
  return head + samples;
}

}  // namespace

void set_today(long long seconds) {
  today = seconds;
}

FrontDesk::FrontDesk(std::string home) : home_(std::move(home)) {}

void FrontDesk::fill() {
  std::mt19937 random(101);
  for (int week = 1; week <= 9; ++week) {
    put(home_ + fmt::format("/Documents/Rotas/rota-week-{:02}.csv", week), rota(random, week));
  }
  std::string sponsors = "sponsor,since,pounds a year\n";
  for (int i = 0; i < 400; ++i) {
    sponsors += fmt::format("{} {} number {},{},{}\n", kWords[random() % 16], kWords[random() % 16],
                            i, 2010 + random() % 16, 50 + random() % 900);
  }
  put(home_ + "/Documents/sponsors.csv", sponsors);
  for (int i = 1; i <= 60; ++i) {
    put(home_ + fmt::format("/Documents/Letters/{}/letter-{:03}.txt", 2024 + i / 30, i),
        prose(random, 300 + static_cast<int>(random() % 500)));
  }
  for (int i = 1; i <= 12; ++i) {
    put(home_ + fmt::format("/Documents/Letters/Signed/agreement-{:02}.odt", i),
        dense(random, 40'000 + random() % 60'000, "PK\x03\x04"));
  }
  std::string inbox;
  for (int i = 0; i < kMails; ++i) inbox += mail(random, i);
  put(home_ + "/Mail/inbox.mbox", inbox);
  put(home_ + "/Mail/sent.mbox", inbox.substr(0, inbox.size() / 3));
  for (int i = 1; i <= 8; ++i) {
    put(home_ + fmt::format("/Posters/poster-{}.svg", i), poster(random));
    put(home_ + fmt::format("/Posters/poster-{}.png", i),
        dense(random, 200'000 + random() % 300'000, "\x89PNG\r\n\x1a\n"));
  }
  // What nobody wants back.
  put(home_ + "/Documents/.cache/thumbs", dense(random, 500'000, ""));
  put(home_ + "/Documents/Rotas/.~lock.rota-week-09.csv#", "front-desk\n");
  put(home_ + "/Documents/Letters/draft.txt~", prose(random, 50));
  put(home_ + "/Posters/export.tmp", dense(random, 100'000, ""));
}

void FrontDesk::work_a_day(int day) {
  std::mt19937 random(static_cast<unsigned>(200 + day));
  append(home_ + "/Documents/Rotas/rota-week-09.csv",
         fmt::format("9,{},22:00,{},late extra\n", kDays[static_cast<std::size_t>(day % 7)],
                     kRoles[random() % kRoles.size()]));
  for (int i = 0; i < 20; ++i)
    append(home_ + "/Mail/inbox.mbox", mail(random, kMails + day * 20 + i));
  put(home_ + fmt::format("/Documents/Letters/2026/letter-{:03}.txt", 100 + day),
      prose(random, 400));
  std::error_code ec;
  fs::create_directories(home_ + "/Documents/Letters/Filed");
  fs::rename(home_ + fmt::format("/Documents/Letters/2024/letter-{:03}.txt", day + 1),
             home_ + fmt::format("/Documents/Letters/Filed/letter-{:03}.txt", day + 1), ec);
}

void FrontDesk::lose_the_letters() {
  fs::remove_all(home_ + "/Documents/Letters/Signed");
}

void FrontDesk::scramble_the_letters() {
  std::mt19937 random(77);
  std::vector<std::string> letters;
  for (const auto& entry : fs::recursive_directory_iterator(home_ + "/Documents/Letters")) {
    if (entry.is_regular_file()) letters.push_back(entry.path().string());
  }
  std::sort(letters.begin(), letters.end());
  for (std::size_t i = 0; i < letters.size(); i += 2) {
    std::string noise(6000 + random() % 4000, 0);
    for (char& c : noise) c = static_cast<char>(random());
    put(letters[i], noise);
  }
}

void Newsroom::fill() {
  std::mt19937 random(301);
  for (int i = 0; i < 600; ++i) {
    put(home_ + fmt::format("/Stories/{}/{:02}/story-{:04}.txt", 2023 + i % 4, i % 12 + 1, i),
        prose(random, 80 + static_cast<int>(random() % 300)));
  }
  std::string deep = home_ + "/Archive";
  for (int i = 0; i < 24; ++i) deep += fmt::format("/level {}", i);
  put(deep + "/at the bottom.txt", prose(random, 30));
  for (const char* name : {"caf\xc3\xa9 notes.txt", "\xd0\xbc\xd0\xbe\xd1\x80\xd0\xb5.txt",
                           "\xe6\xb5\xb7\xe8\xbe\xba.txt", "line\nbreak.txt",
                           "comma, quote\" and $.txt", "not \xff utf-8.txt"}) {
    put(home_ + "/Interviews/" + name, prose(random, 60));
  }
  std::error_code ec;
  fs::create_symlink("../Stories/2026", home_ + "/Interviews/this year", ec);
  fs::create_hard_link(home_ + "/Stories/2023/01/story-0000.txt",
                       home_ + "/Interviews/the first story.txt", ec);
  put(home_ + "/Interviews/raw tape.img", "begin");
  if (::truncate((home_ + "/Interviews/raw tape.img").c_str(), 64 << 20) == 0) {
    append(home_ + "/Interviews/raw tape.img", "end");
  }
  put(home_ + "/Archive/sealed/agreement.txt", prose(random, 40));
  ::chmod((home_ + "/Archive/sealed").c_str(), 0555);
}

void Studio::fill() {
  std::mt19937 random(401);
  for (int i = 1; i <= 6; ++i)
    put(home_ + fmt::format("/Programmes/evening-{:02}.wav", i), audio(random, 40));
  for (int i = 1; i <= 10; ++i)
    put(home_ + fmt::format("/Jingles/jingle-{:02}.flac", i), dense(random, 300'000, "fLaC"));
  for (int i = 1; i <= 12; ++i) {
    std::string list = "#EXTM3U\n";
    for (int k = 0; k < 40; ++k)
      list += fmt::format("../Programmes/evening-{:02}.wav\n", random() % 6 + 1);
    put(home_ + fmt::format("/Playlists/list-{:02}.m3u", i), list);
  }
  put(home_ + "/Programmes/mix.project", dense(random, 20'000'000, "MIX1"));
}

void Studio::work_a_day(int day) {
  std::fstream project(home_ + "/Programmes/mix.project",
                       std::ios::in | std::ios::out | std::ios::binary);
  project.seekp(1'000'000 + day * 4096);
  project << fmt::format("edited on day {}", day);
}

}  // namespace kestrum::demo
