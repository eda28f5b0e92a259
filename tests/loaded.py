"""The program, started by a fork of a process that has its modules loaded: half of the time of most tests is the start of Python.

The process imports modules, and does nothing else, ever; so each run begins as one of `python -m yarrik` does that finds its modules
loaded. What the start of Python itself depends on, it gets from the environment of the tests: a run with another one, and tests
of what may differ from one start to the next, start Python anew."""

from __future__ import annotations

import array
import gc
import importlib
import json
import os
import pkgutil
import re
import select
import signal
import socket
import subprocess
import sys
import tempfile
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NoReturn

#: Variables that are looked at when Python, a library or a module begins, and never again.
EARLY = re.compile(r"(PYTHON|LC_|LANG|LD_|OPENBLAS|OMP_|MALLOC|TERM|FORCE_|GITHUB_|_TYPER|COVERAGE).*|TZ|GLIBC_TUNABLES")
_LENGTH = 4


def serves(environment: Mapping[str, str]) -> bool:
    """Whether a run with this environment may be a fork: it is ours in all that is looked at early. Lines that somebody counts
    are counted in each process that is started."""
    if any(name.startswith("COVERAGE") for name in os.environ):
        return False
    return all(
        environment.get(name) == os.environ.get(name)
        for name in environment.keys() | os.environ.keys()
        if EARLY.fullmatch(name)
    )


class Loaded:
    """The process with the modules, and runs of the program as its forks."""

    def __init__(self) -> None:
        ours, theirs = socket.socketpair()
        with theirs:
            self._process = subprocess.Popen([sys.executable, "-m", "tests.loaded", str(theirs.fileno())],
                                             cwd=Path(__file__).parent.parent, stdin=subprocess.DEVNULL, pass_fds=[theirs.fileno()])  # fmt: skip
        self._line = ours
        self._owner = os.getpid()
        self._asking = threading.Lock()

    def ours(self) -> bool:
        """Whether this process may use it: one that was forked from ours, or after it ended, needs its own."""
        return self._owner == os.getpid() and self._process.poll() is None

    def close(self) -> None:
        """Ends it."""
        self._line.close()
        self._process.wait()

    def run(
        self, words: Sequence[str], at: Path, environment: Mapping[str, str], seconds: float
    ) -> subprocess.CompletedProcess[bytes]:
        """Runs `yarrik WORDS...` to its end, as `subprocess.run` does with captured output. A `TimeoutExpired` ends it."""
        with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as errors, open(os.devnull, "rb") as nothing:
            told, tells = os.pipe()
            with open(told, "rb", buffering=0) as told_file:
                text = json.dumps({"words": list(words), "at": os.fspath(at), "environment": dict(environment)}).encode()
                try:
                    fds = array.array("i", [nothing.fileno(), out.fileno(), errors.fileno(), tells])
                    with self._asking:  # threads may ask at the same time
                        self._line.sendmsg([len(text).to_bytes(_LENGTH, "big")], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, fds)])
                        self._line.sendall(text)
                finally:
                    os.close(tells)
                process = int(told_file.read(10))
                if not select.select([told_file], [], [], seconds)[0]:
                    os.kill(process, signal.SIGKILL)
                    told_file.read(10)
                    raise subprocess.TimeoutExpired(list(words), seconds)
                code = int(told_file.read(10))
            out.seek(0)
            errors.seek(0)
            return subprocess.CompletedProcess(list(words), code, out.read(), errors.read())


def _load() -> None:
    """Imports what the commands use. The modules of the command line register commands as they come: those stay for the run."""
    import yarrik
    import yarrik.cli.view

    for module in pkgutil.walk_packages(yarrik.__path__, "yarrik."):
        if module.name != "yarrik.__main__" and not module.name.startswith("yarrik.cli.") and ".data" not in module.name:
            importlib.import_module(module.name)
    gc.collect()
    gc.freeze()  # no run looks through what was there before it
    threads = list(Path("/proc/self/task").iterdir())
    assert len(threads) == 1, f"a module starts threads when it is loaded: {len(threads)}"


def _run(asked: dict[str, object], fds: Sequence[int]) -> NoReturn:
    """Becomes the program."""
    for number, fd in enumerate(fds):
        os.dup2(fd, number)
    os.closerange(3, 256)
    os.environ.clear()
    os.environ.update(asked["environment"])  # type: ignore[call-overload]
    os.chdir(str(asked["at"]))
    from yarrik import __main__ as module

    sys.modules["__main__"] = module
    sys.path[0] = str(Path.cwd())
    sys.argv = [str(module.__file__), *asked["words"]]  # type: ignore[misc]
    module.main()


def _serve(line: socket.socket) -> None:
    """Forks for each run that is asked for, until nobody can ask any more."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    while True:
        size, fds, _, _ = socket.recv_fds(line, _LENGTH, 4)
        if not size:
            return
        text = b""
        while len(text) < int.from_bytes(size, "big"):
            text += line.recv(int.from_bytes(size, "big") - len(text))
        # One that looks after the run, so that others may be asked for meanwhile.
        if os.fork() == 0:
            line.close()
            process = os.fork()
            if process == 0:
                _run(json.loads(text), fds[:3])
            for fd in fds[:3]:
                os.close(fd)
            os.write(fds[3], b"%10d" % process)
            _, status = os.waitpid(process, 0)
            os.write(fds[3], b"%10d" % os.waitstatus_to_exitcode(status))
            os._exit(0)
        for fd in fds:
            os.close(fd)
        while True:  # those that have ended
            try:
                if os.waitpid(-1, os.WNOHANG)[0] == 0:
                    break
            except ChildProcessError:
                break


if __name__ == "__main__":
    _load()
    _serve(socket.socket(fileno=int(sys.argv[1])))
