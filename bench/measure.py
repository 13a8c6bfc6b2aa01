"""Running whole programs and noting what they took."""

import dataclasses
import os
import statistics
import subprocess
import time


@dataclasses.dataclass
class Sample:
    wall: float  # seconds
    cpu: float  # seconds of user and system time, of the program and its children
    peak: int  # largest resident set of one process, bytes
    disk_read: int  # bytes that came from a disk

    def describe(self):
        return f"{self.wall:.2f} s, {self.cpu:.2f} s CPU, {self.peak / 2**20:.0f} MiB"


class Failed(Exception):
    pass


def run(command, allowed=(0,), env=None, output=None):
    """Runs a list of arguments, or a line for bash. Raises Failed on another exit code."""
    argv = ["bash", "-c", "set -o pipefail; " + command] if isinstance(command, str) else command
    with open(output or os.devnull, "wb") as out, open(os.devnull, "rb") as nothing:
        start = time.monotonic()
        process = subprocess.Popen(argv, stdin=nothing, stdout=out, stderr=subprocess.PIPE, env=env)
        complaint = process.stderr.read()
        _, status, usage = os.wait4(process.pid, 0)
        wall = time.monotonic() - start
    process.returncode = os.waitstatus_to_exitcode(status)
    process.stderr.close()
    if process.returncode not in allowed:
        said = complaint.decode(errors="replace")[-2000:]
        raise Failed(f"{command}: ended with {process.returncode}: {said}")
    return Sample(wall, usage.ru_utime + usage.ru_stime, usage.ru_maxrss * 1024,
                  usage.ru_inblock * 512)


def median(samples):
    """Each figure's median; of the peak, the largest."""
    middle = lambda name: statistics.median(getattr(s, name) for s in samples)
    return Sample(middle("wall"), middle("cpu"), max(s.peak for s in samples),
                  int(middle("disk_read")))


def alternate(rounds, ours, peer):
    """Both in turn, so that whatever else the machine does meets both. Each is called with the
    number of the round and answers a Sample; what comes back are the two medians."""
    a, b = [], []
    for number in range(rounds):
        b.append(peer(number))
        a.append(ours(number))
    return median(a), median(b)


def drop_caches():
    """So that what follows reads from the disk. Needs root."""
    os.sync()
    with open("/proc/sys/vm/drop_caches", "w") as file:
        file.write("3\n")


def warm(paths):
    for path in paths:
        run(f"tar -cf - {path} 2>/dev/null | cat > /dev/null", allowed=(0, 1, 2))
