"""A kernel's or bootloader's configuration changed by hand: its own option menu on the configured tree and the difference as a
fragment, or options set by name."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from pathlib import Path

import msgspec
import msgspec.structs
import tomlkit
import tomlkit.exceptions
from msgspec import structs
from tomlkit.items import AoT, Table

from yarrik.atomic import write_file
from yarrik.beneath import remove_folder
from yarrik.errors import Place, Trouble, YarrikError, listed
from yarrik.model import Composition
from yarrik.patterns import lazy_pattern
from yarrik.plan import ConfigureKernel
from yarrik.run.events import Listener, silent
from yarrik.run.kconfig import Options, is_kconfig
from yarrik.run.kernel_config import carried_options, line_options, options
from yarrik.run.kernel_options import Configured, Given
from yarrik.run.session import Session

_NAME = lazy_pattern(r"[A-Za-z0-9][A-Za-z0-9._-]*\Z")


class Fragment(msgspec.Struct, frozen=True):
    """What was changed: where the fragment is, the options it sets with former and new values, and whose list it is on."""

    file: Path
    changes: dict[str, tuple[str, str]]
    board_file: Path


class KernelWork:
    """A product's configured kernel in a folder of the workspace, for somebody to change; with a `recipe` the bootloader that
    this one builds. Raises YarrikError."""

    def __init__(self, session: Session, composition: Composition, recipe: str = "") -> None:
        self.session, self.composition, self.recipe = session, composition, recipe
        #: What messages call it.
        self.what = f"bootloader `{recipe}`" if recipe else "kernel"
        name = f"{composition.name}-{recipe}" if recipe else composition.name
        self.folder = session.project.folder / "kernel" / name
        self.planned = session.planner.planned(composition)
        steps = {step.subject: step for step in self.planned.graph.steps if isinstance(step.action, ConfigureKernel)}
        loaders = [choice.recipe for choice in composition.board.value.bootloader]
        found = steps.get(recipe) if recipe else next((one for key, one in steps.items() if key not in loaders), None)
        if found is None:
            raise self._not_built([name for name in loaders if name in steps])
        self.step = found
        assert isinstance(found.action, ConfigureKernel)
        self.action = found.action

    def _not_built(self, loaders: list[str]) -> YarrikError:
        board = self.composition.board
        if self.recipe:
            known = f"it builds {listed([f'`{name}`' for name in loaders])}" if loaders else "it builds none"
            return YarrikError(
                Trouble("KERNEL-NOT-BUILT", f"`{self.composition.name}` builds no bootloader `{self.recipe}`",
                        Place(board.file), why="only what is built from source has options that could be changed",
                        remedy=f"{known}; the board names them as [[bootloader]]")
            )  # fmt: skip
        return YarrikError(
            Trouble("KERNEL-NOT-BUILT", f"the kernel of `{self.composition.name}` is not built from source",
                    board.place("kernel", "recipe"), why="only then it has options that could be changed",
                    remedy='name another product, or a kernel recipe with `using = "kernel"`')
        )  # fmt: skip

    def configured(self, listener: Listener = silent) -> Configured:
        """The configuration with all that led to it, whatever became of the fragments' lines."""
        planned, step = self.planned, self.step
        try:
            config = self.session.builder.run_up_to(planned, step.name, listener)["config"]
        except YarrikError as error:
            if not any(trouble.code in ("KERNEL-OPTION-LOST", "BOOT-LINE-TWICE") for trouble in error.troubles):
                raise
            step = msgspec.structs.replace(self.step, action=structs.replace(self.action, lenient=True))
            steps = tuple(step if one.name == step.name else one for one in planned.graph.steps)
            planned = msgspec.structs.replace(planned, graph=msgspec.structs.replace(planned.graph, steps=steps))
            config = self.session.builder.run_up_to(planned, step.name, listener)["config"]
        store = self.session.project.store
        final = next(store.get_bytes(entry.content) for entry in store.tree(config).files).decode("utf-8", "replace")
        name, output = step.inputs["source"]
        tree = store.tree(self.session.builder.run_up_to(planned, name)[output])
        files = {entry.path: entry.content for entry in tree.files}

        def text(path: str) -> str:
            return store.get_bytes(files[path]).decode("utf-8", "replace")

        known = Options.of_files(filter(is_kconfig, files), text, self.action.kernel_arch)
        fragments = [
            Given(place, place.read_text(encoding="utf-8", errors="replace"))
            for label, place in step.places.items() if label.startswith("fragment ")
        ]  # fmt: skip
        board = {key.removeprefix("CONFIG_"): value for text in self.action.lines for key, (value, _) in options(text).items()}
        line = line_options(self.action.command_line, self.action.kernel_arch) + carried_options(self.action.built_in)
        board |= {key.removeprefix("CONFIG_"): value for key, (value, _) in options(line).items()}
        base_place = step.marks.get("kernel.base", Place())
        base = None
        if "base" in step.places:
            base = Given(step.places["base"], step.places["base"].read_text(encoding="utf-8", errors="replace"))
        else:
            folder = self.action.configs or f"arch/{self.action.kernel_arch}/configs/"
            if folder + self.action.base in files:
                base = Given(Path(folder + self.action.base), text(folder + self.action.base))
        return Configured(known, final, fragments, base, self.action.base, board, base_place)

    def set_options(
        self,
        wanted: Mapping[str, str],
        again: Callable[[], AbstractContextManager[KernelWork]],
        name: str = "",
        listener: Listener = silent,
    ) -> Changed:
        """Writes options, and what they depend on, into a fragment beside the board's file (`name`, or the board's last one),
        and configures with it: `again` opens the workspace as it is then. What was there comes back when the configuration does
        not take them. Raises YarrikError."""
        before = self.configured(listener)
        wish = before.wish(wanted)
        if wish.obstacles:
            raise YarrikError(
                Trouble(
                    "KERNEL-OPTION-IMPOSSIBLE", f"CONFIG_{one.option} cannot be as it is wanted", Place(), one.why, one.remedy
                )
                for one in wish.obstacles
            )
        values = {key: value for key, value in wish.values.items() if before.values.get(key, "n") != value}
        file = self._fragment_file(name)
        if not values:
            return Changed(file, {}, {}, {})
        board_file = self.composition.board.file
        undo = {path: path.read_bytes() if path.exists() else None for path in (file, board_file)}
        try:
            self._write_lines(file, values)
            with again() as fresh:
                fresh.session.builder.run_up_to(fresh.planned, fresh.step.name, listener)
                after = fresh.configured(listener)
        except BaseException:
            for path, data in undo.items():
                if data is None:
                    path.unlink(missing_ok=True)
                else:
                    write_file(path, data, durable=True)
            raise
        asked = {key: (before.values.get(key, "n"), after.values.get(key, "n")) for key in wanted}
        needed = {key: (before.values.get(key, "n"), after.values.get(key, "n")) for key in values if key not in wanted}
        followed = {
            key: (before.values.get(key, "n"), after.values.get(key, "n"))
            for key in sorted({*before.values, *after.values})
            if key not in values and key not in wanted and before.values.get(key, "n") != after.values.get(key, "n")
        }
        return Changed(file, asked, needed, followed)

    def _fragment_file(self, name: str) -> Path:
        """The fragment to write to: one of this name, or the last of the board's own, or a new one."""
        board = self.composition.board
        if name:
            if _NAME.match(name) is None:
                raise YarrikError(
                    Trouble("FRAGMENT-NAME", f"`{name}` is not a name for a fragment", remedy="write it like `more.kcfg`")
                )
            return board.file.parent / name
        own = [place for label, place in self.step.places.items()
               if label.startswith("fragment ") and place.parent == board.file.parent and place.is_file()]  # fmt: skip
        return own[-1] if own else board.file.parent / f"{board.name}{'-' + self.recipe if self.recipe else ''}.kcfg"

    def _write_lines(self, file: Path, values: Mapping[str, str]) -> None:
        """Sets options in a fragment, in place of the lines that set them before; a new one goes onto the board's list."""
        there = file.exists()
        kept = []
        for line in file.read_text(encoding="utf-8").splitlines() if there else ():
            name = next(iter(options(line)), "").removeprefix("CONFIG_")
            if name not in values:
                kept.append(line)
        if not there:
            kept.append(f"# Options of {self.composition.board.name}'s {self.what.replace('`', '')}.")
        kept += [f"CONFIG_{key}={value}" if value != "n" else f"# CONFIG_{key} is not set" for key, value in values.items()]
        write_file(file, ("\n".join(kept) + "\n").encode(), durable=True)
        if file not in self.step.places.values():
            self._list(file.name)

    def open_menu(self, goal: str = "menuconfig") -> None:
        """Lays the configured tree out (a former one is used again) and runs the kernel's own option menu in this terminal."""
        self._lay_out()
        code = self._make(goal, inherit=True)
        if code != 0:
            raise YarrikError(
                Trouble("KERNEL-MENU", f"the {self.what}'s `{goal}` ended with exit code {code}", Place(self.folder),
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
            more = f" --recipe {self.recipe}" if self.recipe else ""
            raise YarrikError(Trouble("KERNEL-NO-CHANGES", "the option menu was not opened yet", Place(self.folder),
                                      remedy=f"yarrik kernel options {self.composition.name}{more}"))  # fmt: skip
        changes = self._difference()
        if not changes:
            raise YarrikError(Trouble("KERNEL-NO-CHANGES", "no option was changed", Place(self.folder),
                                      remedy=f"change some: yarrik kernel options {self.composition.name}"))  # fmt: skip
        board = self.composition.board
        file = board.file.parent / name
        if file.exists():
            raise YarrikError(Trouble("FRAGMENT-THERE", f"there is a file {name} beside the board already", Place(file),
                                      why="it would be overwritten", remedy="take another name"))  # fmt: skip
        lines = [f"# Changed in the option menu of {self.composition.name}'s {self.what.replace('`', '')}."]
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

    def _table_of(self, document: tomlkit.TOMLDocument) -> Table:
        """The board's table that lists the fragments: [kernel], or the bootloader's."""
        if not self.recipe:
            kernel = document.get("kernel")
            if not isinstance(kernel, Table):
                kernel = tomlkit.table()
                document["kernel"] = kernel
            return kernel
        rows = document.get("bootloader")
        if not isinstance(rows, AoT):
            rows = tomlkit.aot()
            document["bootloader"] = rows
        for row in rows:
            if isinstance(row, Table) and row.get("recipe") == self.recipe:
                return row
        fresh = tomlkit.table()
        fresh["recipe"] = self.recipe
        rows.append(fresh)
        return fresh

    def _list(self, name: str) -> None:
        """Adds the fragment to the board's own list, in its file, with everything else there left as it is."""
        file = self.composition.board.file
        document = tomlkit.parse(file.read_text(encoding="utf-8"))
        kernel = self._table_of(document)
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


class Changed(msgspec.Struct, frozen=True):
    """What setting options did: the fragment, and former and new values of those that were asked for, of those that they need
    (also written), and of those that followed by themselves."""

    file: Path
    asked: dict[str, tuple[str, str]]
    needed: dict[str, tuple[str, str]]
    followed: dict[str, tuple[str, str]]


def _values(text: str) -> dict[str, str]:
    return {name: value for name, (value, _) in options(text).items()}
