"""A full run to a server that is far away, beside sftp(1) that puts one file of the same size there."""

import pathlib
import socket
import subprocess
import time

import measure
from cases import MEGA, make_file
from desk import Desk

ROUND_TRIP = 50  # milliseconds
WAY = pathlib.Path(__file__).resolve().parent / "far_way.py"


class FarServer:
    """An sshd on this machine at the end of a long way. Needs root."""

    def __init__(self, folder):
        self.folder = folder
        self.place = folder / "place"
        self.home = folder / "person"
        self.place.mkdir(parents=True)
        (self.home / ".ssh").mkdir(parents=True)
        pathlib.Path("/run/sshd").mkdir(exist_ok=True)
        for key in (folder / "hostkey", self.home / ".ssh/id_ed25519"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key], check=True)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        conf = folder / "conf"
        conf.write_text(f"Port {port}\nListenAddress 127.0.0.1\nHostKey {folder}/hostkey\nUsePAM no\n"
                        f"AuthorizedKeysFile {self.home}/.ssh/id_ed25519.pub\nPidFile none\n"
                        "StrictModes no\nPermitRootLogin yes\nSubsystem sftp internal-sftp\n")
        self.sshd = subprocess.Popen(["/usr/sbin/sshd", "-D", "-f", conf, "-E", folder / "log"])
        self.way = subprocess.Popen(["python3", WAY, str(port), str(ROUND_TRIP / 2)], text=True,
                                    stdout=subprocess.PIPE)
        self.port = int(self.way.stdout.readline())
        key = " ".join((folder / "hostkey.pub").read_text().split()[:2])
        self.known = self.home / ".ssh/known_hosts"
        self.known.write_text(f"[127.0.0.1]:{self.port} {key}\n")
        time.sleep(1)

    def address(self):
        return f"sftp://root@127.0.0.1:{self.port}{self.place}"

    def put(self, file):
        """What sftp(1) takes for one file."""
        line = (f"echo 'put {file} {self.place}/put.bin' | sftp -q -b - -P {self.port}"
                f" -i {self.home}/.ssh/id_ed25519 -o UserKnownHostsFile={self.known} root@127.0.0.1")
        sample = measure.run(line)
        (self.place / "put.bin").unlink()
        return sample

    def end(self):
        for process in (self.way, self.sshd):
            process.terminate()
            process.wait()


class ServedDesk(Desk):
    """Its shelf is on the server."""

    def __init__(self, program, folder, sources, server, **options):
        self.server = server
        super().__init__(program, folder, sources, **options)

    def place_words(self):
        subprocess.run(["rm", "-rf", *self.server.place.iterdir()], check=True)
        self.disk = self.server.place
        self.env |= {"HOME": str(self.server.home), "SSH_AUTH_SOCK": ""}
        return ["--to", self.server.address()]


def prepare_r(bench):
    make_file(bench.folder / "r/noise/noise.bin", "noise_file", 1000 * MEGA)
    make_file(bench.folder / "r/mixed/mixed.bin", "mixed_file", 1000 * MEGA)


def case_r(bench):
    server = FarServer(bench.folder / "r/server")
    try:
        noise = ServedDesk(bench.program, bench.folder / "r-noise", [bench.folder / "r/noise"], server)
        against_put(bench, "R1", "first full run of 1 GB that will not shrink, SFTP 50 ms away", noise,
                    first=True)
        mixed = ServedDesk(bench.program, bench.folder / "r-mixed", [bench.folder / "r/mixed"], server)
        against_put(bench, "R2", "first full run of 1 GB, mixed content, SFTP 50 ms away", mixed,
                    first=True)
        against_put(bench, "R3", "the next full run of it, not read back", mixed)
    finally:
        server.end()


def against_put(bench, key, what, desk, first=False):
    """Runs beside sftp(1) that puts one file of the size that they stored."""
    put = bench.folder / "r/put.bin"
    measure.warm(desk.options[0])
    desk.start()
    desk.run("full", "--no-verify")
    with open(put, "wb") as file:
        file.truncate(desk.stored())

    def ours(_):
        if not first:
            return desk.run("full", "--no-verify")
        desk.start()
        return desk.run()

    run, theirs = measure.alternate(min(bench.rounds, 3), ours, lambda _: desk.server.put(put))
    bench.add(key, what + ", rate beside `sftp put`", ">= 0.8 x", theirs.wall / run.wall, "x", 0.8,
              f"{desk.stored() / MEGA:.0f} MB stored{', read back as well' if first else ''}; "
              f"{run.describe()}; sftp {theirs.describe()}", at_least=True)
    put.unlink()
