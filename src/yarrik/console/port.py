"""Serial ports: which there are, who has one open, and one open for us alone.

The ports themselves are the library pyserial's work: device files, and ports of a terminal server by RFC 2217. A plain TCP
connection to a terminal server, or to an emulator's console, does as well.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import grp
import os
import select
import socket
import stat
import termios
import threading
import time
import tomllib
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Literal, Protocol

import msgspec
from msgspec.structs import replace

from yarrik.beneath import regular_file
from yarrik.errors import Place, Trouble, Unfit, YarrikError
from yarrik.patterns import lazy_pattern

#: Seconds of a break: longer than a character at 300 bit/s, so that every receiver takes it for one.
_BREAK = 0.25
#: Seconds for a terminal server to answer, and for its port to take what is sent.
_CONNECT = 10.0
_URL = lazy_pattern(r"(socket|rfc2217)://(\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9._-]+):(\d{1,5})\Z")
#: Names of the kernel's serial ports that have hardware behind them, or may have.
_NAMES = ("ttyUSB*", "ttyACM*", "ttyAMA*", "ttyXRUSB*", "ttyS*", "ttymxc*", "ttySC*", "ttyO*", "ttyTHS*", "rfcomm*")
_UNPRINTABLE = lazy_pattern(r"[^\x20-\x7e]")


class PortSetup(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, rename="kebab"):
    """A port and how it is set: `device` is a path, `socket://HOST:PORT` or `rfc2217://HOST:PORT`.

    The commands, each a list of words, switch the board's power: `power-off` and `power-on`, or `power-cycle` for both."""

    device: str = ""
    speed: int = 115200
    data_bits: Literal[5, 6, 7, 8] = 8
    parity: Literal["none", "even", "odd", "mark", "space"] = "none"
    stop_bits: Literal[1, 2] = 1
    flow: Literal["none", "hardware", "software"] = "none"
    power_off: tuple[str, ...] = ()
    power_on: tuple[str, ...] = ()
    power_cycle: tuple[str, ...] = ()


class SimulatedSetup(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, rename="kebab"):
    """A board that does not exist: its name, the `card` in it (a file beside this one), and how many seconds its loader waits
    for a key."""

    name: str = "simulated board"
    card: str = ""
    prompt: str = "loader> "
    wait: int = 2


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    port: PortSetup = PortSetup()
    simulated: SimulatedSetup | None = None


class PortFile(msgspec.Struct, frozen=True):
    """What a file says of a port, or of a simulated board (then it has no device)."""

    file: Path
    port: PortSetup
    simulated: SimulatedSetup | None


def read_port_file(file: Path) -> PortFile:
    """Raises YarrikError for a file that describes no port."""
    try:
        found = msgspec.convert(tomllib.loads(regular_file(file).decode()), _File)
        setup = found.port
        if (found.simulated is None) == (not setup.device):
            raise Unfit("it has either a `device` in [port], or a table [simulated]")
        if found.simulated is not None and ("/" in found.simulated.card or found.simulated.card in (".", "..")):
            raise Unfit("`card` is the name of a file beside it, and no path")
        if setup.power_cycle and (setup.power_on or setup.power_off):
            raise Unfit("`power-cycle` does what `power-off` and `power-on` do together: it has one or the other")
        if bool(setup.power_on) != bool(setup.power_off):
            raise Unfit("`power-off` and `power-on` belong together")
        if setup.speed <= 0:
            raise Unfit("`speed` is in bit/s, and above zero")
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError, msgspec.ValidationError, Unfit) as error:
        why = error.strerror if isinstance(error, OSError) else str(error)
        raise YarrikError(
            Trouble("PORT-FILE", f"{file} describes no port: {why}", Place(file),
                    remedy='write a table [port] with device = "/dev/ttyUSB0"; docs/console.md has all keys')
        ) from error  # fmt: skip
    return PortFile(file, setup, found.simulated)


class FoundPort(msgspec.Struct, frozen=True):
    """A serial port of this machine. `maker`, `model` and `serial` are what a USB adapter says of itself; `by_name` is a path
    that stays the same when it is plugged in again; `users` are names and process numbers that have it open."""

    path: str
    maker: str = ""
    model: str = ""
    serial: str = ""
    by_name: str = ""
    users: tuple[tuple[str, int], ...] = ()


