"""Large files that change a little: what a set of them costs, and what a restore does (case S)."""

import random
import shutil
import sqlite3
import zipfile

import data
import measure

MEGA = 10**6
MAILBOX, IMAGE, DATABASE, ZIP = 3000 * MEGA, 4000 * MEGA, 1000 * MEGA, 200 * MEGA
SETS = 30


def letters(path, length, seed=1):
    """Text that shrinks by half, as mails with pictures in them do."""
    with open(path, "wb") as file:
        source = random.Random(seed)
        while file.tell() < length:
            file.write(source.randbytes(1 << 19).hex().encode()[:length - file.tell()])


def pages(path, length):
    """A disk image: text and noise by turns."""
    with open(path, "wb") as file:
        source = random.Random(2)
        while file.tell() < length:
            file.write(source.randbytes(1 << 20))
            file.write(source.randbytes(1 << 19).hex().encode())


def rows(path, length):
    with sqlite3.connect(path) as database:
        database.execute("CREATE TABLE note(id INTEGER PRIMARY KEY, day INTEGER, words TEXT)")
        source = random.Random(3)
        text = lambda: source.randbytes(400).hex()
        database.executemany("INSERT INTO note VALUES(?, ?, ?)",
                             ((i, i % 365, text()) for i in range(length // 830)))


def change_rows(path, count, seed):
    with sqlite3.connect(path) as database:
        source = random.Random(seed)
        last, = database.execute("SELECT max(id) FROM note").fetchone()
        database.executemany("UPDATE note SET words = ? WHERE id = ?",
                             ((source.randbytes(400).hex(), source.randrange(last))
                              for _ in range(count)))


def members(path, length, changed=None):
    """An archive of some hundred members, one of which may be another."""
    with zipfile.ZipFile(path, "w") as archive:
        for number in range(length // MEGA):
            seed = 10**6 if number == changed else number
            # Its hexadecimal digits shrink to about a megabyte.
            member = zipfile.ZipInfo(f"page-{number:03}.xml", (2026, 3, 2, 21, 0, 2 * (seed % 30)))
            member.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(member, random.Random(seed).randbytes(MEGA).hex(), compresslevel=1)


def edit(path, places, size, seed, append=0):
    source = random.Random(seed)
    with open(path, "r+b") as file:
        length = file.seek(0, 2)
        for _ in range(places):
            file.seek(source.randrange(length - size) // 4096 * 4096)
            file.write(source.randbytes(size))
        file.seek(0, 2)
        file.write(source.randbytes(append))


def insert_at_front(path, seed):
    other = path.with_suffix(".new")
    with open(other, "wb") as out, open(path, "rb") as source:
        out.write(random.Random(seed).randbytes(100))
        shutil.copyfileobj(source, out, 1 << 22)
    other.rename(path)


def case_s(bench):
    mailbox(bench)
    disk_image(bench)
    for name, key, make, change, what in (
            ("database.db", "S4", lambda p: rows(p, DATABASE), lambda p: change_rows(p, 5000, 1),
             "SQLite database of 1 GB, 5,000 rows changed, stored"),
            ("book.zip", "S5", lambda p: members(p, ZIP), lambda p: members(p, ZIP, 70),
             "zip of 200 MB written anew with one member changed, stored")):
        path, desk = begin(bench, name, make)
        change(path)
        ours = desk.run("incremental")
        bench.add(key, what, "told", desk.stored() / MEGA, "MB", None, ours.describe())
        end(path, desk)


def begin(bench, name, make):
    path = bench.folder / "s" / name
    path.parent.mkdir(parents=True)
    make(path)
    desk = bench.desk("s-desk", [path.parent], protection="none")
    desk.call("job", "set", "bench", "chain.new_full", "never")
    desk.run()
    return path, desk


def end(path, desk):
    desk.remove()
    shutil.rmtree(path.parent)


def mailbox(bench):
    path, desk = begin(bench, "mail.box", lambda p: letters(p, MAILBOX))
    index_before = desk.index_bytes()
    ours, theirs, stored, ledgers = [], [], [], []
    for number in range(SETS - 1):
        edit(path, 40, 4096, number, 2 * MEGA)
        if number < bench.rounds:
            theirs.append(measure.run(["b3sum", "--no-mmap", "--num-threads", "1", str(path)]))
        ours.append(desk.run("incremental"))
        stored.append(desk.stored())
        ledgers.append(sum(f.stat().st_size for f in desk.sets()[-1].glob("ledger*")))
    bench.add("S1", "3 GB mailbox, 160 kB in 40 places changed, 2 MB appended, stored", "<= 8 MB",
              max(stored) / MEGA, "MB", 8, f"29 sets in a row, the largest; the first {stored[0] / MEGA:.2f} MB")
    a, b = measure.median(ours[:bench.rounds]), measure.median(theirs)
    bench.add("S1w", "the same, wall, beside reading and digesting it", "<= 1.3 x", a.wall / b.wall,
              "x", 1.3, f"{a.describe()}; b3sum on one thread {b.describe()}; both from the page cache")
    measure.drop_caches()
    edit(path, 40, 4096, 99, 2 * MEGA)
    measure.drop_caches()
    cold = measure.run(["b3sum", "--no-mmap", "--num-threads", "1", str(path)])
    measure.drop_caches()
    ours_cold = desk.run("incremental")
    bench.add("S1c", "the same from the disk", "<= 1.3 x", ours_cold.wall / cold.wall, "x", 1.3,
              f"{ours_cold.describe()}; b3sum on one thread {cold.describe()}")
    share = (desk.index_bytes() - index_before) / SETS + max(ledgers)
    bench.add("S6", "index and ledgers, share of the file's size a set", "<= 0.1 %",
              100 * share / MAILBOX, "%", 0.1, f"{share / 1000:.0f} kB")
    restore(bench, path, desk)
    insert_at_front(path, 1)
    ours = desk.run("incremental")
    bench.add("S2", "100 bytes inserted at the front of it, stored", "<= 1 MB",
              desk.stored() / MEGA, "MB", 1, ours.describe())
    bench.note_peak("S", ours)
    end(path, desk)


def restore(bench, path, desk):
    """After all those sets, beside the file as the full set holds it."""
    out = bench.folder / "s-out"

    def back(point):
        shutil.rmtree(out, ignore_errors=True)
        sample = desk.call("restore", "bench", "--to", str(out), "--point", point)
        return sample

    pieces, whole = measure.alternate(3, lambda _: back(f"c1-{SETS}"), lambda _: back("c1-0"))
    back(f"c1-{SETS}")
    same = measure.run(["cmp", str(path), str(next(out.rglob("mail.box")))])
    bench.add("S7", f"restore of it after {SETS} sets, rate beside that of the whole file", ">= 0.7 x",
              whole.wall / pieces.wall, "x", 0.7, f"{pieces.describe()}; whole {whole.describe()};"
              " identical", at_least=True)
    bench.note_peak("S", pieces)
    shutil.rmtree(out)


def disk_image(bench):
    path, desk = begin(bench, "disk.img", lambda p: pages(p, IMAGE))
    edit(path, 1000, 4096, 1)
    ours = desk.run("incremental")
    bench.add("S3", "4 GB disk image, 1,000 random writes of 4 KiB, stored", "<= 100 MB",
              desk.stored() / MEGA, "MB", 100, ours.describe())
    end(path, desk)
