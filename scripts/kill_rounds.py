"""Called by kill-rounds.sh: python3 kill_rounds.py ROUNDS SEED JEMBATAND"""
import hashlib
import pathlib
import random
import select
import shutil
import socket
import sqlite3
import struct
import subprocess
import sys
import tempfile
import time

SECRET = b"bench-secret-of-32-characters-ok"
WINDOW = 64  # records that wait for an answer
RESEND_AFTER = 0.4  # seconds


def free_ports(count):
    opened = [socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(count)]
    for one in opened:
        one.bind(("127.0.0.1", 0))
    ports = [one.getsockname()[1] for one in opened]
    for one in opened:
        one.close()
    return ports


class Node:
    def __init__(self, work, name, ports, program, next_port=None):
        self.name, self.program, self.folder = name, program, work / name
        self.access, self.accounting, self.management = ports
        (self.folder / "plan").mkdir(parents=True)
        (self.folder / "node.toml").write_text(
            f'name = "{name}"\nplan_folder = "plan"\ndata_folder = "data"\n'
            f'[listen]\naccess = ["127.0.0.1:{self.access}"]\naccounting = ["127.0.0.1:{self.accounting}"]\n'
            f'[management]\naddress = "127.0.0.1:{self.management}"\n')
        plan = f'[[client]]\nname = "before"\naddress = "127.0.0.1"\nsecret = "{SECRET.decode()}"\n'
        if next_port is None:
            plan += '[[realm]]\nname = "reef.example"\nhandle = "here"\n'
        else:
            plan += ('[[realm]]\nname = "reef.example"\nhandle = "group:next"\n[[group]]\nname = "next"\n'
                     'answer_within = "300ms"\n[[group.server]]\nname = "one"\naddress = "127.0.0.1"\n'
                     f'accounting_port = {next_port}\nsecret = "{SECRET.decode()}"\n')
        (self.folder / "plan" / "plan.toml").write_text(plan)
        self.process = None

    def start(self):
        log = open(self.folder / "log", "ab")
        self.process = subprocess.Popen([self.program, "--node", str(self.folder / "node.toml")], stderr=log)

    def kill(self):
        self.process.kill()
        self.process.wait()

    def stop(self):
        self.process.terminate()
        self.process.wait()

    def records(self):
        """Every record: (session, status)."""
        out = []
        for day in sorted((self.folder / "data" / "records").glob("*.sqlite")):
            with sqlite3.connect(f"file:{day}?mode=ro", uri=True, timeout=5) as database:
                out += database.execute("SELECT session_id, status FROM record").fetchall()
        return out

    def count(self):
        out = 0
        for day in (self.folder / "data" / "records").glob("*.sqlite"):
            try:
                with sqlite3.connect(f"file:{day}?mode=ro", uri=True, timeout=5) as database:
                    out += database.execute("SELECT count(*) FROM record").fetchone()[0]
            except sqlite3.Error:
                pass  # being made
        return out


def attribute(kind, value):
    return struct.pack("!BB", kind, len(value) + 2) + value


class Device:
    """Sends records until each is acknowledged: again as a new packet, with a larger Acct-Delay-Time."""

    def __init__(self, port, chance):
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.socket.connect(("127.0.0.1", port))
        self.socket.setblocking(False)
        self.chance, self.next, self.sent = chance, 0, 0
        self.waiting = {}  # identifier: (number, first, last, authenticator)
        self.identifier = 0

    def packet(self, number, identifier, delay):
        attributes = attribute(40, struct.pack("!I", (1, 3, 2)[number % 3]))
        attributes += attribute(44, f"s{number // 3}".encode())
        attributes += attribute(1, f"user-{number // 3 % 100}@reef.example".encode())
        attributes += attribute(32, b"kerapu-deck-2")
        attributes += attribute(55, struct.pack("!I", 1790000000 + number // 3))
        attributes += attribute(46, struct.pack("!I", number % 3 * 60))
        if delay:
            attributes += attribute(41, struct.pack("!I", delay))
        head = struct.pack("!BBH", 4, identifier, 20 + len(attributes))
        authenticator = hashlib.md5(head + bytes(16) + attributes + SECRET).digest()
        return head + authenticator + attributes, authenticator

    def send(self, number, first):
        while self.identifier in self.waiting:
            self.identifier = (self.identifier + 1) % 256
        now = time.monotonic()
        octets, authenticator = self.packet(number, self.identifier, int(now - first))
        self.waiting[self.identifier] = (number, first, now, authenticator)
        self.identifier = (self.identifier + 1) % 256
        try:
            self.socket.send(octets)
        except OSError:
            pass  # nobody listens now

    def turn(self, more):
        select.select([self.socket], [], [], 0.005)
        while True:
            try:
                reply = self.socket.recv(4096)
            except OSError:
                break
            asked = self.waiting.get(reply[1])
            if asked and reply[0] == 5 and hashlib.md5(reply[:4] + asked[3] + reply[20:] + SECRET).digest() == reply[4:20]:
                del self.waiting[reply[1]]
        now = time.monotonic()
        for identifier, (number, first, last, _) in list(self.waiting.items()):
            if now - last > RESEND_AFTER:
                del self.waiting[identifier]
                self.send(number, first)
        while more and len(self.waiting) < WINDOW:
            self.send(self.next, now)
            self.next += 1


def differences(name, node, wanted):
    records = node.records()
    missing = wanted - set(records)
    double = len(records) - len(set(records))
    print(f"  {name}: {len(records)} records, missing {len(missing)}, double {double}")
    return len(missing) + double


def main():
    rounds, seed, program = int(sys.argv[1]), int(sys.argv[2]), sys.argv[3]
    chance = random.Random(seed)
    work = pathlib.Path(tempfile.mkdtemp(prefix="kill-rounds-"))
    ports = free_ports(9)
    home = Node(work, "home", ports[0:3], program)
    hub = Node(work, "hub", ports[3:6], program, home.accounting)
    edge = Node(work, "edge", ports[6:9], program, hub.accounting)
    nodes = [home, hub, edge]
    for node in nodes:
        node.start()
    device = Device(edge.accounting, chance)
    kills = {node.name: 0 for node in nodes}
    for _ in range(rounds):
        until = time.monotonic() + chance.uniform(0.05, 0.8)
        while time.monotonic() < until:
            device.turn(more=True)
        node = chance.choice(nodes)
        node.kill()
        kills[node.name] += 1
        until = time.monotonic() + chance.uniform(0, 0.2)
        while time.monotonic() < until:
            device.turn(more=True)
        node.start()
    until = time.monotonic() + 60
    while device.waiting and time.monotonic() < until:
        device.turn(more=False)
    drained, until = home.count(), time.monotonic() + 60
    while drained < device.next and time.monotonic() < until:  # as long as something arrives
        time.sleep(0.5)
        now = home.count()
        if now > drained:
            drained, until = now, time.monotonic() + 60
    for node in nodes:
        node.stop()
    print(f"{rounds} rounds (seed {seed}), killed " + ", ".join(f"{name} {count} times" for name, count in kills.items()) +
          f"; {device.next} records, {len(device.waiting)} without an answer")
    wanted = {(f"s{number // 3}", (1, 3, 2)[number % 3]) for number in range(device.next)}
    wrong = sum([differences(node.name, node, wanted) for node in reversed(nodes)]) + len(device.waiting)
    if wrong:
        print(f"the nodes' files stay in {work}")
        sys.exit(1)
    shutil.rmtree(work)


main()
