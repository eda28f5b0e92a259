"""A kernel's configuration changed by hand: its own option menu on the configured tree, and the difference as a fragment."""

from __future__ import annotations

import os
import re
import subprocess
from dataclasses import dataclass
from pathlib import Path

import tomlkit
import tomlkit.exceptions
from tomlkit.items import Table

from yarrik.atomic import write_file
from yarrik.beneath import remove_folder
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.model import Composition
from yarrik.plan import ConfigureKernel, Step
from yarrik.run.kernel_config import options
from yarrik.run.session import Session

_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]*\Z")


@dataclass(frozen=True)
class Fragment:
    """What was changed: where the fragment is, the options it sets with former and new values, and whose list it is on."""

    file: Path
    changes: dict[str, tuple[str, str]]
    board_file: Path


class KernelWork:
    """A product's configured kernel in a folder of the workspace, for somebody to change. Raises YarrikError."""

    def __init__(self, session: Session, composition: Composition) -> None:
        self.session, self.composition = session, composition
        self.folder = session.project.folder / "kernel" / composition.name
        found = [step for step in session.planner.planned(composition).graph.steps if isinstance(step.action, ConfigureKernel)]
        if not found:
            board = composition.board
            raise YarrikError(
                Trouble("KERNEL-NOT-BUILT", f"the kernel of `{composition.name}` is not built from source",
                        board.place("kernel", "recipe"), why="only then it has options that could be changed",
                        remedy='name another product, or a kernel recipe with `using = "kernel"`')
            )  # fmt: skip
        self.step: Step = found[0]
        assert isinstance(self.step.action, ConfigureKernel)
        self.action = self.step.action

    def open_menu(self, goal: str = "menuconfig") -> None:
        """Lays the configured tree out (a former one is used again) and runs the kernel's own option menu in this terminal."""
        self._lay_out()
        code = self._make(goal, inherit=True)
        if code != 0:
            raise YarrikError(
                Trouble("KERNEL-MENU", f"the kernel's `{goal}` ended with exit code {code}", Place(self.folder),
                        why="the menu needs a terminal and the curses library",
                        remedy="on Debian: apt-get install libncurses-dev pkg-config; then try again"),
                "work",
            )  # fmt: skip

    def _lay_out(self) -> None:
        outputs = self.session.builder.run_up_to(self.session.planner.planned(self.composition), self.step.name)
        store = self.session.project.store
        mark = self.folder / "made-from"
        config = outputs["config"]
        if mark.is_file() and mark.read_text().strip() == config:
            return
        if mark.is_file() and self._changed():
            raise YarrikError(
                Trouble("KERNEL-CHANGES", "the kernel's options were changed by hand, and the board since",
                        Place(self.folder), why="laying the tree out anew would throw the changes away",
                        remedy="keep them: yarrik kernel fragment NAME; or remove the folder")
            )  # fmt: skip
        remove_folder(self.folder)
        source_step, source_output = self.step.inputs["source"]
        source = self.session.builder.run_up_to(self.session.planner.planned(self.composition), source_step)[source_output]
        # The kernel is configured out of its tree, so that one is only read: links instead of a gigabyte of copies.
        store.lay_out(store.tree(source), self.folder / "source", writable=False)
        store.lay_out(store.tree(config), self.folder / "build", writable=True)
        (self.folder / "before.config").write_bytes((self.folder / "build" / ".config").read_bytes())
        mark.write_text(config + "\n")

    def _changed(self) -> bool:
        """Whether options differ from those that the board's fragments give."""
        before, after = self.folder / "before.config", self.folder / "build" / ".config"
        if not before.is_file() or not after.is_file():
            return False
        return _values(before.read_text()) != _values(after.read_text())

    def _make(self, goal: str, inherit: bool = False) -> int:
        words = [word.replace("{step}", str(self.folder)).replace("{jobs}", "1") for word in self.action.make]
        environment = {**os.environ, **self.action.environment}
        streams = None if inherit else subprocess.DEVNULL
        try:
            return subprocess.run([*words, goal], env=environment, check=False, stdout=streams, stderr=streams).returncode
        except OSError as error:
            raise YarrikError(Trouble("HOST-TOOL-MISSING", f"make cannot be started: {error.strerror}",
                                      remedy="on Debian: apt-get install make")) from error  # fmt: skip

    def save_fragment(self, name: str) -> Fragment:
        """Writes what was changed in the menu as a fragment beside the board's file, and adds it to the board's list."""
        if _NAME.match(name) is None:
            raise YarrikError(
                Trouble("FRAGMENT-NAME", f"`{name}` is not a name for a fragment", remedy="write it like `more.kcfg`")
            )
        if not (self.folder / "build" / ".config").is_file():
            raise YarrikError(Trouble("KERNEL-NO-CHANGES", "the option menu was not opened yet", Place(self.folder),
                                      remedy=f"yarrik kernel options {self.composition.name}"))  # fmt: skip
        changes = self._difference()
        if not changes:
            raise YarrikError(Trouble("KERNEL-NO-CHANGES", "no option was changed", Place(self.folder),
                                      remedy=f"change some: yarrik kernel options {self.composition.name}"))  # fmt: skip
        board = self.composition.board
        file = board.file.parent / name
        if file.exists():
            raise YarrikError(Trouble("FRAGMENT-THERE", f"there is a file {name} beside the board already", Place(file),
                                      why="it would be overwritten", remedy="take another name"))  # fmt: skip
        lines = [f"# Changed in the option menu of {self.composition.name}'s kernel."]
        lines += [f"{key}={value}" if value != "n" else f"# {key} is not set" for key, (_, value) in changes.items()]
        self._list(name)
        file.write_text("\n".join(lines) + "\n")
        # From here on the board's own files give these options: the next menu begins with them.
        (self.folder / "made-from").unlink(missing_ok=True)
        return Fragment(file, changes, board.file)

    def _difference(self) -> dict[str, tuple[str, str]]:
        """Options that somebody changed, former and new value: those that follow from others are left out, since the
        kernel's own `savedefconfig` says which do."""
        build = self.folder / "build"
        after = (build / ".config").read_text()
        shortest = []
        for text in ((self.folder / "before.config").read_text(), after):
            (build / ".config").write_text(text)
            code = self._make("savedefconfig")
            short = build / "defconfig"
            if code != 0 or not short.is_file():
                (build / ".config").write_text(after)
                raise YarrikError(Trouble("KERNEL-MENU", "the kernel's `savedefconfig` failed", Place(build),
                                          remedy="run it there by hand to see why"), "work")  # fmt: skip
            shortest.append(_values(short.read_text()))
        before_short, after_short = shortest
        before, now = _values((self.folder / "before.config").read_text()), _values(after)
        names = [key for key, value in after_short.items() if before_short.get(key) != value]
        names += [key for key in before_short if key not in after_short and before.get(key, "n") != now.get(key, "n")]
        return {
            key: (before.get(key, "n"), now.get(key, "n")) for key in sorted(names) if before.get(key, "n") != now.get(key, "n")
        }

    def _list(self, name: str) -> None:
        """Adds the fragment to the board's own list, in its file, with everything else there left as it is."""
        file = self.composition.board.file
        document = tomlkit.parse(file.read_text(encoding="utf-8"))
        kernel = document.get("kernel")
        if not isinstance(kernel, Table):
            kernel = tomlkit.table()
            document["kernel"] = kernel
        known = kernel.get("fragments")
        if known is None:  # inherited ones stay with the file that lists them
            added = tomlkit.inline_table()
            added["add"] = [name]
            kernel["fragments"] = added
        elif isinstance(known, dict):
            known["add"] = [*(one for one in known.get("add", ()) if one != name), name]
        elif name not in known:
            known.append(name)
        write_file(file, tomlkit.dumps(document).encode(), durable=True)


def _values(text: str) -> dict[str, str]:
    return {name: value for name, (value, _) in options(text).items()}
