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
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

import msgspec

from yarrik.cache import Store, default_root
from yarrik.host import sight_of
from yarrik.plan import UNBOUND, runs_commands
from yarrik.run.host_view import view_of, views_in
from yarrik.run.terminal import run_at_terminal
from yarrik.units import shown_seconds, shown_size

if TYPE_CHECKING:
    from yarrik.plan import Bounds, Step
    from yarrik.run.budget import JobBudget
    from yarrik.run.host_view import View

INSIDE = "/step"
#: Seconds that a step has to end by itself when it is asked to.
GRACE = 2.0
#: Seconds between two looks at what a running command has taken.
_EVERY = 0.25
#: Folders of the root that a sandbox has of its own.
_OWN_FOLDERS = ("proc", "dev", "tmp")


class Sees(msgspec.Struct, frozen=True):
    """What a command sees of this machine beside a shell's usual programs: a toolchain, by the line that shows it, and further
    programs by name."""

    toolchain: str = ""
    programs: tuple[str, ...] = ()


NOTHING_MORE = Sees()
#: In place of a toolchain: whichever compiles for the board.
THE_BOARDS = "the board's"


def _own_view(sees: Sees) -> View:
    return view_of(sight_of(sees.programs), views_in(Store(default_root())))


class Sandbox(msgspec.Struct, eq=False, dict=True, weakref=True):
    """How commands run on this machine. `programs` are paths of compilers whose folders are searched inside; `look` gives what
    of this machine is seen."""

    programs: tuple[str, ...] = ()
    look: Callable[[Sees], View] = _own_view
    allowed: bool = True
    budget: JobBudget | None = None
    _processes: set[subprocess.Popen[bytes]] = msgspec.field(default_factory=set)
    _seen: dict[Sees, list[str]] = msgspec.field(default_factory=dict)
    _lock: threading.RLock = msgspec.field(default_factory=threading.RLock)
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
        sees: Sees = NOTHING_MORE,
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
            arguments = [*self._wrapped(work, here, inner, read_only, sees), *arguments]
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

    def at_terminal(
        self, command: Sequence[str], work: Path, environment: Mapping[str, str], read_only: Iterable[str], sees: Sees
    ) -> int:
        """Runs a command as a step's would be run, but at this terminal, in the step's own folder; returns its exit code."""
        root = self.inside(work)
        inner = self._environment(root) | {key: text.replace("{step}", root) for key, text in environment.items()}
        inner["TERM"] = os.environ.get("TERM", "dumb")
        arguments = list(command)
        if self.bubblewrap is not None:
            arguments, inner, root = [*self._wrapped(work, root, inner, read_only, sees, terminal=True), *arguments], {}, "/"
        return run_at_terminal(arguments, root, inner)

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
                # A sandbox ends hard in any case, with bubblewrap.
                _signal(process, signal.SIGTERM if self.bubblewrap is None else signal.SIGKILL)
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

    def _mounts(self, sees: Sees) -> list[str]:
        """The arguments for the host's files, the same for all commands that see the same of it."""
        with self._lock:
            if sees not in self._seen:
                self._seen[sees] = _mounts_of(self.look(sees))
            return self._seen[sees]

    def _path(self, root: str) -> str:
        # Of the sysroot, only programs that say how to build with a library.
        folders = [f"{root}/tools/usr/bin", f"{root}/tools/bin", f"{root}/sysroot/usr/bin"]
        folders += [str(Path(program).parent) for program in self.programs]
        folders += ["/usr/local/bin", "/usr/bin", "/bin", "/usr/sbin", "/sbin"]
        return ":".join(dict.fromkeys(folders))

    def _wrapped(
        self,
        work: Path,
        folder: str,
        environment: Mapping[str, str],
        read_only: Iterable[str],
        sees: Sees,
        terminal: bool = False,
    ) -> list[str]:
        """How bubblewrap is called. With `terminal`, the command keeps its controlling terminal, for job control."""
        assert self.bubblewrap is not None
        words = [self.bubblewrap, "--unshare-all", "--die-with-parent", "--clearenv"]
        words += [] if terminal else ["--new-session"]
        words += ["--uid", "1000", "--gid", "1000", "--hostname", "yarrik"]
        for key, value in sorted(environment.items()):
            words += ["--setenv", key, value]
        words += [*self._mounts(sees), "--bind", str(work), INSIDE]
        with os.scandir(work) as found:
            # A command before this one may have left a link to one of the host's folders here.
            folders = {entry.name for entry in found if entry.is_dir(follow_symlinks=False)}
        for name in read_only:
            if name in folders:
                words += ["--ro-bind", f"{work}/{name}", f"{INSIDE}/{name}"]
        return [*words, "--chdir", folder, "--"]


