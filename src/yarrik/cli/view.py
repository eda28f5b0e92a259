"""How things look: errors, build progress, tables. Plain text without a terminal, colour and progress with one."""

from __future__ import annotations

import contextlib
import json
import os
import sys
import threading
import time
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from yarrik.errors import Trouble, YarrikError
from yarrik.units import shown_size

if TYPE_CHECKING:
    from yarrik.run import Event

_STYLES = {"bold": "1", "dim": "2", "red": "31", "green": "32", "yellow": "33", "blue": "34"}


def coloured(stream: object = None) -> bool:
    """Whether a stream takes colours: a terminal, and nobody asked for none (NO_COLOR)."""
    target = stream or sys.stdout
    return (
        bool(getattr(target, "isatty", lambda: False)()) and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
    )


def styled(text: str, style: str, stream: object = None) -> str:
    if not coloured(stream):
        return text
    codes = ";".join(_STYLES[word] for word in style.split())
    return f"\033[{codes}m{text}\033[0m"


def print_json(value: object) -> None:
    sys.stdout.write(json.dumps(value, indent=1, ensure_ascii=False, default=str) + "\n")


def show_error(error: YarrikError, as_json: bool) -> None:
    """Each trouble as: code and what, where, why, what to do next."""
    if as_json:
        print_json({"ok": False, "troubles": [trouble.as_json() for trouble in error.troubles]})
        return
    sys.stdout.flush()
    _show_troubles(error.troubles, "error", "bold red")
    if len(error.troubles) > 1:
        sys.stderr.write(f"{len(error.troubles)} errors\n")


def show_warnings(troubles: Sequence[Trouble]) -> None:
    """What is likely wrong and does not stop the work, in the same form as errors."""
    sys.stdout.flush()
    _show_troubles(troubles, "warning", "bold yellow")


def _show_troubles(troubles: Iterable[Trouble], word: str, style: str) -> None:
    for trouble in troubles:
        head = styled(f"{word} {trouble.code}:", style, sys.stderr)
        lines = [f"{head} {trouble.what}"]
        for name, text in (("where", str(trouble.place)), ("why", trouble.why), ("next", trouble.remedy)):
            if text:
                first, *more = [line for one in text.split("\n") for line in _wrapped(one, 9)]
                lines.append(f"  {styled(name.ljust(5), 'dim', sys.stderr)}  {first}")
                lines += [f"         {line}" for line in more]
        sys.stderr.write("\n".join(lines) + "\n")


def _wrapped(text: str, indent: int) -> list[str]:
    """The text in lines that a terminal holds; one line where errors go to a file."""
    if not coloured(sys.stderr):
        return [text]
    import shutil
    import textwrap

    room = max(30, shutil.get_terminal_size().columns - indent - 1)
    lead = text[: len(text) - len(text.lstrip())] + "  "
    return textwrap.wrap(text, room, subsequent_indent=lead, break_long_words=False, break_on_hyphens=False) or [text]


def show_notes(notes: Iterable[str]) -> None:
    """What is worth knowing, each once, at the end."""
    for note in dict.fromkeys(notes):
        sys.stdout.write(f"{styled('note', 'yellow')}  {note}\n")


