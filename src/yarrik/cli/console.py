"""`yarrik console`: a terminal on a board's serial port."""

from __future__ import annotations

import contextlib
import os
import select
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, BinaryIO, Literal, TextIO, cast

import typer

from yarrik.cli import app
from yarrik.cli.options import JsonOption

if TYPE_CHECKING:
    from yarrik.console import BootOutcome, Form, LineLog, Port, PortFile, Talk


def _known_ports(incomplete: str) -> list[str]:
    """Completes serial ports of this machine."""
    from yarrik.console import found_ports

    return [one.path for one in found_ports() if one.path.startswith(incomplete)]


@app.command(
    epilog="Examples: [bold]yarrik console[/bold] (lists ports) · [bold]yarrik console /dev/ttyUSB0[/bold] · "
    "[bold]yarrik console bench/board.toml[/bold] · "
    '[bold]yarrik console /dev/ttyUSB0 --expect "press a key" --expect login: --seconds 60[/bold]'
)
def console(
    port: Annotated[
        str | None,
        typer.Argument(metavar="[PORT]", autocompletion=_known_ports,
                       help="A device file, socket://HOST:PORT, rfc2217://HOST:PORT, or a file that describes a port."),
    ] = None,
    speed: Annotated[int | None, typer.Option(min=1, help="In bit/s; 115200 without it.", show_default=False)] = None,
    log: Annotated[Path | None, typer.Option(metavar="FILE", help="Keeps what the board says in this file.")] = None,
    times: Annotated[bool, typer.Option("--times", help="Shows the time before each line.")] = False,
    key: Annotated[str, typer.Option(metavar="CTRL_X", help="The key that begins an order.")] = "ctrl-o",
    by: Annotated[
        Literal["ymodem", "xmodem", "xmodem-1k"], typer.Option(help="The protocol for files that you send.")
    ] = "ymodem",
    expect: Annotated[
        list[str] | None, typer.Option(metavar="TEXT", help="Waits for this text, in this order, then ends.")
    ] = None,
    talk: Annotated[Path | None, typer.Option(metavar="FILE", help="Follows a script of `yarrik boot`, then ends.")] = None,
    stay: Annotated[bool, typer.Option("--stay", help="Is a terminal after the script, instead of ending.")] = False,
    seconds: Annotated[float | None, typer.Option(min=0.1, help="Ends after this time.", show_default=False)] = None,
    json: JsonOption = False,
) -> None:  # fmt: skip
    """A terminal on a board's serial port; without a port, the ports that there are.

    Sequences that could harm your terminal are shown, not obeyed. All of it
    is kept in a log with times. Ctrl-O and a key is an order: q ends, b sends
    a break, s sends a file, p switches the power, t shows times, ? helps."""
    from yarrik.cli.view import print_json
    from yarrik.console import TalkLine, open_console, port_named, prefix_byte, read_talk
    from yarrik.errors import Trouble, YarrikError

    if port is None:
        _list_ports(json)
        return
    prefix = prefix_byte(key)
    if prefix is None:
        raise YarrikError(Trouble("SETTING-FORM", f"--key: `{key}` is no key for orders", why="ctrl-j and ctrl-m end lines",
                                  remedy="write ctrl- and another letter, such as ctrl-o"))  # fmt: skip
    lines = read_talk(talk) if talk is not None else ()
    lines += tuple(TalkLine(expect=text) for text in expect or ())
    if json and not lines:
        raise YarrikError(Trouble("USAGE", "--json of a console is for scripts", remedy="add --expect TEXT or --talk FILE"))
    about = port_named(port, speed)
    with contextlib.closing(open_console(about)) as line, _kept(line.name, log) as kept:
        if lines:
            outcome = _follow(line, lines, kept, seconds or 120, json)
            if json:
                print_json({"ok": outcome.ending == "seen", "port": line.name} | outcome_json(outcome))
            if outcome.ending != "seen" or not stay:
                if not json:
                    show_outcome(line.name, outcome, kept.path)
                raise typer.Exit(0 if outcome.ending == "seen" else 1)
        _Terminal(about, line, kept, prefix, key, by, times).run(seconds)


