"""How things look: errors, build progress, tables. Plain text without a terminal, colour and progress with one."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import sys
import threading
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Literal, TextIO, cast

from yarrik.cli.terminal import SafeStream, erase_line, for_terminal, from_terminal, in_style, one_line
from yarrik.errors import Trouble, YarrikError
from yarrik.units import shown_seconds, shown_size

if TYPE_CHECKING:
    from rich.live import Live

    from yarrik.run import Event, Progress, StepEnded, StepWaits

#: Signs in the bar of a build, and running steps that are shown below it.
_BAR, _SHOWN = 32, 8
#: Rows of a table that is folded to the terminal's width.
_FOLDED_ROWS = 500
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
    return in_style(text, codes)


def print_json(value: object) -> None:
    sys.stdout.write(_as_json(value, indent=1) + "\n")


def _as_json(value: object, indent: int | None = None) -> str:
    text = json.dumps(value, indent=indent, ensure_ascii=False, default=str)
    try:
        text.encode()
    except UnicodeEncodeError:  # a name that is not UTF-8: its bytes as escapes, so that it stays JSON (RFC 8259, 8.2)
        return json.dumps(value, indent=indent, default=str)
    return text


def show_error(error: YarrikError, as_json: bool) -> None:
    """Each trouble as: code and what, where, why, what to do next."""
    if as_json:
        print_line({"ok": False, "troubles": [trouble.as_json() for trouble in error.troubles]})
        return
    sys.stdout.flush()
    _show_troubles(error.troubles, "error", "bold red")
    if len(error.troubles) > 1:
        sys.stderr.write(f"{len(error.troubles)} errors\n")


def show_failures(troubles: Sequence[Trouble]) -> None:
    """What went wrong in a part of the work, beside what went well."""
    sys.stdout.flush()
    _show_troubles(troubles, "error", "bold red")


def show_warnings(troubles: Sequence[Trouble]) -> None:
    """What is likely wrong and does not stop the work, in the same form as errors."""
    sys.stdout.flush()
    _show_troubles(troubles, "warning", "bold yellow")


def _show_troubles(troubles: Iterable[Trouble], word: str, style: str) -> None:
    for trouble in troubles:
        head = styled(f"{word} {trouble.code}:", style, sys.stderr)
        lines = [f"{head} {one_line(trouble.what) if sys.stderr.isatty() else trouble.what}"]
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
    import textwrap

    room = max(30, shutil.get_terminal_size().columns - indent - 1)
    lead = text[: len(text) - len(text.lstrip())] + "  "
    return textwrap.wrap(text, room, subsequent_indent=lead, break_long_words=False, break_on_hyphens=False) or [text]


def show_notes(notes: Iterable[str]) -> None:
    """What is worth knowing, each once, at the end."""
    for note in dict.fromkeys(notes):
        sys.stdout.write(f"{styled('note', 'yellow')}  {note}\n")


def show_table(rows: Sequence[Sequence[str]], indent: str = "  ", right: Sequence[int] = ()) -> None:
    """Columns with two blanks between them; `right` names those with figures. A terminal gets the last column folded below
    itself; files and pipes, and tables that no screen holds, get one line for each row."""
    if not rows:
        return
    if sys.stdout.isatty() and len(rows) <= _FOLDED_ROWS:
        _show_folded(rows, len(indent), right)
        return
    # Rich takes half a millisecond for a row, and a plan may have thousands.
    widths = [max(len(row[column]) for row in rows) for column in range(len(rows[0]))]
    for row in rows:
        cells = [
            cell.rjust(width) if column in right else cell.ljust(width)
            for column, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        sys.stdout.write((indent + "  ".join(cells)).rstrip() + "\n")


def _show_folded(rows: Sequence[Sequence[str]], indent: int, right: Sequence[int]) -> None:
    import io

    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    table = Table.grid(padding=(0, 2, 0, 0))
    last = len(rows[0]) - 1
    for column in range(last + 1):
        table.add_column(justify="right" if column in right else "left", no_wrap=column != last, overflow="fold")
    for row in rows:
        # Styles become rich's own here; all else that could steer the terminal is escaped before.
        table.add_row(*(Text.from_ansi(for_terminal(one_line(cell))) for cell in row))
    width = max(40, shutil.get_terminal_size().columns - indent)
    colours: Literal["standard"] | None = "standard" if coloured() else None
    console = Console(file=io.StringIO(), width=width, force_terminal=colours is not None, color_system=colours, no_color=False)
    with console.capture() as drawn:
        console.print(table)
    for line in drawn.get().splitlines():
        sys.stdout.write(from_terminal(" " * indent + line).rstrip() + "\n")


def _builder(event: StepWaits) -> str:
    """Which other build a step waits for."""
    if event.process is None:
        return "waits for another build, which runs this step"
    if event.process == os.getpid():
        return "waits for a step of this build that does the same"
    return f"waits for process {event.process}, which runs this step for {event.product} in {event.workspace}"


class BuildView:
    """Follows a build. With a terminal, a line for each recipe or product that had to run, and below them what runs now and how
    far it all is; without, a line for each step."""

    def __init__(self) -> None:
        self._moving = coloured()
        self._running: dict[str, tuple[float, float | None]] = {}
        self._reasons: dict[str, str] = {}
        self._progress: Progress | None = None
        self._sending = 0
        self._failure = ""
        self._doing: Mapping[str, str] = {}
        self._told: dict[str, int] = {}
        self._waiting: dict[str, str] = {}
        self._live: Live | None = None

    def __call__(self, event: Event) -> None:
        from yarrik.run import Sending, StepEnded, StepStarted, StepWaits, StillRunning, SubjectEnded, Warned

        if isinstance(event, (StepStarted, StepEnded, StepWaits, StillRunning)):
            self._progress = event.progress
        if isinstance(event, StepStarted):
            self._waiting.pop(event.step, None)
            self._running[event.step] = (time.monotonic(), event.expected)
            self._reasons[event.step] = event.reason
        elif isinstance(event, StepWaits):
            self._waiting[event.step] = _builder(event)
            if not self._moving:
                self._line(f"  … {event.step:<34}            {self._waiting[event.step]}")
        elif isinstance(event, StepEnded):
            self._running.pop(event.step, None)
            if event.how == "kept":
                self._waiting.pop(event.step, None)
                self._reasons[event.step] = "another build has made it"
            if not self._moving or event.how == "damaged":
                self._line(self._of_step(event))
            elif event.how == "failed":
                self._failure = event.what.partition("failed: ")[2] or event.what
        elif isinstance(event, SubjectEnded) and self._moving:
            mark = styled("✗", "red") if event.failed else styled("=", "blue") if event.same else styled("✓", "green")
            reason = self._failure if event.failed else f"came out the same; {event.reason}" if event.same else event.reason
            kinds = ", ".join(event.kinds)
            text = f"  {mark} {event.subject:<26} {kinds:<38}{event.seconds:7.2f} s  {styled(_fitting(reason), 'dim')}"
            self._line(text.rstrip())
        elif isinstance(event, StillRunning):
            self._doing = event.doing
            if not self._moving:
                self._tell_of_time()
        elif isinstance(event, Sending):
            self._sending = event.left
        elif isinstance(event, Warned):
            show_warnings([event.trouble])
        if self._moving:
            self._draw()
        sys.stdout.flush()

    def _of_step(self, event: StepEnded) -> str:
        marks = {"ran": ("✓", "green"), "kept": ("✓", "green"), "shared": ("↓", "blue"), "damaged": ("↻", "yellow")}
        mark = styled("=", "blue") if event.same else styled(*marks.get(event.how, ("✗", "red")))
        why = {"shared": "from a shared cache", "damaged": "its input is damaged in the cache, and made again"}
        reason = why.get(event.how) or self._reasons.pop(event.step, "")
        if event.same:
            reason = f"came out the same; {reason}"
        return f"  {mark} {event.step:<34}{event.seconds:7.2f} s  {reason}".rstrip()

    def _line(self, text: str) -> None:
        """A line that stays."""
        if self._live is None:
            sys.stdout.write(text + "\n")
            return
        from rich.text import Text

        self._live.console.print(Text.from_ansi(for_terminal(text)), soft_wrap=True)

    def _draw(self) -> None:
        if self._live is None:
            if not self._running and not self._sending and not self._waiting:
                return
            from rich.console import Console
            from rich.live import Live

            self._live = Live(console=Console(file=sys.stdout, highlight=False), auto_refresh=False, transient=True)
            self._live.start()
            # While it moves, what is written goes through it, and is made safe before.
            sys.stdout, sys.stderr = cast(TextIO, SafeStream(sys.stdout)), cast(TextIO, SafeStream(sys.stderr))
        from rich.text import Text

        self._live.update(Text.from_ansi(for_terminal("\n".join(self._now()))), refresh=True)

    def _now(self) -> list[str]:
        """What is going on at the moment, in lines: the whole first, then what runs."""
        lines = []
        progress = self._progress
        if progress is not None and progress.steps:
            full = progress.done * _BAR // progress.steps
            parts = [f"{progress.done} of {progress.steps} steps"]
            parts += [f"{progress.kept} kept"] if progress.kept else []
            parts += [f"{progress.shared} from a shared cache"] if progress.shared else []
            if progress.seconds_left is not None and progress.seconds_left >= 1:
                parts.append(f"about {shown_seconds(progress.seconds_left)} left")
            bar = styled("━" * full, "green") + styled("━" * (_BAR - full), "dim")
            lines.append(f"  {bar}  {', '.join(parts)}")
        now = time.monotonic()
        for name, (since, expected) in list(self._running.items())[:_SHOWN]:
            about = f" of about {shown_seconds(expected)}" if expected and expected >= 1 else ""
            reason = styled(_fitting(self._doing.get(name) or self._reasons.get(name, ""), 68), "dim")
            lines.append(f"    {styled(f'{name:<32}', 'bold')} {shown_seconds(now - since) + about:<28} {reason}".rstrip())
        lines += [f"    {name:<32} {styled(text, 'dim')}" for name, text in list(self._waiting.items())[:_SHOWN]]
        if len(self._running) > _SHOWN:
            lines.append(f"    and {len(self._running) - _SHOWN} more")
        if self._sending and not self._running:
            lines.append(f"  sending {self._sending} results to shared caches (Ctrl-C leaves the rest for another time)")
        return lines

    def _tell_of_time(self) -> None:
        """Without a terminal, a long step gives a sign of life each minute."""
        now = time.monotonic()
        for name, (since, expected) in self._running.items():
            minutes = int((now - since) // 60)
            if minutes > self._told.get(name, 0):
                self._told[name] = minutes
                about = f" of about {shown_seconds(expected)}" if expected else ""
                doing = f": {self._doing[name]}" if name in self._doing else ""
                sys.stdout.write(f"  … {name} runs since {minutes} min{about}{doing}\n")

    def close(self) -> None:
        if self._live is not None:
            self._live.stop()
            self._live = None
        sys.stdout.flush()


class EventLines:
    """Follows a build for machines: each event as one line of JSON."""

    def __call__(self, event: Event) -> None:
        from msgspec import to_builtins

        from yarrik.run import Warned

        name = re.sub("(?<!^)(?=[A-Z])", "-", type(event).__name__).lower()
        if isinstance(event, Warned):
            print_line({"event": name, "trouble": event.trouble.as_json()})
        elif name != "still-running":
            print_line({"event": name, **to_builtins(event)})

    def close(self) -> None:
        pass


def print_line(value: object) -> None:
    """One line of JSON, told at once."""
    sys.stdout.write(_as_json(value) + "\n")
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
            erase_line(sys.stderr)
            sys.stderr.write(f"  {self._words.format(decided, conflicts)}")
            sys.stderr.flush()

    def close(self) -> None:
        if self._said:
            erase_line(sys.stderr)
            sys.stderr.flush()


def fitted(text: str, indent: int) -> str:
    """The text in lines that a terminal holds, the further ones indented; one line without a terminal."""
    if not coloured():
        return text
    import textwrap

    room = max(30, shutil.get_terminal_size().columns - indent - 1)
    return ("\n" + " " * indent).join(textwrap.wrap(text, room, break_long_words=False, break_on_hyphens=False))


def _fitting(text: str, taken: int = 80) -> str:
    """The text cut to what is left of a terminal's line; whole without a terminal."""
    if not coloured():
        return text
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
