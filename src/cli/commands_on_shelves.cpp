// The part of the table of commands that is about shelves.
#include "command.h"

namespace kestrum::cli {

std::vector<Command> commands_on_shelves() {
  return {
      {"shelf start",
       "shelf start NAME [--at PLACE]",
       "put a job's shelf on a (new) disk",
       "Makes the folder <place>/<host>/<job> that the job's sets go to. Without --at: at the "
       "first\n"
       "of the job's places that is there and has none yet.\n"
       "Of a job that goes on from disk to disk (when_full = \"ask\"): makes the next one ready.",
       {{"at", "PLACE", "one of the job's places"},
        {"same-disk", "", "take a place on the system's or a source's own disk"},
        {"next-passphrase-from", "FILE", "read the new passphrase from FILE"}},
       {"kestrum shelf start front-desk", "kestrum shelf start front-desk --at /media/green-disk"},
       shelf_start},
      {"shelf list",
       "shelf list NAME",
       "the job's disks and what is on each",
       "Lists the places of the job, whether each is plugged in, and the newest set on it; of\n"
       "disks that one set after the other fills, which are filled and which wait.",
       {},
       {"kestrum shelf list front-desk"},
       shelf_list},
      {"shelf copy",
       "shelf copy NAME --to PLACE [--newest-chain | --move-here]",
       "the job's sets on another disk too",
       "Copies the sealed sets of the job's shelf to another disk and compares every file there.\n"
       "Asks for nothing, and needs no passphrase. Again: brings the copy up to date; what was "
       "cut\n"
       "off goes on. The copy is pruned by the job's promises, and can be read with --shelf.\n"
       "--move-here makes it the job's place: the chain goes on there, and where the shelf was\n"
       "nothing is written any more, however that disk comes back.",
       {{"to", "PLACE", "a folder on the other disk"},
        {"newest-chain", "", "only the sets of the newest chain"},
        {"move-here", "", "all sets, and the job goes on there"},
        {"on", "PLACE", "the shelf at this place, where the job has several"},
        {"same-disk", "", "take a place on the shelf's, the system's or a source's own disk"}},
       {"kestrum shelf copy front-desk --to /media/red-disk",
        "kestrum shelf copy front-desk --to /mnt/share --newest-chain",
        "kestrum shelf copy front-desk --to /media/new-disk --move-here"},
       shelf_copy},
      {"shelf drop",
       "shelf drop NAME PLACE",
       "the job lets go of a lost disk",
       "Takes the place out of the job: it is not expected any more, and what this PC kept about "
       "its\n"
       "sets is set aside. Nothing on the disk is changed. If it turns up, name it again and all "
       "is\n"
       "as before: kestrum job set NAME destination.places PLACE --add",
       {},
       {"kestrum shelf drop front-desk /media/green-disk",
        "kestrum shelf drop front-desk red-disk"},
       shelf_drop},
      {"shelf erase",
       "shelf erase NAME --on PLACE",
       "make a disk unreadable that is given away",
       "Overwrites the keys of the shelf or copy there, so that nobody who has only this disk can "
       "read\n"
       "what is left of it, then removes all of it. Asks for the job's name; --yes does not "
       "answer. A\n"
       "recovery card or a key kept elsewhere still opens what can be brought back, and flash may "
       "keep\n"
       "old blocks. What is not protected needs the whole disk overwritten.",
       {{"on", "PLACE", "the place to erase"}},
       {"kestrum shelf erase front-desk --on /media/red-disk"},
       shelf_erase},
      {"shelf claim",
       "shelf claim FOLDER [--as NAME] [--look-only] [--map OLD=NEW]...",
       "take over a shelf found on a disk",
       "For a new PC: needs only the disk and the passphrase. Brings in the job (paused, its\n"
       "commands off), becomes the shelf's owner and reads its ledgers; restores work at once and\n"
       "the next run goes on with the chain. --look-only changes nothing.",
       {{"as", "NAME", "the job's name here, if not as it was"},
        {"look-only", "", "say what is there and change nothing"},
        {"map", "OLD=NEW", "the job's folders in OLD are in NEW here", true}},
       {"kestrum shelf claim /media/blue-disk/old-pc/front-desk --look-only",
        "kestrum shelf claim /media/blue-disk/old-pc/front-desk --map /home/old=/home/new"},
       shelf_claim},
  };
}

}  // namespace kestrum::cli