def _list_ports(json: bool) -> None:
    from yarrik.cli.view import print_json, show_table, styled
    from yarrik.console import found_ports

    ports = found_ports()
    if json:
        print_json({"ok": True, "ports": [
            {"path": one.path, "maker": one.maker, "model": one.model, "serial": one.serial, "by-name": one.by_name,
             "users": [{"program": name, "process": number} for name, number in one.users]} for one in ports]})  # fmt: skip
        return
    rows = []
    for one in ports:
        used = ", ".join(f"in use by {name} (process {number})" for name, number in one.users)
        about = " ".join(word for word in (one.maker, one.model) if word)
        rows.append((styled(one.path, "bold"), about, one.serial, styled(used, "yellow") if used else one.by_name))
    show_table(rows)
    free = [one.by_name or one.path for one in ports if not one.users]
    if not ports:
        sys.stdout.write("no serial port: plug an adapter in; a terminal server's port is socket://HOST:PORT\n")
    elif free:
        sys.stdout.write(f"next: yarrik console {free[0]}\n")


class Kept:
    """The log of a console: lines with times, on disk as they come."""

    def __init__(self, path: Path, sink: BinaryIO, lines: LineLog) -> None:
        self.path, self._sink, self._lines = path, sink, lines
        #: Why it is not whole: a full disk must not end a session with a board.
        self.lacking = ""

    def write(self, data: bytes) -> int:
        """Keeps what came just now."""
        self._put(self._lines.feed(data, time.time()))
        return len(data)

    def flush(self) -> None:
        """Nothing: what was written has survived the command's end."""

    def end(self) -> None:
        """Keeps the last line, which has no end."""
        self._put(self._lines.rest())

    def _put(self, text: str) -> None:
        try:
            self._sink.write(text.encode("utf-8", "backslashreplace"))
        except OSError as error:
            self.lacking = str(error.strerror)


@contextmanager
def _kept(name: str, log: Path | None) -> Iterator[Kept]:
    """The log: a file of the user's, to which it is added; else the port's last one, and the one before under another name."""
    import platformdirs

    from yarrik.console import LineLog
    from yarrik.errors import Place, Trouble, YarrikError

    path = log
    try:
        if path is None:
            folder = platformdirs.user_state_path("yarrik") / "consoles"
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            path = folder / ("".join(sign if sign.isalnum() else "-" for sign in name).strip("-") + ".log")
            if path.exists():
                path.replace(path.with_suffix(".before.log"))
        with path.open("ab", buffering=0) as sink:
            kept = Kept(path, cast(BinaryIO, sink), LineLog())
            try:
                yield kept
            finally:
                kept.end()
    except OSError as error:
        if path is None or error.filename not in (str(path), str(path.parent)):
            raise
        raise YarrikError(Trouble("CONSOLE-LOG", f"the log {path} cannot be written: {error.strerror}", Place(path),
                                  remedy="name another file with --log")) from error  # fmt: skip


def from_home(path: Path) -> str:
    """A path as a person would type it."""
    from yarrik.errors import shown_path

    with contextlib.suppress(ValueError, RuntimeError):
        return f"~/{path.relative_to(Path.home())}"
    return shown_path(path)


def shower(out: bool) -> Callable[[bytes], None]:
    """What shows a console's bytes: safe text on a terminal, the bytes themselves in a file or pipe."""
    from yarrik.console import Screen

    if not out:
        return lambda data: None
    screen = Screen() if sys.stdout.isatty() else None
    sys.stdout.flush()

    def show(data: bytes) -> None:
        _put(screen.feed(data).encode() if screen is not None else data)

    return show


