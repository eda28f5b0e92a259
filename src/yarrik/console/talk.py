"""Following a console as a script says: what has to be seen, what is typed then, and what is sent."""

from __future__ import annotations

import selectors
import time
from collections.abc import Callable
from pathlib import Path
from typing import Literal, Protocol

import msgspec

from yarrik.beneath import regular_file
from yarrik.console.transfer import BEGIN, Form, TransferFailed, send_file
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.model import Definable, convert, read_document
from yarrik.patterns import lazy_pattern

_CONTROL = lazy_pattern(rb"\x1b(?:\[[0-9;?]*[ -/]*[@-~]|[@-Z\\-_])|\r")

#: After one of these the board says nothing more: there is no use in waiting.
_DEAD_ENDS = (b"Kernel panic - not syncing",)
#: Seconds for what it says with that: its words may come in pieces.
_LAST_WORDS = 1.0
#: A file that a script sends may be so large (bytes): a serial port takes a day for more.
_MOST_SENT = 1 << 30

Ending = Literal["seen", "time", "ended", "panic", "transfer"]


class TalkLine(Definable, frozen=True, kw_only=True):
    """Wait for `expect`, then type `type` (with a line's end), if any, then send the file `send`, if any, `by` a protocol."""

    expect: str
    type: str | None = None
    send: str | None = None
    by: Form = "ymodem"


class _TalkFile(Definable, frozen=True, kw_only=True):
    talk: tuple[TalkLine, ...]


Talk = tuple[TalkLine, ...]


def read_talk(file: Path) -> Talk:
    """Reads a script of expectations and answers: `[[talk]]` tables with `expect`, `type` and `send`, whose path is relative
    to the script. Raises YarrikError."""
    lines = convert(read_document(file), _TalkFile).talk
    found = []
    for line in lines:
        if line.send is not None:
            place = file.parent / line.send
            if not place.is_file():
                raise YarrikError(Trouble("TRANSFER-FILE", f"there is no file {place} to send", Place(file, key="talk.send"),
                                          remedy="correct its path; it is relative to the script"))  # fmt: skip
            line = msgspec.structs.replace(line, send=str(place))
        found.append(line)
    return tuple(found)


class Line(Protocol):
    """Both ways to a console: an emulator's, or a serial port's."""

    #: What ends a line that is typed: terminals send a carriage return, pipes a line feed.
    enter: bytes

    def fileno(self) -> int:
        """The descriptor that is readable when something came."""

    def read(self) -> bytes:
        """What came, at least one byte of it; nothing at the end. Raises OSError."""

    def write(self, data: bytes) -> None:
        """Sends all of `data`. Raises OSError."""


class Sink(Protocol):
    """What keeps a console's bytes."""

    def write(self, data: bytes, /) -> int:
        """Keeps what came just now."""

    def flush(self) -> None:
        """Puts it where it survives the program's end."""


class BootOutcome(msgspec.Struct):
    """How a boot went: `seen` when all was seen in order; `time`, `ended` (the emulator did, or the port is gone), `panic` or
    `transfer` (a file did not get through) when not.

    `missing` is what the console did not show; `seconds` is how long it ran; `exit_code` the emulator's own."""

    ending: Ending
    seconds: float
    missing: str = ""
    exit_code: int | None = None
    seen: list[tuple[str, float]] = msgspec.field(default_factory=list)
    why: str = ""


def follow(
    line: Line,
    talk: Talk,
    log: Sink,
    limit_seconds: float,
    listener: Callable[[bytes], None],
    until_end: bool = False,
) -> BootOutcome:
    """Reads a console until all of `talk` was seen in order, it ends, or the time is over.

    The console's bytes go to `log` and `listener` as they come. With `until_end`, what was seen must be followed by the
    console's end (an emulated machine that powers off)."""
    started = time.monotonic()
    console = b""
    position = 0
    seen: list[tuple[str, float]] = []
    dead: float | None = None

    def outcome(ending: Ending, why: str = "") -> BootOutcome:
        missing = talk[position].expect if position < len(talk) else ("the end of the emulator" if ending == "time" else "")
        return BootOutcome(ending, time.monotonic() - started, missing, None, seen, why)

    try:
        with selectors.DefaultSelector() as selector:
            selector.register(line.fileno(), selectors.EVENT_READ)
            while True:
                while position < len(talk):
                    step = talk[position]
                    at = console.find(step.expect.encode())
                    if at < 0:
                        break
                    console = console[at + len(step.expect.encode()) :]
                    seen.append((step.expect, time.monotonic() - started))
                    if step.type is not None:
                        line.write(step.type.encode() + line.enter)
                    if step.send is not None:
                        left = max(1.0, limit_seconds - (time.monotonic() - started))
                        data = regular_file(step.send, _MOST_SENT)
                        send_file(line, Path(step.send).name, data, step.by, begin_seconds=min(BEGIN, left))
                    position += 1
                if dead is None and position < len(talk) and any(word in console for word in _DEAD_ENDS):
                    dead = time.monotonic()
                if dead is not None and position < len(talk) and time.monotonic() - dead > _LAST_WORDS:
                    return outcome("panic")
                if position == len(talk) and not until_end:
                    return outcome("seen")
                left = limit_seconds - (time.monotonic() - started)
                if left <= 0:
                    return outcome("time")
                if selector.select(min(left, 0.5 if dead is None else 0.1)):
                    data = line.read()
                    if not data:
                        return outcome("seen" if position == len(talk) else "ended")
                    log.write(data)
                    log.flush()
                    listener(data)
                    # A colour sequence may be cut in two by this; then its expectation is met a moment later.
                    console = _CONTROL.sub(b"", console + data)[-1_000_000:]
    except TransferFailed as error:
        return outcome("transfer", str(error))
    except OSError as error:
        return outcome("ended", "" if isinstance(error, BrokenPipeError) else str(error.strerror or error))
