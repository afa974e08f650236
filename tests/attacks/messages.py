"""Malformed messages: to the tap in a target, to Wendascope from a target, to a capture session from its clients, to a
client from a capture session.
"""

from __future__ import annotations

import contextlib
import os
import random
import socket
import struct
import subprocess
import sys
import threading
from pathlib import Path

import msgspec

from tests.attacks import Tally
from tests.attacks.kills import _expected, _wait, program
from wendascope.errors import WendascopeError
from wendascope.files import OwnFolder
from wendascope.registry import native_library, tables
from wendascope.tap import launch, messages
from wendascope.tap.channel import PROTOCOL, MessageKind

_LAYOUT = struct.Struct("<II15Q")
_STRANGE = (0, 1, 7, 8, 4096, 1 << 20, 1 << 31, 1 << 32, 1 << 40, 1 << 61, (1 << 63) - 1, 1 << 63, (1 << 64) - 1)


def _memory(chance: random.Random) -> int:
    """A memory file as the tap would send one: too short, empty, of any bytes, or of bytes that look like calls."""
    fd = os.memfd_create("attack")
    kind = chance.randrange(5)
    if kind == 1:
        os.write(fd, chance.randbytes(chance.choice((1, 8, 100, 4096))))
    elif kind == 2:
        os.ftruncate(fd, 1 << 34)  # all holes
    elif kind == 3:
        os.write(fd, b"".join(struct.pack("<4Q", chance.randrange(1 << 12) | 4 << 32, 0, 0, 0) for _ in range(20)))
    elif kind == 4:
        words = [tables().by_name["glFlush"].id | 4 << 32, 0, 0, 0]
        os.write(fd, struct.pack("<4Q", *words) * 4)
    return fd


def _message(chance: random.Random, kinds: tuple[int, ...]) -> bytes:
    values = [
        chance.choice(_STRANGE) if chance.random() < 0.7 else chance.getrandbits(chance.randrange(1, 65))
        for _ in range(15)
    ]
    kind = chance.choice(kinds) if chance.random() < 0.85 else chance.getrandbits(32)
    data = _LAYOUT.pack(kind, chance.randrange(6), *values)
    if chance.random() < 0.15:
        data = (
            data[: chance.randrange(len(data))]
            if chance.random() < 0.5
            else data + chance.randbytes(chance.randrange(1, 4000))
        )
    return data


def _send(connection: socket.socket, data: bytes, fds: list[int]) -> bool:
    """Whether the other end still listens."""
    try:
        ancillary = [(socket.SOL_SOCKET, socket.SCM_RIGHTS, struct.pack(f"{len(fds)}i", *fds))] if fds else []
        connection.sendmsg([data], ancillary)
        return True
    except OSError:
        return False
    finally:
        for fd in fds:
            os.close(fd)


# ---- to the tap --------------------------------------------------------------------------------------


def to_the_tap(tries: int, folder: Path, seed: int = 4) -> Tally:
    """Whatever a target is sent, it draws on to its end. Calls that it is asked to run are garbage too."""
    tally, chance = Tally(), random.Random(seed)
    target = program(folder)
    expected = _expected(target, 1, folder)
    sent = 0
    while sent < tries:
        with OwnFolder() as own, contextlib.closing(socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)) as listener:
            listener.bind(str(own / "tap"))
            listener.listen(1)
            out = own / "out"
            environment = {**os.environ, "LD_PRELOAD": str(native_library()), "WENDASCOPE_SOCKET": str(own / "tap")}
            process = subprocess.Popen([str(target), "1", "300", str(out)], env=environment, stdin=subprocess.DEVNULL)
            listener.settimeout(20)
            connection, _ = listener.accept()
            with connection:
                connection.settimeout(0.05)
                arm = _LAYOUT.pack(MessageKind.ARM, 0, 1, 0, chance.randrange(3), PROTOCOL, *[0] * 11)
                if chance.random() < 0.8:  # a proper beginning, so that what follows is listened to
                    _send(connection, arm, [])
                for _ in range(chance.randrange(2, 40)):
                    with contextlib.suppress(OSError):
                        connection.recv(4096)
                    sent += 1
                    kinds = tuple(int(kind) for kind in MessageKind if kind >= MessageKind.ARM)
                    if not _send(
                        connection,
                        _message(chance, kinds),
                        [_memory(chance) for _ in range(chance.choice((0, 0, 0, 1, 3)))],
                    ):
                        tally.note("messages to a tap that had hung up")
                        break
                    tally.note("messages that a tap lived through")
            seen = _wait(out)
            if process.wait(60) or seen != expected:
                tally.harmed(f"after {sent} messages: the target ended with {process.returncode} and {seen!r}")
    return tally


# ---- from a target -----------------------------------------------------------------------------------