def _put(data: bytes) -> None:
    """Writes to standard output as it is. A terminal has had `Screen` before it."""
    left = memoryview(data)
    while left:
        try:
            left = left[os.write(sys.stdout.fileno(), left) :]
        except BlockingIOError:
            select.select([], [sys.stdout.fileno()], [])


def _follow(line: Port, talk: Talk, kept: Kept, seconds: float, json: bool) -> BootOutcome:
    from yarrik.console import follow

    return follow(line, talk, kept, seconds, shower(not json))


def outcome_json(outcome: BootOutcome) -> dict[str, object]:
    """How a script went, for JSON."""
    return {
        "ending": outcome.ending,
        "missing": outcome.missing,
        "why": outcome.why,
        "seconds": round(outcome.seconds, 2),
        "seen": [{"text": text, "seconds": round(when, 2)} for text, when in outcome.seen],
    }


def show_outcome(name: str, outcome: BootOutcome, log: Path, after: str = "", of: str = "console") -> None:
    """Says how a script went, with the times at which each text was seen. `of` is what may have ended."""
    from yarrik.cli.view import show_error, show_table, styled
    from yarrik.errors import Place, Trouble, YarrikError

    sys.stdout.write("\n")
    if outcome.ending == "seen":
        sys.stdout.write(f"{styled(name, 'bold')}: {styled('all was seen' + after, 'green')} ({outcome.seconds:.1f} s)\n")
        show_table([(f"{when:.1f} s", text) for text, when in outcome.seen], right=(0,))
        sys.stdout.write(f"console kept in {from_home(log)}\n")
        return
    how = {"time": "the time was over", "panic": "the kernel panicked", "transfer": f"a file was not sent ({outcome.why})",
           "ended": f"the {of} ended{f' ({outcome.why})' if outcome.why else ''}"}[outcome.ending]  # fmt: skip
    why = f"seen so far: {', '.join(repr(text) for text, _ in outcome.seen) or 'none of the texts'}"
    if outcome.ending == "transfer":
        trouble = Trouble("TRANSFER-FAILED", f"{how} after {outcome.seconds:.1f} s, at `{outcome.missing}`", Place(log),
                          why=why, remedy="start the board's receiving side first, and look which protocol it has")  # fmt: skip
    else:
        trouble = Trouble("BOOT-NOT-SEEN", f"{how} after {outcome.seconds:.1f} s before the console showed `{outcome.missing}`",
                          Place(log), why=why, remedy="read the console above; --seconds gives it more time")  # fmt: skip
    sys.stdout.flush()
    show_error(YarrikError(trouble, "work"), as_json=False)