def found_ports(dev: Path = Path("/dev"), sys: Path = Path("/sys"), proc: Path = Path("/proc")) -> list[FoundPort]:
    """The serial ports of this machine that have hardware behind them, sorted by path."""
    by_name = {}
    for link in sorted((dev / "serial/by-id").glob("*")) if (dev / "serial/by-id").is_dir() else ():
        by_name[link.resolve().name] = str(link)
    found = []
    for path in sorted({path for pattern in _NAMES for path in (sys / "class/tty").glob(pattern)}):
        if not (path / "device").exists() or _text(path / "type") == "0":
            continue  # a port of the kernel's table that no chip is behind
        node = str(dev / path.name)
        folder = (path / "device").resolve()
        usb = next((one for one in (folder, *folder.parents) if (one / "idVendor").is_file()), None)
        maker, model, serial = (_text(usb / name) if usb is not None else "" for name in ("manufacturer", "product", "serial"))
        found.append(FoundPort(node, maker, model, serial, by_name.get(path.name, ""), tuple(users_of(node, proc))))
    return found


def _text(file: Path) -> str:
    """A line that the kernel has of a device: strangers wrote it."""
    try:
        with file.open("rb") as source:
            return _UNPRINTABLE.sub("", source.read(200).decode("utf-8", "replace")).strip()
    except OSError:
        return ""


def users_of(path: str, proc: Path = Path("/proc")) -> list[tuple[str, int]]:
    """Programs, with their process numbers, that have a device open, as far as this user may see them."""
    try:
        number = os.stat(path).st_rdev
    except OSError:
        return []
    found = []
    for process in sorted(int(one.name) for one in proc.glob("[0-9]*") if one.name.isdigit()):
        if process == os.getpid():
            continue
        with contextlib.suppress(OSError):
            for handle in sorted((proc / str(process) / "fd").iterdir()):
                with contextlib.suppress(OSError):
                    status = os.stat(handle)
                    if stat.S_ISCHR(status.st_mode) and status.st_rdev == number:
                        found.append((_text(proc / str(process) / "comm") or "a program", process))
                        break
    return found


class Port(Protocol):
    """An open port: both ways to a console, and a break."""

    enter: bytes
    name: str

    def fileno(self) -> int:
        """The descriptor that is readable when something came."""

    def read(self) -> bytes:
        """What came, at least one byte; nothing when the port is gone."""

    def write(self, data: bytes) -> None:
        """Sends all of `data`. Raises OSError."""

    def send_break(self) -> bool:
        """Holds the line in the state of a break for a quarter of a second; False where there is no such thing."""

    def close(self) -> None:
        """Closes it, and lets others have it."""


def open_port(setup: PortSetup) -> Port:
    """Opens a port for us alone. Raises YarrikError: it is not there, is none, may not be used, or somebody has it."""
    if "://" in setup.device:
        match = _URL.match(setup.device)
        if match is None or not 0 < int(match[3]) < 65536:
            raise YarrikError(Trouble("PORT-MISSING", f"`{setup.device}` is no port", why="ports of other machines are named "
                                      "socket://HOST:PORT or rfc2217://HOST:PORT", remedy="correct it"))  # fmt: skip
        try:
            return _Socket(setup.device, match[2].strip("[]"), int(match[3])) if match[1] == "socket" else _Pumped(setup)
        except OSError as error:
            raise _unreachable(setup.device, error) from error
    return _opened_device(setup)


def _unreachable(device: str, error: OSError) -> YarrikError:
    return YarrikError(Trouble("PORT-MISSING", f"{device} cannot be reached: {error.strerror or error}",
                               why="the port is one of another machine, over the network",
                               remedy="look whether its server runs, and for its name and number"))  # fmt: skip