def show_table(rows: Sequence[Sequence[str]], indent: str = "  ", right: Sequence[int] = ()) -> None:
    """Columns with two blanks between them; `right` names those with figures."""
    if not rows:
        return
    widths = [max(len(row[column]) for row in rows) for column in range(len(rows[0]))]
    for row in rows:
        cells = [
            cell.rjust(width) if column in right else cell.ljust(width)
            for column, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        sys.stdout.write((indent + "  ".join(cells)).rstrip() + "\n")


class BuildView:
    """Follows a build: a line for each recipe or product that had to run, and with a terminal a moving one for now."""

    def __init__(self, quiet: bool = False) -> None:
        self._quiet = quiet
        self._moving = coloured() and not quiet
        self._running: dict[str, float] = {}
        self._expected: dict[str, float] = {}
        self._left = 0
        self._told: dict[str, int] = {}

    def __call__(self, event: Event) -> None:
        from yarrik.run import StepEnded, StepStarted, SubjectEnded

        if self._quiet:
            return
        self._clear()
        if isinstance(event, StepStarted):
            self._running[event.step] = time.monotonic()
            if event.expected is not None:
                self._expected[event.step] = event.expected
            self._left = event.left
        elif isinstance(event, SubjectEnded):
            mark = styled("✗", "red") if event.failed else styled("=", "blue") if event.same else styled("✓", "green")
            reason = f"came out the same; {event.reason}" if event.same else event.reason
            kinds = ", ".join(event.kinds)
            text = f"  {mark} {event.subject:<26} {kinds:<38}{event.seconds:7.2f} s  {styled(_fitting(reason), 'dim')}"
            sys.stdout.write(text.rstrip() + "\n")
        elif isinstance(event, StepEnded):
            self._running.pop(event.step, None)
        elif not self._moving:
            self._tell_of_time()
        self._draw()
        sys.stdout.flush()

    def _draw(self) -> None:
        if self._moving and self._running:
            now = time.monotonic()
            names = ", ".join(self._with_time(name, now - since) for name, since in self._running.items())
            text = _fitting(f"running: {names}; {self._left} steps left", 2)
            sys.stdout.write(f"  {styled(text, 'blue')}")

    def _with_time(self, name: str, seconds: float) -> str:
        """A running step with the time it took so far, and the time it took last."""
        if seconds <= 1:
            return name
        expected = self._expected.get(name, 0.0)
        return f"{name} ({seconds:.0f} s{f' of about {expected:.0f}' if expected > 3 else ''})"

    def _tell_of_time(self) -> None:
        """Without a terminal, a long step gives a sign of life each minute."""
        now = time.monotonic()
        for name, since in self._running.items():
            minutes = int((now - since) // 60)
            if minutes > self._told.get(name, 0):
                self._told[name] = minutes
                sys.stdout.write(f"  … {name} runs since {minutes} min\n")

    def _clear(self) -> None:
        if self._moving:
            sys.stdout.write("\r\033[K")

    def close(self) -> None:
        self._clear()
        sys.stdout.flush()


class ResolveView:
    """A moving line for work that takes long; `words` take two numbers."""

    def __init__(self, quiet: bool = False, words: str = "resolving: {} settled, {} conflicts") -> None:
        self._words = words
        self._moving = not quiet and coloured(sys.stderr)
        self._said = False

    def __call__(self, decided: int, conflicts: int) -> None:
        if self._moving:
            self._said = True
            sys.stderr.write(f"\r\033[K  {self._words.format(decided, conflicts)}")
            sys.stderr.flush()

    def close(self) -> None:
        if self._said:
            sys.stderr.write("\r\033[K")
            sys.stderr.flush()


def fitted(text: str, indent: int) -> str:
    """The text in lines that a terminal holds, the further ones indented; one line without a terminal."""
    if not coloured():
        return text
    import shutil
    import textwrap

    room = max(30, shutil.get_terminal_size().columns - indent - 1)
    return ("\n" + " " * indent).join(textwrap.wrap(text, room, break_long_words=False, break_on_hyphens=False))


def _fitting(text: str, taken: int = 80) -> str:
    """The text cut to what is left of a terminal's line; whole without a terminal."""
    if not coloured():
        return text
    import shutil

    room = max(20, shutil.get_terminal_size().columns - taken - 1)
    return text if len(text) <= room else text[: room - 1] + "…"


@contextlib.contextmanager
def sign_of_life(file: Path, every: float = 10.0) -> Iterator[None]:
    """While a file is written that takes long, says every few seconds on the error stream how far it is."""
    ended = threading.Event()
    started = time.monotonic()

    def tell() -> None:
        while not ended.wait(every):
            with contextlib.suppress(OSError):
                stored = file.stat().st_blocks * 512
                took = time.monotonic() - started
                sys.stderr.write(f"  … {shown_size(stored)} written in {took:.0f} s\n")
                sys.stderr.flush()

    teller = threading.Thread(target=tell, daemon=True)
    teller.start()
    try:
        yield
    finally:
        ended.set()
        teller.join()