class _Terminal:
    """Both ways between a person and a board."""

    def __init__(self, about: PortFile, line: Port, kept: Kept, prefix: bytes, key: str, by: Form, times: bool) -> None:
        from yarrik.console import Keys, Screen, power_switch

        self._about, self._line, self._kept, self._by, self._times = about, line, kept, by, times
        self._key = key.replace("ctrl", "Ctrl").replace("-" + key[-1], "-" + key[-1].upper())
        self._keys = Keys(prefix)
        self._screen = Screen() if sys.stdout.isatty() else None
        self._power = power_switch(about, line, lambda command: self._tell(f"runs {command}"))
        self._typing: int | None = sys.stdin.fileno()
        self._at_begin = True
        self._hinted = False
        self._ended = False

    def run(self, seconds: float | None) -> None:
        """Until the person ends it, the port is gone for good, or the time is over."""
        end = None if seconds is None else time.monotonic() + seconds
        with _raw(sys.stdin) as by_hand:
            self._by_hand = by_hand
            if by_hand:
                simulated = self._about.simulated is not None
                how = "" if simulated or "://" in self._line.name else f", {self._about.port.speed} bit/s"
                self._tell(f"{self._line.name}{how}; {self._key} q ends, {self._key} ? helps")
            try:
                while not self._ended and (end is None or time.monotonic() < end):
                    self._turn(1.0 if end is None else max(0.0, min(1.0, end - time.monotonic())))
            finally:
                if self._screen is not None:
                    _put((self._screen.held() + self._screen.reset()).encode())
        if by_hand:
            sys.stdout.write("" if self._at_begin else "\n")
            sys.stdout.write(f"kept in {from_home(self._kept.path)}\n")

    def _turn(self, wait: float) -> None:
        from yarrik.console import Ordered, Typed

        sources: list[int] = [self._line.fileno()] + ([self._typing] if self._typing is not None else [])
        ready = select.select(sources, [], [], wait)[0]
        if self._line.fileno() in ready:
            data = self._line.read()
            if not data:
                self._gone()
                return
            self._came(data)
        if self._typing is not None and self._typing in ready:
            data = os.read(self._typing, 4096)
            if not data:
                self._typing = None
                if self._by_hand:
                    self._ended = True
                return
            if not self._by_hand:
                self._send(data.replace(b"\n", self._line.enter))
                return
            for event in self._keys.feed(data):
                if isinstance(event, Typed):
                    self._send(event.data)
                elif isinstance(event, Ordered):
                    self._obey(event.order)

    def _send(self, data: bytes) -> None:
        try:
            self._line.write(data)
        except OSError:
            self._gone()

    def _came(self, data: bytes) -> None:
        whole = not self._kept.lacking
        self._kept.write(data)
        if whole and self._kept.lacking:
            self._tell(f"CONSOLE-LOG: the log lacks what comes now: {self._kept.lacking}")
        if self._screen is None:
            _put(data)
            return
        text = self._screen.feed(data)
        _put((self._with_times(text) if self._times else text).encode())
        self._at_begin = text.endswith("\n") if text else self._at_begin
        if not self._hinted and self._screen.total > 64 and self._screen.strange > 0.3 * self._screen.total:
            self._hinted = True
            self._tell(f"most of this is no text: the board may have another speed than {self._about.port.speed} (--speed)")

    def _with_times(self, text: str) -> str:
        now = time.strftime("%H:%M:%S", time.localtime()) + f".{int(time.time() * 1000) % 1000:03d}"
        done = ""
        begins = self._at_begin
        for piece in text.splitlines(keepends=True):
            done += (f"\x1b[2m{now}\x1b[22m " if begins else "") + piece
            begins = piece.endswith("\n")
        return done

    def _tell(self, text: str) -> None:
        """A word of ours between the board's."""
        from yarrik.cli.terminal import one_line

        line = f"[{one_line(text)}]"
        if sys.stderr.isatty():
            begin = "\r" if self._at_begin else "\r\n"
            os.write(sys.stderr.fileno(), f"{begin}\x1b[2m{line}\x1b[22m\r\n".encode())
            self._at_begin = True
        else:
            sys.stderr.write(line + "\n")
            sys.stderr.flush()

    def _obey(self, order: str | None) -> None:
        from yarrik.errors import YarrikError

        if order == "quit":
            self._ended = True
        elif order == "break":
            self._tell("break sent" if self._line.send_break() else "this port has no break")
        elif order == "times":
            self._times = not self._times
            self._tell("times are shown" if self._times else "times are not shown")
        elif order == "power":
            if self._power is None:
                self._tell("no command for the power: declare power-cycle in a file that describes the port")
                return
            try:
                self._power()
                self._tell("power switched off and on")
            except YarrikError as error:
                self._tell("; ".join(f"{one.code}: {one.what} {one.why}".strip() for one in error.troubles))
        elif order == "send":
            self._send_file()
        else:
            keys = "q ends · b break · s send a file · p power off and on · t times"
            self._tell(f"after {self._key}: {keys} · {self._key} again sends it")

    def _send_file(self) -> None:
        from yarrik.console import TransferFailed, send_file

        with _cooked(sys.stdin):
            sys.stdout.write("" if self._at_begin else "\n")
            sys.stdout.flush()
            name = _asked_file()
        self._at_begin = True
        if not name:
            return
        try:
            data = Path(name).expanduser().read_bytes()
        except OSError as error:
            self._tell(f"{name} cannot be read: {error.strerror}")
            return
        began = time.monotonic()

        def say(sent: int) -> None:
            os.write(2, f"\r{sent / max(1, len(data)):4.0%} of {len(data)} bytes; Ctrl-C stops ".encode())
            self._at_begin = False

        def stopped() -> bool:
            return bool(select.select([sys.stdin], [], [], 0)[0]) and b"\x03" in os.read(sys.stdin.fileno(), 100)

        self._tell(f"sends {Path(name).name} by {self._by}; waits for the board's side")
        try:
            send_file(self._line, Path(name).name, data, self._by, say, stopped)
            self._tell(f"sent, {len(data)} bytes in {time.monotonic() - began:.1f} s")
        except TransferFailed as error:
            self._tell(f"not sent: {error}")
        except OSError:
            self._gone()

    def _gone(self) -> None:
        """The port went away: one of an adapter may come back."""
        from yarrik.console import awaited

        self._line.close()
        if self._about.simulated is not None or "://" in self._about.port.device or not self._by_hand:
            self._tell(f"{self._line.name} ended")
            self._ended = True
            return
        self._tell(f"{self._line.name} is gone; waits for it ({self._key} q ends)")
        line = awaited(self._about.port, self._given_up)
        if line is None:
            self._ended = True
            return
        self._line = line
        self._tell(f"{self._line.name} is there again")

    def _given_up(self) -> bool:
        from yarrik.console import Ordered

        if not select.select([sys.stdin], [], [], 0)[0]:
            return False
        data = os.read(sys.stdin.fileno(), 100)
        return not data or any(isinstance(one, Ordered) and one.order == "quit" for one in self._keys.feed(data))


