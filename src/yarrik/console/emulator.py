"""Starts a finished image in an emulator, and follows its console."""

from __future__ import annotations

import subprocess
from collections.abc import Callable, Sequence

from yarrik.console.talk import BootOutcome, Sink, Talk, follow


class _Process:
    """The console of an emulator is its input and output."""

    enter = b"\n"

    def __init__(self, command: Sequence[str]) -> None:
        self.process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, bufsize=0
        )
        assert self.process.stdin is not None and self.process.stdout is not None
        self._to, self._from = self.process.stdin, self.process.stdout

    def fileno(self) -> int:
        return self._from.fileno()

    def read(self) -> bytes:
        return self._from.read(65536) or b""

    def write(self, data: bytes) -> None:
        left = memoryview(data)
        while left:
            left = left[self._to.write(left) :]

    def close(self) -> None:
        self._to.close()
        self._from.close()


def run_emulator(
    command: Sequence[str],
    talk: Talk,
    log: Sink,
    limit_seconds: float,
    listener: Callable[[bytes], None],
    until_end: bool = False,
) -> BootOutcome:
    """Runs the emulator until all of `talk` was seen in order, it ends by itself, or the time is over.

    The console's bytes go to `log` and `listener` as they come. With `until_end`, what was seen must be followed by
    the emulator's own end (the machine powering off). Raises OSError when the emulator cannot be started."""
    emulator = _Process(command)
    process = emulator.process
    ends = False
    try:
        outcome = follow(emulator, talk, log, limit_seconds, listener, until_end)
        ends = outcome.ending == "ended" or (outcome.ending == "seen" and until_end)
    finally:
        if ends:
            try:
                process.wait(5)
            except subprocess.TimeoutExpired:
                process.kill()
        else:
            process.kill()
        process.wait()
        emulator.close()
    if outcome.ending == "ended" or until_end:
        outcome.exit_code = process.returncode
    return outcome
