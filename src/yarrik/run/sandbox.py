"""Runs a step's commands shut off from the machine: bubblewrap where it works, plain processes where it does not.

Inside, a step's folder is always `/step`, the environment holds declared names only, there is no network, and user,
host name, umask, time zone and locale are the same everywhere.
"""

from __future__ import annotations

import contextlib
import os
import select
import shutil
import signal
import subprocess
import threading
import time
import weakref
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import BinaryIO

from yarrik.plan.steps import UNBOUND, Bounds
from yarrik.run.budget import JobBudget
from yarrik.units import shown_seconds, shown_size

INSIDE = "/step"
_SYSTEM_FOLDERS = ("/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32")
#: Seconds that a step has to end by itself when it is asked to.
GRACE = 3.0
#: Seconds between two looks at what a running command has taken.
_EVERY = 1.0
_SYSTEM_FILES = ("/etc/alternatives", "/etc/ld.so.cache", "/etc/ld.so.conf", "/etc/ld.so.conf.d")


@dataclass(eq=False)
class Sandbox:
    """How commands run on this machine. `programs` are paths of compilers that must be reachable inside, `folders` are
    unpacked toolchains."""

    programs: tuple[str, ...] = ()
    folders: tuple[str, ...] = ()
    allowed: bool = True
    budget: JobBudget | None = None
    _processes: set[subprocess.Popen[bytes]] = field(default_factory=set)
    _lock: threading.RLock = field(default_factory=threading.RLock)
    stopped: bool = False

    def __post_init__(self) -> None:
        _all.add(self)

    @cached_property
    def bubblewrap(self) -> str | None:
        """The path of bubblewrap if it is there and the kernel lets it work."""
        found = shutil.which("bwrap") if self.allowed else None
        if found is None:
            return None
        trial = [found, "--unshare-all", "--ro-bind", "/", "/", "--proc", "/proc", "--dev", "/dev", "true"]
        try:
            done = subprocess.run(trial, stdin=subprocess.DEVNULL, capture_output=True, timeout=20)
        except (OSError, subprocess.TimeoutExpired):
            return None
        return found if done.returncode == 0 else None

    @property
    def note(self) -> str:
        """What is to be said when steps are not shut off; empty when they are."""
        if self.bubblewrap is not None:
            return ""
        if not self.allowed:
            return "steps ran without a sandbox, as asked"
        if shutil.which("bwrap") is None:
            return "steps ran without a sandbox, so they could see this machine: apt-get install bubblewrap"
        return "steps ran without a sandbox: bubblewrap is here, but this kernel or container does not let it work"

    def inside(self, work: Path) -> str:
        """The path of a step's folder as its commands see it."""
        return INSIDE if self.bubblewrap is not None else str(work)

    def run(
        self,
        command: Sequence[str],
        work: Path,
        folder: str,
        environment: Mapping[str, str],
        read_only: Iterable[str],
        jobs: int,
        log: BinaryIO,
        bounds: Bounds = UNBOUND,
        until: float | None = None,
    ) -> int:
        """Runs one command and returns its exit code; its output goes to `log`.

        `{step}` and `{jobs}` are filled in. `read_only` names folders below `work` that must not be changed. Raises OverBound
        when the log becomes larger than `bounds` allow, or when `until`, a time of the monotonic clock, has come."""
        root = self.inside(work)

        def filled(text: str) -> str:
            return text.replace("{step}", root).replace("{jobs}", str(jobs))

        inner = self._environment(root) | {key: filled(value) for key, value in environment.items()}
        shared: tuple[int, ...] = ()
        if self.budget is not None:
            # With a number of its own, make would leave the budget.
            command = [word for word in command if word != "-j{jobs}"]
            inner |= self.budget.environment
            shared = self.budget.descriptors
        arguments = [filled(word) for word in command]
        here = filled(folder)
        if self.bubblewrap is not None:
            arguments = [*self._wrapped(work, here, inner, read_only), *arguments]
            inner, here = {}, "/"
        log.write(("$ " + " ".join(filled(word) for word in command) + "\n").encode())
        log.flush()
        try:
            process = subprocess.Popen(
                arguments, cwd=here, env=inner, stdin=subprocess.DEVNULL, stdout=log, stderr=subprocess.STDOUT, umask=0o022,
                pass_fds=shared, start_new_session=True,
            )  # fmt: skip
        except OSError as error:
            log.write(f"{arguments[0]}: cannot be started: {error.strerror}\n".encode())
            return 127
        with self._lock:
            self._processes.add(process)
            if self.stopped:
                _signal(process, signal.SIGKILL)
        try:
            return _watched(process, log, bounds, until)
        finally:
            with self._lock:
                self._processes.discard(process)

    def at_terminal(self, command: Sequence[str], work: Path, environment: Mapping[str, str], read_only: Iterable[str]) -> int:
        """Runs a command as a step's would be run, but at this terminal, in the step's own folder; returns its exit code."""
        root = self.inside(work)
        inner = self._environment(root) | {key: text.replace("{step}", root) for key, text in environment.items()}
        inner["TERM"] = os.environ.get("TERM", "dumb")
        arguments = list(command)
        if self.bubblewrap is not None:
            wrapped = [word for word in self._wrapped(work, root, inner, read_only) if word != "--new-session"]
            arguments, inner, root = [*wrapped, *arguments], {}, "/"
        return subprocess.run(arguments, cwd=root, env=inner, umask=0o022, check=False).returncode

    def _environment(self, root: str) -> dict[str, str]:
        return {
            "PATH": self._path(root),
            "HOME": f"{root}/home",
            "TMPDIR": "/tmp" if self.bubblewrap is not None else f"{root}/tmp",
            "LC_ALL": "C",
            "TZ": "UTC0",
        }

    def stop(self) -> None:
        """Asks all that is running to end, and ends what does not; commands started later end at once."""
        with self._lock:
            self.stopped = True
            for process in self._processes:
                _signal(process, signal.SIGTERM)
        threading.Thread(target=self._end, daemon=True).start()

    def _end(self) -> None:
        time.sleep(GRACE)
        self.kill()

    def kill(self) -> None:
        """Ends all that is running at once."""
        with self._lock:
            self.stopped = True
            for process in self._processes:
                _signal(process, signal.SIGKILL)

    def _path(self, root: str) -> str:
        folders = [f"{root}/tools/usr/bin", f"{root}/tools/bin"]
        folders += [str(Path(program).parent) for program in self.programs]
        folders += ["/usr/local/bin", "/usr/bin", "/bin", "/usr/sbin", "/sbin"]
        return ":".join(dict.fromkeys(folders))

    def _wrapped(self, work: Path, folder: str, environment: Mapping[str, str], read_only: Iterable[str]) -> list[str]:
        assert self.bubblewrap is not None
        words = [self.bubblewrap, "--unshare-all", "--die-with-parent", "--new-session", "--clearenv"]
        words += ["--uid", "1000", "--gid", "1000", "--hostname", "yarrik"]
        for key, value in sorted(environment.items()):
            words += ["--setenv", key, value]
        words += ["--ro-bind", "/usr", "/usr"]
        for system in _SYSTEM_FOLDERS:
            path = Path(system)
            if path.is_symlink():
                words += ["--symlink", os.readlink(path), system]
            elif path.is_dir():
                words += ["--ro-bind", system, system]
        for system in _SYSTEM_FILES:
            words += ["--ro-bind-try", system, system]
        words += ["--proc", "/proc", "--dev", "/dev", "--tmpfs", "/tmp"]
        # Behind the empty /tmp, which would hide what lies there.
        for top in sorted(({_installation(program) for program in self.programs} | set(self.folders)) - {""}):
            words += ["--ro-bind", top, top]
        words += ["--bind", str(work), INSIDE]
        for name in read_only:
            if (work / name).is_dir():
                words += ["--ro-bind", str(work / name), f"{INSIDE}/{name}"]
        return [*words, "--chdir", folder, "--"]


