"""A way to a server on this machine that is slow, narrow, or breaks.

proxy.py PORT: listens on a free port, prints it, and passes connections on to PORT. Lines on standard
input change what it does, and each is answered by "ok":
  delay MS         every byte takes so long in each direction
  rate BYTES       a second, in each direction of a connection; 0: as fast as can be
  cut BYTES        each connection is cut after about so many bytes, at random between half and one and a
                   half of it; 0: none is
  cut-once BYTES   the next connection is cut when so many bytes have come from the client; then none
  down-at BYTES    down once so many bytes more have come from clients
  is-down          answers with "yes" or "no"
  answer CODE N    to the next N requests of HTTP, on connections of their own
  drop             cuts the connections that there are
  down | up        the same, and nobody gets in | again
  counted          answers with "CONNECTIONS BYTES-UP BYTES-DOWN" since the last time
"""
import asyncio
import random
import sys

PIECE = 1 << 16
state = {'delay': 0.0, 'rate': 0, 'cut': 0, 'once': 0, 'answer': 0, 'answers': 0, 'down': False,
         'left': None}
counted = [0, 0, 0]
chance = random.Random(7)
open_ones = set()


async def pump(reader, writer, index, allowed, cut):
    """Copies one direction; `allowed` is what both together may still pass, or nothing."""
    queue = asyncio.Queue(maxsize=64)
    loop = asyncio.get_running_loop()

    async def take():
        while True:
            try:
                data = await reader.read(PIECE)
            except (ConnectionError, OSError):
                data = None  # reset: the other side is, too
            await queue.put((loop.time() + state['delay'], data))
            if not data:
                return

    taker = asyncio.create_task(take())
    try:
        while True:
            due, data = await queue.get()
            wait = due - loop.time()
            if wait > 0:
                await asyncio.sleep(wait)
            if data is None:
                cut()
                return
            if not data:
                if writer.can_write_eof():
                    writer.write_eof()
                return
            if allowed is not None:
                if len(data) >= allowed[0]:
                    writer.write(data[:allowed[0]])
                    cut()
                    return
                allowed[0] -= len(data)
            counted[1 + index] += len(data)
            if index == 0 and state['left'] is not None:
                if len(data) >= state['left']:
                    writer.write(data[:state['left']])
                    state['left'] = None
                    obey('down')
                    return
                state['left'] -= len(data)
            writer.write(data)
            await writer.drain()
            if state['rate']:
                await asyncio.sleep(len(data) / state['rate'])
    except (ConnectionError, OSError):
        pass
    finally:
        taker.cancel()


async def serve(reader, writer, port):
    counted[0] += 1
    if state['down']:
        writer.transport.abort()
        return
    if state['answers'] > 0:
        state['answers'] -= 1
        await reader.read(PIECE)
        writer.write(b'HTTP/1.1 %d No\r\nContent-Length: 0\r\nConnection: close\r\n\r\n' % state['answer'])
        await writer.drain()
        writer.close()
        return
    try:
        up_reader, up_writer = await asyncio.open_connection('127.0.0.1', port)
    except OSError:
        writer.transport.abort()
        return

    def cut():
        writer.transport.abort()
        up_writer.transport.abort()

    both = up = None
    if state['once']:
        up, state['once'] = [state['once']], 0
    elif state['cut']:
        both = [chance.randint(state['cut'] // 2, state['cut'] * 3 // 2)]
    open_ones.add(cut)
    try:
        await asyncio.gather(pump(reader, up_writer, 0, up or both, cut), pump(up_reader, writer, 1, both, cut))
    finally:
        open_ones.discard(cut)
        writer.close()
        up_writer.close()


def obey(line):
    words = line.split()
    if words[0] == 'delay':
        state['delay'] = float(words[1]) / 1000
    elif words[0] in ('rate', 'cut'):
        state[words[0]] = int(words[1])
    elif words[0] == 'cut-once':
        state['once'] = int(words[1])
    elif words[0] == 'down-at':
        state['left'] = int(words[1])
    elif words[0] == 'is-down':
        return 'yes' if state['down'] else 'no'
    elif words[0] == 'answer':
        state['answer'], state['answers'] = int(words[1]), int(words[2])
    elif words[0] in ('up', 'down', 'drop'):
        state['down'] = words[0] == 'down'
        state['left'] = None
        if words[0] != 'up':
            for cut in list(open_ones):
                cut()
    elif words[0] == 'counted':
        told = '%d %d %d' % tuple(counted)
        counted[:] = [0, 0, 0]
        return told
    return 'ok'


async def main():
    port = int(sys.argv[1])
    server = await asyncio.start_server(lambda r, w: serve(r, w, port), '127.0.0.1', 0, limit=1 << 20)
    print(server.sockets[0].getsockname()[1], flush=True)
    loop = asyncio.get_running_loop()
    while True:
        line = await loop.run_in_executor(None, sys.stdin.readline)
        if not line:
            return
        print(obey(line), flush=True)


asyncio.run(main())
