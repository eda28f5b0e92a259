"""A command at this terminal, behind a terminal of its own.

What runs in a sandbox must not hold the outer terminal: through it, it could type into the shell that started us (TIOCSTI,
ioctl_tty(2)). So it gets a pseudo-terminal, and bytes are carried between the two.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import pty
import select
import signal
import subprocess
import termios
import tty
from collections.abc import Iterator, Mapping, Sequence

_INPUT, _OUTPUT = 0, 1


def run_at_terminal(arguments: Sequence[str], folder: str, environment: Mapping[str, str]) -> int:
    """Runs a command with a terminal of its own where this one is a terminal, else on the streams as they are and without any
    controlling terminal. Returns its exit code."""
    if not (os.isatty(_INPUT) and os.isatty(_OUTPUT)):
        done = subprocess.run(arguments, cwd=folder, env=dict(environment), umask=0o022, check=False, start_new_session=True)
        return done.returncode
    outer, inner = pty.openpty()
    try:
        _copy_size(outer)
        process = subprocess.Popen(
            arguments, cwd=folder, env=dict(environment), umask=0o022, stdin=inner, stdout=inner, stderr=inner,
            start_new_session=True, preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0),
        )  # fmt: skip
        os.close(inner)
        inner = -1
        with _raw(), _following_size(outer):
            _carry(outer)
        return process.wait()
    finally:
        os.close(outer)
        if inner >= 0:
            os.close(inner)


def _carry(outer: int) -> None:
    """Carries bytes both ways until the command's side is closed."""
    sources = [outer, _INPUT]
    while True:
        for ready in select.select(sources, [], [])[0]:
            try:
                data = os.read(ready, 1 << 16)
            except OSError as error:
                if error.errno != errno.EIO:  # what Linux says when nobody holds the other side any more
                    raise
                data = b""
            if ready == outer:
                if not data:
                    return
                _write(_OUTPUT, data)
            elif data:
                _write(outer, data)
            else:
                sources.remove(_INPUT)


def _write(handle: int, data: bytes) -> None:
    while data:
        data = data[os.write(handle, data) :]


def _copy_size(outer: int) -> None:
    with contextlib.suppress(OSError):
        fcntl.ioctl(outer, termios.TIOCSWINSZ, fcntl.ioctl(_OUTPUT, termios.TIOCGWINSZ, bytes(8)))


@contextlib.contextmanager
def _raw() -> Iterator[None]:
    """This terminal hands every key on, as it was afterwards whatever happens."""
    before = termios.tcgetattr(_INPUT)
    tty.setraw(_INPUT)
    try:
        yield
    finally:
        termios.tcsetattr(_INPUT, termios.TCSAFLUSH, before)


@contextlib.contextmanager
def _following_size(outer: int) -> Iterator[None]:
    before = signal.signal(signal.SIGWINCH, lambda number, frame: _copy_size(outer))
    try:
        yield
    finally:
        signal.signal(signal.SIGWINCH, before)
