// What seals, heads and lists of retired signers say of each other, on a shelf made by hand.
#include <gtest/gtest.h>

#include <filesystem>

#include "kestrum/base/file.h"
#include "kestrum/base/uuid.h"
#include "kestrum/place/local_place.h"
#include "kestrum/shelf/shelf.h"
#include "kestrum/shelf/trust.h"
#include "support/temp_folder.h"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

class Vouching : public testing::Test {
 protected:
  void SetUp() override {
    label_.shelf = make_uuid();
    label_.job = "desk";
    label_.recipient = recipient_;
    write_signed(*place_, kLabelFile, label_.to_json(), key_, "label");
    shelf_.emplace(place_, label_, std::vector<VerifyKey>{key_.verify_key()});
  }

  Seal seal_of(SetId set, std::uint64_t number) const {
    Seal seal;
    seal.shelf = label_.shelf;
    seal.set = set;
    seal.kind = set.link == 0 ? SetKind::kFull : SetKind::kIncremental;
    if (set.link > 0) {
      seal.based_on = SetId{set.chain, set.link - 1};
      seal.base_seal = shelf_->find(*seal.based_on)->seal_digest;
    }
    seal.number = number;
    seal.recipient = recipient_;
    seal.outcome = "done";
    seal.verified = "no";
    seal.started = seal.finished = static_cast<Nanos>(number) * kDay;
    seal.parts = {{"part-000001.tar.zst.age", 1, 0, {}}};
    seal.ledger_name = "ledger.jsonl.zst.age";
    seal.ledger_copy = "ledger-copy.jsonl.zst.age";
    seal.ledger_bytes = 1;
    seal.blocks_bytes = seal.blocks_bytes_needed();
    if (const ShelfSet* before = shelf_->numbered(number - 1)) {
      seal.previous_seal = before->seal_digest;
    }
    return seal;
  }
  Digest commit(SetId set, const SigningKey& key) {
    Seal seal = seal_of(set, shelf_->next_number());
    std::string unfinished = folder_of(set) + std::string(kUnfinishedSuffix);
    place_->make_folder(unfinished);
    return shelf_->commit(seal, others_, key, unfinished);
  }
  static std::string folder_of(SetId set) {
    return std::string(kSetsFolder) + "/" +
           set_folder_name(set, static_cast<Nanos>(set.link) * kDay);
  }
  std::string problem_of(SetId set) {
    shelf_->rescan();
    const ShelfSet* found = shelf_->find(set);
    return found == nullptr ? "it is not there" : found->problem;
  }
  std::vector<std::string> heads() {
    std::vector<std::string> names;
    for (const PlaceEntry& entry : place_->list(kHeadsFolder)) names.push_back(entry.name);
    return names;
  }

  test::TempFolder folder_;
  std::shared_ptr<Place> place_ = std::make_shared<LocalPlace>(std::string(folder_.path()));
  SigningKey key_ = SigningKey::generate(), other_key_ = SigningKey::generate();
  Recipient recipient_ = Identity::generate().recipient();
  ShelfLabel label_;
  std::vector<OtherHead> others_;
  std::optional<Shelf> shelf_;
};

TEST_F(Vouching, HeadsFollowTheSealsAndTheLastTwoAreKept) {
  for (std::uint32_t link = 0; link < 4; ++link) {
    others_ = {{make_uuid(), 40 + link, Digest{}}};
    Digest digest = commit({1, link}, key_);
    ASSERT_TRUE(shelf_->head());
    EXPECT_EQ(shelf_->head()->number, link + 1);
    EXPECT_EQ(shelf_->head()->seal, digest);
    EXPECT_EQ(shelf_->head()->others.at(0).number, 40 + link);
    EXPECT_EQ(shelf_->set_back(), std::nullopt);
  }
  EXPECT_EQ(heads(), (std::vector<std::string>{"000000003.json", "000000003.json.minisig",
                                               "000000004.json", "000000004.json.minisig"}));
  EXPECT_EQ(shelf_->next_number(), 5U);
}

TEST_F(Vouching, AShelfThatWasCutBackSaysSo) {
  for (std::uint32_t link = 0; link < 3; ++link) commit({1, link}, key_);
  fs::remove_all(folder_ / folder_of({1, 2}));
  shelf_->rescan();
  ASSERT_TRUE(shelf_->set_back());
  EXPECT_NE(shelf_->set_back()->find("c1-2"), std::string::npos) << *shelf_->set_back();
  EXPECT_EQ(shelf_->next_number(), 4U) << "a number is used once";
  // A head that nobody signed counts for nothing.
  std::string head = folder_ / "heads/000000003.json";
  std::string text = read_file(head);
  text.replace(text.find("\"c1-2\""), 6, "\"c1-1\"");
  write_file(head, text);
  shelf_->rescan();
  ASSERT_TRUE(shelf_->head());
  EXPECT_EQ(shelf_->head()->number, 2U);
  EXPECT_FALSE(shelf_->set_back());
}

TEST_F(Vouching, ADamagedNewestSealIsNoShelfThatWasCutBack) {
  commit({1, 0}, key_);
  commit({1, 1}, key_);
  write_file(folder_ / (folder_of({1, 1}) + "/seal.json"), "nonsense");
  EXPECT_NE(problem_of({1, 1}), "");
  EXPECT_FALSE(shelf_->set_back());
  EXPECT_EQ(shelf_->next_number(), 4U) << "it may have any number that follows";
}

TEST_F(Vouching, ASealWithoutItsHeadGetsOne) {
  commit({1, 0}, key_);
  commit({1, 1}, key_);
  for (const std::string& name : heads()) {
    if (name.starts_with("000000002")) fs::remove(folder_ / ("heads/" + name));
  }
  shelf_->rescan();
  EXPECT_EQ(shelf_->head()->number, 1U);
  shelf_->catch_up_head({}, kDay, key_);
  EXPECT_EQ(shelf_->head()->number, 2U);
  EXPECT_FALSE(shelf_->set_back());
}

