"""Made-up data to copy: the same bytes on every machine, but for what the system's folders hold."""

import hashlib
import os
import pathlib
import random
import subprocess
import sys
import time

SYSTEM_FOLDERS = ["/usr/share", "/usr/include", "/usr/lib/python3"]


def noise(length, seed=1):
    """Bytes that will not shrink, a mebibyte at a time."""
    while length > 0:
        piece = random.Random(seed).randbytes(min(length, 1 << 20))
        yield piece
        length -= len(piece)
        seed += 1


def noise_file(path, length):
    with open(path, "wb") as file:
        for piece in noise(length):
            file.write(piece)


def mixed_file(path, length):
    """What a system's own files hold, one behind the other: programs, texts, pictures."""
    with open(path, "wb") as file:
        for folder in ("/usr/lib", "/usr/share", "/usr/bin"):
            for name in sorted(pathlib.Path(folder).rglob("*")):
                if file.tell() >= length:
                    return
                if name.is_symlink() or not name.is_file():
                    continue
                try:
                    file.write(name.read_bytes()[:length - file.tell()])
                except OSError:
                    pass
        seed = 7
        while file.tell() < length:  # a small system
            for piece in noise(min(16 << 20, length - file.tell()), seed):
                file.write(piece)
            seed += 100


def words(seed, length):
    """Text of a kind, about as repetitive as letters are."""
    out = bytearray()
    number = seed
    while len(out) < length:
        number = (number * 6364136223846793005 + 1442695040888963407) % 2**64
        out += hashlib.blake2b(number.to_bytes(8, "little"), digest_size=5).hexdigest().encode() + b" of the same day, "
    return bytes(out[:length])


def tree(root, files, folders, length):
    """`files` files of about `length` bytes, spread over `folders` folders."""
    root = pathlib.Path(root)
    each = files // folders
    for number in range(folders):
        folder = root / f"year-{number // 400:02}" / f"folder-{number:05}"
        folder.mkdir(parents=True)
        for item in range(each):
            write(folder / f"note-{item:03}.txt", number * each + item, length)


def write(path, seed, length):
    fd = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o644)
    os.write(fd, words(seed, length))
    os.close(fd)


def change(root, share, seed, length):
    """Writes one of `share` files anew, spread evenly; their names go to `root`.changed."""
    names = [name for number, name in enumerate(sorted(pathlib.Path(root).rglob("note-*")))
             if number % share == seed % share]
    for number, name in enumerate(names):
        write(name, 10**9 + seed * 10**7 + number, length)
    pathlib.Path(f"{root}.changed").write_text("\n".join(map(str, names)))


def settle():
    """Files that were written within the last minute may be written to again unseen: a run reads
    them once more. No measurement is about that."""
    time.sleep(75)


def make(what, *arguments):
    """Calls a function of this file in a process of its own: what is started from a large process
    counts as large."""
    subprocess.run([sys.executable, __file__, what, *map(str, arguments)], check=True)


if __name__ == "__main__":
    globals()[sys.argv[1]](sys.argv[2], *map(int, sys.argv[3:]))
