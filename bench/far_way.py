"""A long way to a server on this machine: far_way.py PORT MS.

Listens on a free port, prints it, and passes connections on to PORT; every byte takes MS milliseconds in
each direction. It has to cost next to nothing, since it runs where the program that is measured does:
bytes go from socket to pipe to socket within the kernel."""

import collections
import fcntl
import os
import socket
import sys
import threading
import time

PIPE = 1 << 18  # bytes that one holds at most
PIPES = 64      # in each direction
GATHER = 0.002  # seconds in which what comes after is taken along


class Direction:
    """Of one connection."""

    def __init__(self, source, target, delay):
        self.source, self.target, self.delay = source, target, delay
        self.changed = threading.Condition()
        self.spare = [self.pipe() for _ in range(PIPES)]
        self.under_way = collections.deque()
        self.threads = [threading.Thread(target=work, daemon=True) for work in (self.take, self.give)]

    @staticmethod
    def pipe():
        ends = os.pipe()
        fcntl.fcntl(ends[1], fcntl.F_SETPIPE_SZ, PIPE)
        return ends

    def take(self):
        while True:
            with self.changed:
                self.changed.wait_for(lambda: self.spare)
                pipe = self.spare.pop()
            due = 0
            try:
                self.source.recv(1, socket.MSG_PEEK)
                due = time.monotonic() + self.delay
                time.sleep(min(GATHER, self.delay))
                length = os.splice(self.source.fileno(), pipe[1], PIPE)
            except OSError:
                length = 0
            with self.changed:
                self.under_way.append((due, pipe, length))
                self.changed.notify_all()
            if length == 0:
                return

    def give(self):
        while True:
            with self.changed:
                self.changed.wait_for(lambda: self.under_way)
                due, pipe, length = self.under_way.popleft()
            wait = due - time.monotonic()
            if wait > 0:
                time.sleep(wait)
            last = length == 0
            try:
                while length > 0:
                    length -= os.splice(pipe[0], self.target.fileno(), length)
                if last:
                    self.target.shutdown(socket.SHUT_WR)
            except OSError:  # nobody reads there any more: what still comes leads nowhere
                self.end_of(self.source, socket.SHUT_RD)
            with self.changed:
                self.spare.append(pipe)
                self.changed.notify_all()
            if last:
                return

    @staticmethod
    def end_of(end, how):
        try:
            end.shutdown(how)
        except OSError:
            pass


def pass_on(near, port, delay):
    far = socket.create_connection(("127.0.0.1", port))
    for end in (near, far):
        end.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    directions = [Direction(near, far, delay), Direction(far, near, delay)]
    for direction in directions:
        for thread in direction.threads:
            thread.start()
    for direction in directions:
        for thread in direction.threads:
            thread.join()
        for pipe in direction.spare:
            os.close(pipe[0])
            os.close(pipe[1])
    near.close()
    far.close()


def main():
    port, delay = int(sys.argv[1]), float(sys.argv[2]) / 1000
    with socket.create_server(("127.0.0.1", 0)) as server:
        print(server.getsockname()[1], flush=True)
        while True:
            near, _ = server.accept()
            threading.Thread(target=pass_on, args=(near, port, delay), daemon=True).start()


if __name__ == "__main__":
    main()
