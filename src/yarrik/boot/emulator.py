"""Starts a finished image in an emulator, follows its console, and answers it as a script says."""

from __future__ import annotations

import re
import selectors
import subprocess
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO, Literal

from yarrik.model import Definable, convert, read_document

_CONTROL = re.compile(rb"\x1b(?:\[[0-9;?]*[ -/]*[@-~]|[@-Z\\-_])|\r")

#: After one of these the board says nothing more: there is no use in waiting.
_DEAD_ENDS = (b"Kernel panic - not syncing",)
#: Seconds for what it says with that: its words may come in pieces.
_LAST_WORDS = 1.0

Ending = Literal["seen", "time", "ended", "panic"]


class TalkLine(Definable, frozen=True, kw_only=True):
    """Wait for `expect`, then type `type` (with a line's end), if any."""

    expect: str
    type: str | None = None


class _TalkFile(Definable, frozen=True, kw_only=True):
    talk: tuple[TalkLine, ...]


Talk = tuple[TalkLine, ...]


def read_talk(file: Path) -> Talk:
    """Reads a script of expectations and answers: `[[talk]]` tables with `expect` and `type`. Raises YarrikError."""
    return convert(read_document(file), _TalkFile).talk


@dataclass
class BootOutcome:
    """How a boot went: `seen` when all was seen in order; `time`, `ended` (the emulator did) or `panic` when not.

    `missing` is what the console did not show; `seconds` is how long it ran; `exit_code` the emulator's own."""

    ending: Ending
    seconds: float
    missing: str = ""
    exit_code: int | None = None
    seen: list[tuple[str, float]] = field(default_factory=list)


def run_emulator(
    command: Sequence[str],
    talk: Talk,
    log: BinaryIO,
    limit_seconds: float,
    listener: Callable[[bytes], None],
    until_end: bool = False,
) -> BootOutcome:
    """Runs the emulator until all of `talk` was seen in order, it ends by itself, or the time is over.

    The console's bytes go to `log` and `listener` as they come. With `until_end`, what was seen must be followed by
    the emulator's own end (the machine powering off). Raises OSError when the emulator cannot be started."""
    started = time.monotonic()
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
    assert process.stdin is not None and process.stdout is not None
    console = b""
    position = 0
    seen: list[tuple[str, float]] = []
    ending: Ending | None = None
    dead: float | None = None
    try:
        with selectors.DefaultSelector() as selector:
            selector.register(process.stdout, selectors.EVENT_READ)
            while ending is None:
                while position < len(talk):
                    line = talk[position]
                    at = console.find(line.expect.encode())
                    if at < 0:
                        break
                    console = console[at + len(line.expect.encode()) :]
                    seen.append((line.expect, time.monotonic() - started))
                    position += 1
                    if line.type is not None:
                        process.stdin.write(line.type.encode() + b"\n")
                        process.stdin.flush()
                if dead is None and position < len(talk) and any(word in console for word in _DEAD_ENDS):
                    dead = time.monotonic()
                if dead is not None and position < len(talk) and time.monotonic() - dead > _LAST_WORDS:
                    ending = "panic"
                    break
                if position == len(talk) and not until_end:
                    ending = "seen"
                    break
                left = limit_seconds - (time.monotonic() - started)
                if left <= 0:
                    ending = "time"
                    break
                if selector.select(min(left, 0.5 if dead is None else 0.1)):
                    data = process.stdout.read1(65536)  # type: ignore[attr-defined]
                    if not data:
                        ending = "seen" if position == len(talk) else "ended"
                        break
                    log.write(data)
                    log.flush()
                    listener(data)
                    # A colour sequence may be cut in two by this; then its expectation is met a moment later.
                    console = _CONTROL.sub(b"", console + data)[-1_000_000:]
    except BrokenPipeError:
        ending = "ended"
    finally:
        if ending == "ended" or (ending == "seen" and until_end):
            try:
                process.wait(5)
            except subprocess.TimeoutExpired:
                process.kill()
        else:
            process.kill()
        process.wait()
        process.stdin.close()
        process.stdout.close()
    missing = talk[position].expect if position < len(talk) else ("the end of the emulator" if ending == "time" else "")
    code = process.returncode if ending == "ended" or until_end else None
    return BootOutcome(ending or "ended", time.monotonic() - started, missing, code, seen)