_LIAR = """
import os, socket, struct, sys
sys.path.insert(0, sys.argv[3])
import random
from tests.attacks.messages import _memory, _message, _send, _LAYOUT
from wendascope.registry import tables
from wendascope.tap.channel import PROTOCOL, MessageKind
chance = random.Random(int(sys.argv[1]))
connection = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
connection.connect(os.environ["WENDASCOPE_SOCKET"])
hello = [PROTOCOL, os.getpid(), len(tables().commands)]
if chance.random() < 0.1:
    hello[chance.randrange(3)] = chance.getrandbits(64)
_send(connection, _LAYOUT.pack(MessageKind.HELLO, 0, *hello, *[0] * 12), [])
kinds = [int(MessageKind.STATISTICS), int(MessageKind.PAUSED), int(MessageKind.RAN), int(MessageKind.RECORDED)]
for number in range(int(sys.argv[2])):
    data = _message(chance, tuple(kinds))
    if chance.random() < 0.3:  # a whole capture's words, with sizes that are true
        sizes = [chance.choice((0, 8, 32, 96))] * 4
        data = _LAYOUT.pack(chance.choice(kinds), 4, 3, 1, 1, 64, 64, 2, 5, *sizes, 0, 0, 0, 0)
    kind = struct.unpack_from("<I", data.ljust(4, b"\\0"))[0]
    files = chance.choice(({2: 0, 3: 4, 4: 0, 5: 2}.get(kind, 1), 0, 5))
    if not _send(connection, data, [_memory(chance) for _ in range(files)]):
        break
"""


def from_a_target(tries: int, seed: int = 5) -> Tally:
    """Whatever a target says, taking a frame of it is a frame or one error of ours."""
    tally = Tally()
    root = str(Path(__file__).parent.parent.parent)
    said, number = 0, 0
    while said < tries:
        number += 1
        count = 12
        said += count
        command = [sys.executable, "-c", _LIAR, str(seed * 100_003 + number), str(count), root]
        with (
            tally.trying(f"conversation {number}", "conversations that ended in one line", 30),
            launch.Target(command) as target,
        ):
            target.capture(launch.Trigger(frame=1), 3.0)
            tally.note("conversations that gave a frame")
    return tally


# ---- capture sessions ----------------------------------------------------------------------------------------


def _line(chance: random.Random, sample: list[bytes]) -> bytes:
    what = chance.randrange(7)
    if what == 0:
        return chance.randbytes(chance.randrange(1, 300)).replace(b"\n", b" ")
    if what == 1:
        return b"[" * chance.choice((10, 5000, 200_000))
    if what == 2:
        return b'{"kind":"take","frames":' + str(chance.choice((*_STRANGE, -1, 10**300, 1.5e308))).encode() + b"}"
    if what == 3:
        return (
            b'{"kind":"take","after_seconds":'
            + str(chance.choice((-1, 1e300, 10**400, 0.001))).encode()
            + b',"frame":'
            + str(chance.choice(_STRANGE)).encode()
            + b"}"
        )
    if what == 4:
        return (
            b'{"kind":"do","what":"'
            + chance.choice((b"cancel", b"step", b"go", b"\\ud800", b"x" * 10_000, b"\xff\xfe"))
            + b'"}'
        )
    data = bytearray(chance.choice(sample))
    for _ in range(chance.randrange(1, 6)):
        data[chance.randrange(len(data))] = chance.randrange(256)
    return bytes(data).replace(b"\n", b" ")


def to_a_session(tries: int, name: str, seed: int = 6) -> Tally:
    """Sends to a capture session that listens under `name`; it must answer a proper client after every bout."""
    from wendascope.tap.client import SessionClient
    from wendascope.tap.sessions import connect

    tally, chance = Tally(), random.Random(seed)
    sample = [msgspec.json.encode(messages.Take(frame=5)), msgspec.json.encode(messages.Do("cancel"))]
    sent = 0
    while sent < tries:
        with connect(name) as connection:
            connection.settimeout(5)
            for _ in range(chance.randrange(1, 40)):
                sent += 1
                try:
                    connection.sendall(_line(chance, sample) + (b"\n" if chance.random() < 0.9 else b""))
                    tally.note("lines to a capture session")
                except OSError:
                    tally.note("lines to a capture session that hung up")
                    break
        try:
            with SessionClient(name) as client:
                client.send(messages.Do("cancel"))
                list(client.events(0.02))
        except WendascopeError as error:
            if "not understood" not in str(error):
                tally.harmed(f"after {sent} lines: {error}")
                return tally
    return tally


def from_a_session(tries: int, seed: int = 7) -> Tally:
    """What calls itself a capture session says anything: a client raises one error of ours, or goes on."""
    from wendascope.tap.client import SessionClient
    from wendascope.tap.sessions import listen

    tally, chance = Tally(), random.Random(seed)
    sample = [
        msgspec.json.encode(e)
        for e in (
            messages.Ended("over", True, []),
            messages.StateIs("running"),
            messages.Beats([messages.Beat(1, 2, 3, 4, 5, 6)]),
            messages.Output(["x"]),
        )
    ]
    server = listen("attack")
    try:
        for number in range(tries):
            answer = _line(chance, sample) + b"\n"

            def speak(answer: bytes = answer) -> None:
                with contextlib.suppress(OSError):
                    connection, _ = server.accept()
                    with connection:
                        connection.sendall(answer)

            speaker = threading.Thread(target=speak)
            speaker.start()
            try:
                with SessionClient("attack") as client:
                    list(client.events(0.2))
                tally.note("lines from a capture session that were taken")
            except WendascopeError:
                tally.note("lines from a capture session that were refused")
            except BaseException as error:
                tally.harmed(f"line {number}: {type(error).__name__}: {error}")
            speaker.join()
    finally:
        server.close()
    return tally
