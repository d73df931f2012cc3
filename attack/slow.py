"""Two thousand clients that send one octet at a time, a header or a body: everybody else is served as before."""

import selectors
import socket
import statistics
import subprocess
import sys
import time
import urllib.request

from attack.site import Site

_CLIENTS, _ADDRESSES = 2000, 11
_FOR = 15.0  # seconds
_MEMORY, _HEALTH = 100.0, 0.1  # MB more, and seconds for /healthz
# Says how late a process that asks for nothing is served: what the machine itself adds, or takes away for others.
_SLEEPER = """
import sys, time
late, end = 0.0, time.monotonic() + float(sys.argv[1])
while (begin := time.monotonic()) < end:
    time.sleep(0.01)
    late = max(late, time.monotonic() - begin - 0.01)
print(late)
"""


def run(site: Site) -> bool:
    """Print what it took; return whether all is well."""
    before = site.memory()["service"]
    head = f"POST /api/v1/session HTTP/1.1\r\nHost: 127.0.0.1:{site.port}\r\n".encode()
    body = head + b"Content-Type: application/json\r\nContent-Length: 60000\r\n\r\n{"
    waits = selectors.DefaultSelector()
    clients = []
    for number in range(_CLIENTS):
        client = socket.socket()
        client.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        client.bind((f"127.0.0.{2 + number % _ADDRESSES}", 0))
        client.connect(("127.0.0.1", site.port))
        client.sendall(body if number % 2 else head)
        client.setblocking(False)
        waits.register(client, selectors.EVENT_WRITE, number)
        clients.append(client)
    took, sent, cut, end = [], 0, 0, time.monotonic() + _FOR
    sleeper = subprocess.Popen([sys.executable, "-c", _SLEEPER, str(_FOR)], stdout=subprocess.PIPE)
    while time.monotonic() < end:
        for client in clients[sent % 20 :: 20]:
            try:
                client.send(b"x")
            except OSError:
                cut += 1
        sent += 1
        begin = time.monotonic()
        urllib.request.urlopen(f"{site.url}/healthz", timeout=5).read()
        took.append(time.monotonic() - begin)
        time.sleep(0.05)
    more = site.memory()["service"] - before
    for client in clients:
        client.close()
    still = float(sleeper.communicate()[0])
    median, worst = statistics.median(took), max(took)
    print(
        f"{_CLIENTS} slow clients for {_FOR:g} s: {more:.0f} MB more memory; /healthz in {median * 1000:.0f} ms in the "
        f"median, {worst * 1000:.0f} ms at most ({len(took)} calls, the first took {took[0] * 1000:.0f}); "
        f"a process that only sleeps woke up to {still * 1000:.0f} ms late; sends that failed as it was cut off: {cut}"
    )
    return more < _MEMORY and worst < _HEALTH