def _mounts_of(view: View) -> list[str]:
    """Arguments of bubblewrap that show a view as the root."""
    words: list[str] = []
    with os.scandir(view.root) as found:
        tops = sorted((top.name, os.readlink(top.path) if top.is_symlink() else "") for top in found)
    for name, target in tops:
        if name not in _OWN_FOLDERS:
            words += ["--symlink", target, f"/{name}"] if target else ["--ro-bind", f"{view.root}/{name}", f"/{name}"]
    words += ["--proc", "/proc", "--dev", "/dev", "--tmpfs", "/tmp"]
    # Behind the empty /tmp, which would hide what lies there.
    for top in view.folders:
        words += ["--ro-bind", top, top]
    return words


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
        before = _tasks_here()
        while not poll.poll(_EVERY * 1000):
            over = ""
            if _tasks_here() - before > bounds.processes and _tasks_of(process.pid) > bounds.processes:
                over = f"had more than {bounds.processes} processes and threads at a time"
            elif bounds.output and os.fstat(log.fileno()).st_size > bounds.output:
                over = f"wrote more than {shown_size(bounds.output)} into its log"
            elif until is not None and time.monotonic() > until:
                over = f"took longer than {shown_seconds(bounds.seconds)}"
            if over:
                _end_all(process)
                raise OverBound(over)
    finally:
        os.close(handle)
    return process.wait()


def _tasks_here() -> int:
    """How many processes and threads this machine has (proc(5), loadavg): one short read."""
    with open("/proc/loadavg", "rb") as file:
        return int(file.read().split()[3].partition(b"/")[2])


def _tasks_of(leader: int) -> int:
    """How many processes and threads a command has: itself, its group, and all that descend from it (proc(5), stat)."""
    rows: dict[int, tuple[int, int, int]] = {}
    for name in os.listdir("/proc"):  # noqa: PTH208 (thousands of names, asked for in a hurry)
        if name.isdecimal():
            try:
                data = Path(f"/proc/{name}/stat").read_bytes()
            except OSError:
                continue  # it has ended
            words = data.rpartition(b")")[2].split()
            rows[int(name)] = (int(words[1]), int(words[2]), int(words[17]))
    below: dict[int, list[int]] = {}
    for one, (parent, group, _) in rows.items():
        below.setdefault(parent, []).append(one)
        if group == leader and one != leader:
            below.setdefault(leader, []).append(one)
    found: set[int] = set()
    waiting = [leader]
    while waiting:
        one = waiting.pop()
        if one in rows and one not in found:
            found.add(one)
            waiting += below.get(one, [])
    return sum(rows[one][2] for one in found)


def _end_all(process: subprocess.Popen[bytes]) -> None:
    """Ends a command and its group, and waits for it. The first of a sandbox takes all that runs in there along."""
    _signal(process, signal.SIGKILL)
    process.wait()
    while True:  # in plain mode, a fork that was under way may have outlived the signal
        try:
            os.killpg(process.pid, signal.SIGKILL)
        except (ProcessLookupError, PermissionError):
            return
        time.sleep(0.01)


def _signal(process: subprocess.Popen[bytes], number: int) -> None:
    """Sends a signal to a command and to all that it started.

    What left the command's process group is ended at once. The first process of a sandbox did: it takes no signal but
    SIGKILL, and does not hear of the end of bubblewrap, its parent, before it has asked for that. So bubblewrap is
    halted while its children are looked up."""
    if process.returncode is not None:
        return
    with contextlib.suppress(ProcessLookupError, ChildProcessError):
        os.kill(process.pid, signal.SIGSTOP)
        deadline = time.monotonic() + 0.2
        while os.waitid(os.P_PID, process.pid, os.WSTOPPED | os.WEXITED | os.WNOWAIT | os.WNOHANG) is None:
            if time.monotonic() > deadline:
                break
            time.sleep(0.001)
    for child in _children(process.pid):
        with contextlib.suppress(ProcessLookupError):
            if os.getpgid(child) != process.pid or number == signal.SIGKILL:
                os.kill(child, signal.SIGKILL)
    with contextlib.suppress(ProcessLookupError):
        os.killpg(process.pid, number)
        os.kill(process.pid, signal.SIGCONT)


def _children(number: int) -> list[int]:
    """The processes that a process of ours started and that are still there; none where the kernel does not tell."""
    try:
        return [int(word) for word in Path(f"/proc/{number}/task/{number}/children").read_text().split()]
    except OSError:
        return []


def marked_open(steps: tuple[Step, ...], allowed: bool) -> tuple[Step, ...]:
    """Steps as they are on this machine: where there is no sandbox, or it is not `allowed`, those that run commands are marked,
    since what they leave is made in view of the whole machine."""
    if not any(runs_commands(step.action) for step in steps) or Sandbox(allowed=allowed).bubblewrap is not None:
        return steps
    return tuple(msgspec.structs.replace(step, open=True) if runs_commands(step.action) else step for step in steps)
