"""A PC for one measurement: a home, a disk, one job."""

import os
import pathlib
import shutil
import subprocess

import measure


class Desk:
    """`protection` is "none" or "passphrase". Litter and the disk's own room are treated as tar
    treats them, so that both copy the same files."""

    def __init__(self, program, folder, sources, protection="passphrase",
                 priority="normal", limit="off"):
        self.program, self.folder = program, pathlib.Path(folder)
        self.disk = self.folder / "disk"
        self.options = (sources, protection, priority, limit)
        self.start()

    def start(self):
        """A new home and an empty shelf, in place of what is there."""
        sources, protection, priority, limit = self.options
        shutil.rmtree(self.folder, ignore_errors=True)
        self.disk.mkdir(parents=True, exist_ok=True)
        self.env = dict(os.environ, KESTRUM_HOME=str(self.folder / "home"), KESTRUM_HOST="bench-pc",
                        KESTRUM_NEXT_PASSPHRASE="of the bench", KESTRUM_PASSPHRASE="of the bench")
        arguments = ["job", "new", "bench", *self.place_words(), "--protection", protection]
        for source in sources:
            arguments += ["--from", str(source)]
        self.call(*arguments)
        job = self.folder / "home/jobs/bench.toml"
        text = job.read_text().replace("[source]\n", "[source]\nleave_out_litter = false\n", 1)
        job.write_text(text + f'\n[effort]\npriority = "{priority}"\nlimit = "{limit}"\n'
                       + '\n[report]\nsuspect_above = "100%"\n')

    def place_words(self):
        return ["--to", str(self.disk), "--same-disk"]

    def call(self, *arguments, allowed=(0, 1), output=None):
        return measure.run([self.program, *arguments], allowed, self.env, output)

    def run(self, kind="full", *more):
        return self.call("run", "bench", "--kind", kind, *more)

    def sets(self):
        """The folders of the sets, oldest first."""
        return sorted(path for path in self.disk.glob("*/*/sets/c*") if path.is_dir())

    def stored(self, which=-1):
        """Bytes of one set."""
        return sum(file.stat().st_size for file in self.sets()[which].iterdir())

    def index_bytes(self):
        return sum(file.stat().st_size for file in (self.folder / "home").rglob("index*"))

    def remove(self):
        shutil.rmtree(self.folder, ignore_errors=True)


class FreshDisk:
    """An empty ext4 in a file, mounted; without root a folder. A filesystem is slow for minutes where
    many files were just removed, and each restore should find the same one."""

    def __init__(self, folder, megabytes=6000):
        self.folder, self.image = pathlib.Path(folder), pathlib.Path(f"{folder}.img")
        self.folder.mkdir(parents=True)
        self.mounted = os.geteuid() == 0
        if not self.mounted:
            return
        with open(self.image, "wb") as file:
            file.truncate(megabytes * 10**6)
        options = "lazy_itable_init=0,lazy_journal_init=0"
        subprocess.run(["mkfs.ext4", "-q", "-F", "-E", options, self.image], check=True)
        subprocess.run(["mount", "-o", "loop", self.image, self.folder], check=True)
        os.sync()

    def __enter__(self):
        return self.folder

    def __exit__(self, *error):
        if self.mounted:
            subprocess.run(["umount", self.folder], check=True)
            self.image.unlink()
        shutil.rmtree(self.folder)


def age_key(folder):
    """An age key file and its recipient, for the standard tools."""
    file = pathlib.Path(folder) / "key.txt"
    if not file.exists():
        subprocess.run(["age-keygen", "-o", file], check=True, stderr=subprocess.DEVNULL)
    line = next(l for l in file.read_text().splitlines() if l.startswith("# public key: "))
    return file, line.removeprefix("# public key: ")