def _opened_device(setup: PortSetup) -> Port:
    path = setup.device
    place = Place(Path(path))
    try:
        status = os.stat(path)
    except OSError as error:
        there = [one.path for one in found_ports()]
        raise YarrikError(
            Trouble("PORT-MISSING", f"there is no port {path}: {error.strerror}", place,
                    remedy=f"this machine has {', '.join(there)}" if there else "plug the adapter in; then: yarrik console")
        ) from error  # fmt: skip
    if not _is_serial(status):
        raise YarrikError(Trouble("PORT-UNFIT", f"{path} is no serial port", place, remedy="list them: yarrik console"))
    users = users_of(path)
    if users:
        who = " and ".join(f"{name} (process {number})" for name, number in users)
        raise YarrikError(Trouble("PORT-BUSY", f"{path} is in use by {who}", place, remedy="end that, then try again",
                                  why="of two readers, each gets a part of what the board says"))  # fmt: skip
    try:
        return _Device(setup)
    except OSError as error:
        if error.errno in (errno.EACCES, errno.EPERM):
            raise YarrikError(Trouble("PORT-FORBIDDEN", f"you may not use {path}", place, why=_owner(status),
                                      remedy="have yourself added to that group, then log in again")) from error  # fmt: skip
        if error.errno in (errno.EBUSY, errno.EAGAIN, errno.EWOULDBLOCK):
            raise YarrikError(Trouble("PORT-BUSY", f"{path} is in use", place, remedy="end the program that has it",
                                      why="another user's program has it for itself alone")) from error  # fmt: skip
        raise YarrikError(Trouble("PORT-UNFIT", f"{path} is no serial port: {error.strerror or error}", place,
                                  remedy="list them: yarrik console")) from error  # fmt: skip
    except ValueError as error:
        raise YarrikError(Trouble("PORT-UNFIT", f"{path} cannot be set so: {error}", place,
                                  remedy="take a speed that it has, such as 115200")) from error  # fmt: skip


def _is_serial(status: os.stat_result, sys: Path = Path("/sys")) -> bool:
    """Whether a device is a serial port, or a pseudo-terminal's end: known without opening it, which some devices take for an
    order (a watchdog begins to run)."""
    if not stat.S_ISCHR(status.st_mode):
        return False
    major, minor = os.major(status.st_rdev), os.minor(status.st_rdev)
    # Numbers of the kernel's list of devices (Documentation/admin-guide/devices.txt): pseudo-terminals, then this machine's own
    # screens and the process's own terminal.
    if 136 <= major <= 143:
        return True
    if major == 5 or (major == 4 and minor < 64):
        return False
    numbers = sys / "dev/char"
    return not numbers.is_dir() or (numbers / f"{major}:{minor}/subsystem").resolve().name == "tty"


def _owner(status: os.stat_result) -> str:
    try:
        name = grp.getgrgid(status.st_gid).gr_name
    except KeyError:
        name = str(status.st_gid)
    return f"it belongs to the group {name}"


def _library(setup: PortSetup) -> dict[str, Any]:
    import serial

    parities = {"none": serial.PARITY_NONE, "even": serial.PARITY_EVEN, "odd": serial.PARITY_ODD,
                "mark": serial.PARITY_MARK, "space": serial.PARITY_SPACE}  # fmt: skip
    return {
        "baudrate": setup.speed, "bytesize": setup.data_bits, "parity": parities[setup.parity], "stopbits": setup.stop_bits,
        "rtscts": setup.flow == "hardware", "xonxoff": setup.flow == "software", "timeout": 0,
    }  # fmt: skip


class _Device:
    """A port that is a device file of this machine."""

    enter = b"\r"

    def __init__(self, setup: PortSetup) -> None:
        import serial

        self.name = setup.device
        try:
            self._port = serial.Serial(setup.device, exclusive=True, **_library(setup))
        except serial.SerialException as error:
            # The library puts its own words around the system's error, and keeps its number for some of them only.
            cause = error.__context__
            number = error.errno or (cause.errno if isinstance(cause, OSError) else None) or errno.ENOTTY
            raise OSError(number, os.strerror(number)) from error
        except termios.error as error:
            raise OSError(*error.args) from error
        with contextlib.suppress(OSError):
            # The library's lock is a word among friends; this one holds for all but the system's administrator (tty_ioctl(4)).
            fcntl.ioctl(self._port.fileno(), termios.TIOCEXCL)

    def fileno(self) -> int:
        return int(self._port.fileno())

    def read(self) -> bytes:
        while True:
            try:
                return os.read(self.fileno(), 65536)
            except BlockingIOError:
                select.select([self], [], [])
            except OSError:
                return b""

    def write(self, data: bytes) -> None:
        self._port.write(data)

    def send_break(self) -> bool:
        self._port.send_break(_BREAK)
        return True

    def close(self) -> None:
        with contextlib.suppress(OSError, termios.error):
            self._port.close()


