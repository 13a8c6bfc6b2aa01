// Saltmarsh Radio, a made-up community radio station: the files on its desks, and what its people
// do with them from day to day. Everything is generated and seeded, the same on every run.
#pragma once

#include <random>
#include <string>

namespace kestrum::demo {

// What is written from now on carries this time, seconds since 1970.
void set_today(long long seconds);

// The front desk: rotas, sponsor lists, letters, a mailbox, posters, and what should be left out.
class FrontDesk {
 public:
  // `home` is the home folder of its user; Documents, Mail and Posters are made in it.
  explicit FrontDesk(std::string home);
  void fill();
  // An ordinary day: the rota is edited, mail comes in, a letter is written, one is filed away.
  void work_a_day(int day);
  // A presenter drags the wrong folder to nowhere.
  void lose_the_letters();
  // Something overwrites half of the letters with noise.
  void scramble_the_letters();

 private:
  std::string home_;
};

// The newsroom: many small files, deep folders, names in several scripts and one in none, links,
// a file with holes, a read-only folder.
class Newsroom {
 public:
  explicit Newsroom(std::string home) : home_(std::move(home)) {}
  void fill();

 private:
  std::string home_;
};

// The studio: audio that does not shrink, playlists, a project file of 20 MB that changes a little.
class Studio {
 public:
  explicit Studio(std::string home) : home_(std::move(home)) {}
  void fill();
  void work_a_day(int day);

 private:
  std::string home_;
};

}  // namespace kestrum::demo