def _asked_file() -> str:
    """Asks for the name of a file, which Tab completes."""
    import readline

    def complete(text: str, number: int) -> str | None:
        path = Path(text).expanduser()
        folder, begin = (path, "") if text.endswith("/") or not text else (path.parent, path.name)
        with contextlib.suppress(OSError):
            names = sorted(f"{one}/" if one.is_dir() else str(one) for one in folder.iterdir() if one.name.startswith(begin))
            return names[number] if number < len(names) else None
        return None

    readline.set_completer(complete)
    readline.set_completer_delims("")
    readline.parse_and_bind("tab: complete")
    try:
        return input("file to send: ").strip()
    except (EOFError, KeyboardInterrupt):
        return ""
    finally:
        readline.set_completer(None)


@contextmanager
def _raw(stream: TextIO) -> Iterator[bool]:
    """The terminal gives each key as it is typed; False when it is none, and nothing was changed."""
    import signal
    import termios
    import tty

    if not stream.isatty():
        yield False
        return
    before = termios.tcgetattr(stream)

    def ended(number: int, frame: object) -> None:
        raise KeyboardInterrupt

    hangup = signal.signal(signal.SIGHUP, ended)
    try:
        tty.setraw(stream, termios.TCSADRAIN)
        yield True
    finally:
        termios.tcsetattr(stream, termios.TCSADRAIN, before)
        signal.signal(signal.SIGHUP, hangup)


@contextmanager
def _cooked(stream: TextIO) -> Iterator[None]:
    """The terminal as programs usually have it, for a question."""
    import termios

    raw = termios.tcgetattr(stream)
    cooked = termios.tcgetattr(stream)
    cooked[0] |= termios.ICRNL | termios.IXON
    cooked[1] |= termios.OPOST
    cooked[3] |= termios.ICANON | termios.ECHO | termios.ISIG | termios.IEXTEN
    termios.tcsetattr(stream, termios.TCSADRAIN, cooked)
    try:
        yield
    finally:
        termios.tcsetattr(stream, termios.TCSADRAIN, raw)