class _Socket:
    """A port of a terminal server, or an emulator's, as a plain TCP connection."""

    enter = b"\r"

    def __init__(self, name: str, host: str, port: int) -> None:
        self.name = name
        self._socket = socket.create_connection((host, port), _CONNECT)
        self._socket.settimeout(None)

    def fileno(self) -> int:
        return self._socket.fileno()

    def read(self) -> bytes:
        try:
            return self._socket.recv(65536)
        except OSError:
            return b""

    def write(self, data: bytes) -> None:
        self._socket.sendall(data)

    def send_break(self) -> bool:
        return False

    def close(self) -> None:
        self._socket.close()


class _Pumped:
    """A port of a terminal server by RFC 2217. The library reads it in a thread of its own, so that it has no descriptor to
    wait for: a pipe stands between."""

    enter = b"\r"

    def __init__(self, setup: PortSetup) -> None:
        import serial

        self.name = setup.device
        try:
            self._port = serial.serial_for_url(setup.device, **{**_library(setup), "timeout": 0.2})
        except (serial.SerialException, ValueError) as error:
            raise OSError(errno.EHOSTUNREACH, str(error).rpartition("] ")[2] or "no answer") from error
        self._from, self._to = os.pipe()
        self._ended = threading.Event()
        threading.Thread(target=self._pump, daemon=True).start()

    def _pump(self) -> None:
        with contextlib.suppress(OSError, TypeError, AttributeError):  # the library's, when the port is closed meanwhile
            while not self._ended.is_set():
                data = self._port.read(1)
                if data:
                    os.write(self._to, data + self._port.read(self._port.in_waiting))
        os.close(self._to)

    def fileno(self) -> int:
        return self._from

    def read(self) -> bytes:
        return os.read(self._from, 65536)

    def write(self, data: bytes) -> None:
        self._port.write(data)

    def send_break(self) -> bool:
        self._port.send_break(_BREAK)
        return True

    def close(self) -> None:
        self._ended.set()
        with contextlib.suppress(OSError):
            self._port.close()
        os.close(self._from)


def switch_power(command: Sequence[str], file: Path, seconds: float = 60) -> None:
    """Runs a declared command that switches a board's power. Raises YarrikError when it fails or comes to no end."""
    import subprocess

    place = Place(file, key="port")
    shown = " ".join(command)
    try:
        done = subprocess.run(command, stdin=subprocess.DEVNULL, capture_output=True, timeout=seconds, cwd=file.parent)
    except FileNotFoundError as error:
        raise YarrikError(Trouble("POWER-FAILED", f"the command `{command[0]}` is not on this machine", place,
                                  remedy="install it, or correct its name"), "work") from error  # fmt: skip
    except subprocess.TimeoutExpired as error:
        raise YarrikError(Trouble("POWER-FAILED", f"`{shown}` came to no end within {seconds:.0f} s", place,
                                  remedy="try it by hand"), "work") from error  # fmt: skip
    except OSError as error:
        raise YarrikError(Trouble("POWER-FAILED", f"`{shown}` cannot be started: {error.strerror}", place,
                                  remedy="try it by hand"), "work") from error  # fmt: skip
    if done.returncode != 0:
        last = (done.stderr or done.stdout).decode("utf-8", "replace").strip().splitlines()[-1:]
        raise YarrikError(Trouble("POWER-FAILED", f"`{shown}` failed with {done.returncode}", place,
                                  why=last[0] if last else "", remedy="try it by hand"), "work")  # fmt: skip


def awaited(setup: PortSetup, given_up: Callable[[], bool], pause: float = 0.3) -> Port | None:
    """The port, once it is there again after its adapter was unplugged; None when `given_up()` is true before."""
    while not given_up():
        with contextlib.suppress(YarrikError):
            return open_port(setup)
        time.sleep(pause)
    return None


def port_named(word: str, speed: int | None) -> PortFile:
    """What is meant by a word: a file that describes a port (`.toml`), a device file, or a port of another machine. `speed` (in
    bit/s) counts for more than the file's. Raises YarrikError."""
    if word.endswith(".toml"):
        found = read_port_file(Path(word))
        return found if speed is None else replace(found, port=msgspec.structs.replace(found.port, speed=speed))
    return PortFile(Path(word), PortSetup(device=word, speed=speed or 115200), None)