TEST_F(Vouching, SetsThatWereExchangedAreTold) {
  for (std::uint32_t link = 0; link < 3; ++link) commit({1, link}, key_);
  EXPECT_FALSE(shelf_->find({1, 2})->exchanged);
  // Another full set of that number, by the same machine: of a disk that was set back once.
  Seal other = seal_of({2, 0}, 2);
  other.previous_seal.reset();
  fs::remove_all(folder_ / folder_of({1, 1}));
  std::string at = folder_of({2, 0});
  place_->make_folder(at);
  write_signed(*place_, at + "/" + kSealFile, other.to_json(), key_, "seal");
  shelf_->rescan();
  EXPECT_TRUE(shelf_->find({1, 2})->exchanged);
}

TEST_F(Vouching, OfTwoSealsWithOneNumberTheOneThatTheHeadNamesIsTaken) {
  commit({1, 0}, key_);
  Digest head = commit({2, 0}, key_);
  Seal twin = seal_of({3, 0}, 2);
  place_->make_folder(folder_of({3, 0}));
  write_signed(*place_, folder_of({3, 0}) + "/" + kSealFile, twin.to_json(), key_, "seal");
  EXPECT_NE(problem_of({3, 0}).find("two seals of number 2"), std::string::npos);
  ASSERT_EQ(problem_of({2, 0}), "");
  EXPECT_EQ(shelf_->find({2, 0})->seal_digest, head);
  fs::remove_all(folder_ / "heads");
  EXPECT_NE(problem_of({2, 0}), "") << "nothing tells which";
  EXPECT_NE(problem_of({3, 0}), "");
}

TEST_F(Vouching, ASetThatIsThereTwiceIsTakenNowhere) {
  commit({1, 0}, key_);
  fs::copy(folder_ / folder_of({1, 0}), folder_ / "sets/c0001-000_2026-03-02_2100Z");
  shelf_->rescan();
  ASSERT_EQ(shelf_->sets().size(), 2U);
  for (const ShelfSet& set : shelf_->sets()) {
    EXPECT_NE(set.problem.find("two folders"), std::string::npos) << set.problem;
    EXPECT_TRUE(set.unreadable) << "nothing is pruned meanwhile";
  }
}

// Whoever takes the place of a key says what stays valid of it; nothing signed by it later does.
TEST_F(Vouching, WhatARetiredKeySignsLaterIsNotTaken) {
  commit({1, 0}, key_);
  commit({1, 1}, key_);
  write_trust(*place_, *shelf_->find({1, 1}), {label_.shelf, "looked at", kDay}, key_);
  write_signed(*place_, "job.toml.age", "x", key_, "job copy");
  shelf_->retire_signers({key_.verify_key()}, {}, 5 * kDay, other_key_);
  write_signed(*place_, kLabelFile, label_.to_json(), other_key_, "label");
  shelf_->set_keys({other_key_.verify_key()});
  EXPECT_EQ(problem_of({1, 0}), "");
  EXPECT_EQ(problem_of({1, 1}), "");
  ASSERT_TRUE(shelf_->head());
  EXPECT_EQ(shelf_->head()->number, 2U) << "signed anew";
  for (const std::string& file : {std::string("job.toml.age"), folder_of({1, 1}) + "/trusted.json",
                                  std::string("heads/000000001.json")}) {
    EXPECT_TRUE(signature_valid(as_bytes(read_file(folder_ / file)),
                                read_file(folder_ / (file + ".minisig")),
                                std::vector{other_key_.verify_key()}))
        << file;
  }
  commit({1, 2}, key_);
  EXPECT_NE(problem_of({1, 2}).find("may sign no more"), std::string::npos) << problem_of({1, 2});
  EXPECT_TRUE(shelf_->find({1, 2})->unreadable);
  // Nor can it vouch for itself by a list of its own.
  write_retired(*place_, label_.shelf, {other_key_.verify_key()},
                {shelf_->find({1, 2})->seal_digest}, kDay, key_);
  EXPECT_NE(problem_of({1, 2}), "");
  EXPECT_EQ(problem_of({1, 0}), "");
}

TEST_F(Vouching, ASetForAnotherKeyIsTakenOnlyIfItIsListed) {
  commit({1, 0}, key_);
  label_.recipient = Identity::generate().recipient();
  write_signed(*place_, kLabelFile, label_.to_json(), key_, "label");
  shelf_.emplace(place_, label_, std::vector<VerifyKey>{key_.verify_key()});
  EXPECT_NE(problem_of({1, 0}).find("not this shelf's"), std::string::npos) << problem_of({1, 0});
  write_retired(*place_, label_.shelf, {other_key_.verify_key()},
                {shelf_->find({1, 0})->seal_digest}, kDay, key_);
  EXPECT_EQ(problem_of({1, 0}), "");
}

TEST_F(Vouching, OldCopiesOfTheKeysAreToldFromALabelThatSomebodyChanged) {
  commit({1, 0}, key_);
  EXPECT_FALSE(shelf_->keys_are_older());
  write_signed(*place_, kLabelFile, label_.to_json(), other_key_, "label");
  EXPECT_FALSE(shelf_->keys_are_older()) << "nothing else here is by that key";
  place_->make_folder(kRetiredFolder);
  write_retired(*place_, label_.shelf, {key_.verify_key()}, {}, kDay, other_key_);
  EXPECT_TRUE(shelf_->keys_are_older());
}

}  // namespace
}  // namespace kestrum