#: All sandboxes of this process, for one that has to end at once.
_all: weakref.WeakSet[Sandbox] = weakref.WeakSet()


def kill_all() -> None:
    """Ends all that runs in any sandbox of this process."""
    for sandbox in list(_all):
        sandbox.kill()


class OverBound(Exception):
    """A command was ended since it went over a bound; the message tells which, as what it did."""


def _watched(process: subprocess.Popen[bytes], log: BinaryIO, bounds: Bounds, until: float | None) -> int:
    """Waits for a command, and ends it when it goes over a bound."""
    handle = os.pidfd_open(process.pid)
    try:
        poll = select.poll()
        poll.register(handle, select.POLLIN)
        while not poll.poll(_EVERY * 1000):
            over = ""
            if bounds.output and os.fstat(log.fileno()).st_size > bounds.output:
                over = f"wrote more than {shown_size(bounds.output)} into its log"
            elif until is not None and time.monotonic() > until:
                over = f"took longer than {shown_seconds(bounds.seconds)}"
            if over:
                _signal(process, signal.SIGKILL)
                process.wait()
                raise OverBound(over)
    finally:
        os.close(handle)
    return process.wait()


def _signal(process: subprocess.Popen[bytes], number: int) -> None:
    """Sends a signal to a command and to all that it started."""
    with contextlib.suppress(ProcessLookupError):
        if process.returncode is None:
            os.killpg(process.pid, number)


def _installation(program: str) -> str:
    """The folder that a compiler outside the system's own folders lives in; empty for those inside."""
    real = Path(program).resolve()
    if str(real).startswith(("/usr/", *(f"{folder}/" for folder in _SYSTEM_FOLDERS))):
        return ""
    return str(real.parent.parent if real.parent.name == "bin" else real.parent)
