// A file that is written twice.
#pragma once

#include <memory>
#include <string>
#include <utility>

#include "kestrum/place/place.h"

namespace kestrum {

// Every file that is created has a twin beside it: the file `copy`, with the same bytes. `below`
// outlives it.
class TwinPlace : public ForwardingPlace {
 public:
  TwinPlace(Place& below, std::string copy) : ForwardingPlace(below), copy_(std::move(copy)) {}

  std::unique_ptr<PlaceFile> create(const std::string& path) override {
    auto file = below_.create(path);
    return std::make_unique<File>(std::move(file), below_.create(copy_));
  }

 private:
  // A write that failed cannot be tried again: one of the two may have it.
  class File : public PlaceFile {
   public:
    File(std::unique_ptr<PlaceFile> first, std::unique_ptr<PlaceFile> second)
        : first_(std::move(first)), second_(std::move(second)) {}
    void write(ByteView bytes) override {
      first_->write(bytes);
      second_->write(bytes);
    }
    void end() override {
      first_->end();
      second_->end();
    }
    void sync() override {
      end();
      first_->sync();
      second_->sync();
    }

   private:
    std::unique_ptr<PlaceFile> first_, second_;
  };

  std::string copy_;
};

}  // namespace kestrum
