"""What can be known of a build's end before it begins: consoles, memory, the kernel's base, and whether the disks hold what the
last build made. Nothing runs here; what only running can tell is left to the build."""

from __future__ import annotations

import tempfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

import msgspec

from yarrik.boot import MemoryDisagrees, banks_of, console_problem, memory_disagrees, memory_of
from yarrik.cache import LastRun, MissingObject, Store
from yarrik.devicetree import DeviceTree, blob_name, compile_source, decode_blob, uses_preprocessor
from yarrik.disk import FORMS
from yarrik.errors import Damaged, Place, Trouble, YarrikError
from yarrik.model import Composition
from yarrik.plan import Assessment, CompileDeviceTrees, ConfigureKernel, WriteDisks, fingerprint_of
from yarrik.rootfs import RootTree
from yarrik.run.kernel_config import base_problem
from yarrik.run.results import kept_outputs


class Foresight(msgspec.Struct):
    """Looks ahead of one plan. `errors` would stop the build, `warnings` may."""

    composition: Composition
    plan: Sequence[Assessment]
    store: Store
    last: Mapping[str, LastRun]

    def errors(self) -> Iterator[Trouble]:
        """What will fail."""
        for one in self.plan:
            if isinstance(one.step.action, CompileDeviceTrees):
                yield from self._board(one, one.step.action)
            elif isinstance(one.step.action, ConfigureKernel) and one.verdict != "kept":
                yield from self._kernel_base(one, one.step.action)

    def warnings(self) -> Iterator[Trouble]:
        """What will likely fail."""
        for one in self.plan:
            if isinstance(one.step.action, WriteDisks) and one.verdict != "kept":
                yield from self._disks(one, one.step.action)

    def _board(self, one: Assessment, action: CompileDeviceTrees) -> Iterator[Trouble]:
        tree = self._device_tree(one, action)
        board = self.composition.board
        kernel = board.value.kernel
        if tree is None:
            return
        try:
            banks_of(board.value.memory.base, board.value.memory.size, memory_of(tree))
        except MemoryDisagrees as error:
            yield memory_disagrees(error, board.place("memory"))
        for key, consoles in (("console", (kernel.console,)), ("more-consoles", kernel.more_consoles)):
            for console in consoles:
                problem = console_problem(tree, console) if console else None
                if problem is not None:
                    yield Trouble("BOOT-CONSOLE", f"console={console} is not a serial port of the board: {problem}",
                                  board.place("kernel", key), why="the kernel would start without any output",
                                  remedy="name another port, or enable this one in the device tree")  # fmt: skip

    def _device_tree(self, one: Assessment, action: CompileDeviceTrees) -> DeviceTree | None:
        """The board's device tree, from the last build or compiled here; None where that takes a preprocessor."""
        if one.verdict == "kept":
            outputs = kept_outputs(self.store, self.last.get(one.step.name), fingerprint_of(one.step, one.inputs)) or {}
            try:
                blobs = {entry.path: entry.content for entry in self.store.tree(outputs["blobs"]).files}
                return decode_blob(self.store.get_bytes(blobs[blob_name(action.source)]))
            except (MissingObject, KeyError, Damaged):
                return None
        source = one.step.places["source"] / action.source
        try:
            text = source.read_text(encoding="utf-8")
            if action.overlays or action.include or uses_preprocessor(text):
                return None
            return compile_source(source, text)
        except (OSError, UnicodeDecodeError, YarrikError):
            return None  # the step itself says what is wrong, of all files at once

    def _kernel_base(self, one: Assessment, action: ConfigureKernel) -> Iterator[Trouble]:
        digest = one.inputs.get("source")
        try:
            tree = self.store.tree(digest) if digest is not None else None
        except MissingObject:
            tree = None
        if tree is None:
            return
        files = {entry.path: entry.content for entry in tree.files}
        place = one.step.marks.get("kernel.base", Place())
        try:
            problem = base_problem(action.base, action.kernel_arch, files, self._text, place)
        except MissingObject:
            return
        if problem is not None:
            yield problem

    def _text(self, digest: str) -> str:
        return self.store.get_bytes(digest).decode("utf-8", "replace")

    def _disks(self, one: Assessment, action: WriteDisks) -> Iterator[Trouble]:
        """Whether each disk holds the root filesystem of the last build, where that can be said quickly."""
        from yarrik.disk import plan_disk  # loads NumPy

        last = self.last.get(one.step.inputs["root"][0])
        digest = one.inputs.get("root") or (last.outputs.get("root") if last is not None else None)
        if digest is None:
            return
        try:
            root = RootTree.decode(self.store.get_bytes(digest))
        except (MissingObject, ValueError):
            return
        files = {label.removeprefix("blob "): path for label, path in one.step.places.items()}
        for disk in action.disks:
            named = [blob.file for blob in disk.blob] + [part.file for part in disk.partition if part.file is not None]
            # Those that are written from front to back are made to be measured, which takes as long as a build's step.
            streamed = any(part.filesystem in FORMS and FORMS[part.filesystem].stream for part in disk.partition)
            if streamed or not all(name in files for name in named):
                continue
            try:
                with tempfile.TemporaryDirectory() as scratch:
                    plan_disk(action.product, disk, root, action.clock, self.store.checked, files, action.boot_apart,
                              Path(scratch))  # fmt: skip
            except YarrikError as error:
                yield from self._with_origin(error.troubles)
            except (OSError, MissingObject):
                continue

    def _with_origin(self, troubles: Iterable[Trouble]) -> Iterator[Trouble]:
        place = self.composition.board.place("disk")
        for trouble in troubles:
            yield Trouble(
                trouble.code, f"what the last build made does not fit: {trouble.what}", place, trouble.why, trouble.remedy
            )
