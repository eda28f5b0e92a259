"""The steps of a product, behind those of its recipes: root filesystem, device tree, boot files, disks, bench, manifests."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from msgspec.structs import replace

from yarrik.arch import ARCHES, Arch
from yarrik.boot import CommandLine, RootUnfit, RootWish, Word, command_line, root_words
from yarrik.disk import has_boot_partition, root_place
from yarrik.errors import Collector, Place, Trouble, YarrikError, found_nearby, from_package, shown_path
from yarrik.model import Board, Composition, Definition, KernelChoice
from yarrik.plan.actions import (
    Assemble,
    CompileDeviceTrees,
    Describe,
    PlaceBootFiles,
    PrepareFolder,
    TryOnBench,
    WriteDisks,
)
from yarrik.plan.known_choices import unknown
from yarrik.plan.steps import Step
from yarrik.plan.surroundings import Surroundings
from yarrik.resolve import Node

DEVICE_TREE_SUFFIXES = (".dts", ".dtsi", ".dtso", ".h")

#: Keys of a board that messages of later steps point at.
BOARD_KEYS = (
    "kernel.recipe", "kernel.form", "kernel.console", "kernel.more-consoles", "kernel.overlays", "kernel.device-tree",
    "kernel.arguments", "boot.method", "boot.key", "boot.environment", "boot.root", "boot.initramfs", "memory", "disk",
)  # fmt: skip


def kernel_form(board: Definition[Board], arch: Arch) -> str:
    """The file that the kernel's build makes for this board. Raises YarrikError for one that its architecture has not."""
    form = board.value.kernel.form or arch.kernel_file
    if form not in arch.kernel_forms:
        raise YarrikError(
            Trouble("BOOT-KERNEL-FORM", f"there is no {form} of a kernel for {arch.name}", board.place("kernel", "form"),
                    why="the kernel's build makes other forms for it", remedy="one of: " + ", ".join(arch.kernel_forms))
        )  # fmt: skip
    return form


def product_root(composition: Composition) -> list[Word]:
    """The words that tell the kernel of the root filesystem. Raises YarrikError."""
    board, boot = composition.board, composition.board.value.boot
    place = root_place(board.value.disk)
    if boot.initramfs == "root":
        return []
    if place is None:
        raise YarrikError(
            Trouble("ROOT-PARTITION-MISSING", f"no partition of the board `{board.name}` holds the root filesystem",
                    board.place("disk"), why="the kernel would have nothing to start from",
                    remedy='give one partition `holds = "root"`, or unpack it into memory with `initramfs = "root"`')
        )  # fmt: skip
    try:
        return root_words(composition.name, place, RootWish(boot.root, boot.root_device, boot.read_only))
    except RootUnfit as error:
        key = "root-device" if boot.root == "device" else "root"
        raise YarrikError(
            Trouble("BOOT-ROOT-FORM", str(error), board.place("boot", key),
                    why="the kernel would wait for its root filesystem for ever", remedy=error.remedy)
        ) from error  # fmt: skip


def product_line(composition: Composition) -> CommandLine:
    """The product's command line. Raises YarrikError."""
    board, kernel = composition.board.value, composition.board.value.kernel
    consoles = [*kernel.more_consoles, *([kernel.console] if kernel.console else [])]
    in_memory = board.boot.initramfs == "root"
    init_path = composition.profile.value.init_path
    return command_line(product_root(composition), consoles, init_path, kernel.arguments, kernel.log_level, in_memory)


def line_in(composition: Composition, where: str) -> str:
    """The product's command line if it is to stand there (a value of `boot.command-line-in`), else nothing."""
    return str(product_line(composition)) if composition.board.value.boot.command_line_in == where else ""


def _for_boot_files(kernel: KernelChoice) -> KernelChoice:
    """What boot files depend on: how the kernel is configured and compiled is seen in the kernel itself."""
    return replace(
        kernel, recipe="", otherwise=(), base="", base_file="", fragments=(), built_in="", include=(), silence=()
    )  # fmt: skip


@dataclass
class ProductSteps:
    """Adds a product's own steps to a graph. `kernel_sources` tells where the kernel's prepared sources come from, if the
    kernel is built here."""

    composition: Composition
    surroundings: Surroundings
    add_step: Callable[[Step], Step]
    collector: Collector
    version: str
    kernel_sources: tuple[str, str] | None

    def add(self, wanted: tuple[tuple[str, str], ...], split: Mapping[Node, str], licences: Mapping[str, str]) -> None:
        """`wanted` are the packages that are asked for, with the reason; `split` the steps that yield packages, `licences`
        those that collect licence texts, by recipe."""
        composition, name = self.composition, self.composition.name
        board, profile, image = composition.board, composition.profile, composition.image
        arch = ARCHES[self.surroundings.toolchain("board").arch]
        assemble = self._assemble(wanted, split, arch)
        inputs = {"root": (assemble.name, "root")}
        blobs = self._device_tree()
        if blobs is not None:
            inputs["device tree"] = blobs
        self._check_line()
        self._check_forms()
        apart = has_boot_partition(board.value.disk)
        boot_files = self._boot_sources()
        kernel = board.value.kernel
        form = kernel_form(board, arch)
        boot = self.add_step(
            Step(
                "boot",
                name,
                PlaceBootFiles(
                    product=name,
                    version=self.version,
                    arch=arch.name,
                    kernel_path=f"/boot/{form}",
                    device_tree=Path(kernel.device_tree).name,
                    kernel=_for_boot_files(kernel),
                    boot=board.value.boot,
                    memory=board.value.memory,
                    line=tuple((word.text, word.origin) for word in product_line(composition).words),
                    boot_apart=apart,
                    clock=self._clock,
                ),
                files={label: self.surroundings.file_digest(path, place, remedy)
                       for label, (path, place, remedy) in boot_files.items()},
                inputs=inputs,
                places={label: path for label, (path, _, _) in boot_files.items()},
                marks={key: board.place(*key.split(".")) for key in BOARD_KEYS},
            )
        )  # fmt: skip
        blob_files = self._blobs()
        made = self._made_blobs()
        from_boot = {f"blob {file}": (boot.name, "environment") for file in made}
        write = self.add_step(
            Step(
                "write",
                name,
                WriteDisks(product=name, disks=board.value.disk, clock=self._clock, boot_apart=apart),
                files={label: self.surroundings.file_digest(path, place) for label, (path, place) in blob_files.items()},
                inputs={"root": (boot.name, "root"), **from_boot},
                places={label: path for label, (path, _) in blob_files.items()},
            )
        )
        self.add_step(
            Step(
                "check",
                name,
                TryOnBench(
                    product=name,
                    arch=arch.name,
                    disks=board.value.disk,
                    method=board.value.boot.method,
                    arguments=board.value.kernel.arguments,
                ),
                files={label: self.surroundings.file_digest(path, place) for label, (path, place) in blob_files.items()},
                inputs={f"disk {disk.name}": (write.name, f"disk:{disk.name}") for disk in board.value.disk}
                | from_boot
                | {label: (boot.name, output) for label, output in self._known_to_the_bench()},
                places={label: path for label, (path, _) in blob_files.items()},
                marks={key: board.place(*key.split(".")) for key in BOARD_KEYS},
            )
        )
        self.add_step(
            Step(
                "describe",
                name,
                Describe(
                    product=name,
                    board=board.name,
                    profile=profile.name,
                    image=image.name,
                    arch=arch.name,
                    provenance=self.surroundings.provenance(),
                ),
                inputs={
                    "root": (boot.name, "root"),
                    "packages": (assemble.name, "packages"),
                    "boot": (boot.name, "boot"),
                    "layout": (write.name, "layout"),
                    **{f"licences {recipe}": (step, "licences") for recipe, step in sorted(licences.items())},
                },
            )
        )

    @property
    def _clock(self) -> int:
        return int(self.composition.profile.value.clock.timestamp())

    def _assemble(self, wanted: tuple[tuple[str, str], ...], split: Mapping[Node, str], arch: Arch) -> Step:
        image = self.composition.image
        files: dict[str, str] = {}
        places: dict[str, Path] = {}
        for index, file in enumerate(image.value.file):
            place = image.place("file", str(index))
            if (file.content is None) == (not file.from_file):
                self.collector.add(
                    Trouble("IMAGE-FILE", f"the file {file.path} must have either `content` or `from`", place,
                            remedy="keep one of the two")
                )  # fmt: skip
            elif file.from_file:
                here = image.folder_of("file", str(index), "from") / file.from_file
                places[file.path] = here
                files[file.path] = self.surroundings.file_digest(here, place)
        return self.add_step(
            Step(
                "assemble",
                self.composition.name,
                Assemble(
                    # What led to the packages has been resolved; the packages themselves are in `wanted`.
                    image=replace(image.value, packages=(), refuse=(), options={}, versions={}, when=()),
                    hostname=self.composition.hostname,
                    wanted=wanted,
                    arch=arch.name,
                    init_path=self.composition.profile.value.init_path,
                    merged_usr=self.composition.profile.value.merged_usr,
                ),
                files=files,
                inputs={f"packages {node.recipe}": (step, "packages") for node, step in sorted(split.items())},
                places=places,
            )
        )

    def _check_forms(self) -> None:
        board = self.composition.board
        found: list[Trouble | None] = []
        for index, disk in enumerate(board.value.disk):
            for number, partition in enumerate(disk.partition):
                place = board.place("disk", str(index), "partition", str(number), "filesystem")
                found.append(unknown("filesystem", partition.filesystem, place))
        why = "it says which files the bootloader finds"
        found.append(unknown("boot method", board.value.boot.method, board.place("boot", "method"), why))
        self.collector.extend(trouble for trouble in found if trouble is not None)

    def _known_to_the_bench(self) -> Iterator[tuple[str, str]]:
        """What the boot step leaves beside the disks that the bench compares with them, by the bench's names."""
        board = self.composition.board.value
        if board.boot.key and board.kernel.device_tree:
            yield "control", "control"
        if board.boot.memory_bundle:
            yield "bundle", "memory:addresses.txt"

    def _check_line(self) -> None:
        """Whether what is to carry the command line can."""
        board = self.composition.board
        where = board.value.boot.command_line_in
        if where == "kernel" and self.kernel_sources is None:
            what = f"the command line is to be built into the kernel, and `{board.value.kernel.recipe}` is not configured here"
            remedy = 'set `command-line-in = "boot-files"`, or name a kernel recipe with `using = "kernel"`'
        elif where == "device-tree" and not board.value.kernel.device_tree:
            what = f"the command line is to be in the device tree, and the board `{board.name}` has none"
            remedy = 'set `command-line-in = "boot-files"`, or name a `kernel.device-tree`'
        else:
            return
        self.collector.add(Trouble("BOOT-LINE-NOWHERE", what, board.place("boot", "command-line-in"),
                                   why="the kernel would start without a command line", remedy=remedy))  # fmt: skip

    def _device_tree(self) -> tuple[str, str] | None:
        """The step and output that hold the compiled device tree and overlays; None for boards without one."""
        board = self.composition.board
        kernel, boot = board.value.kernel, board.value.boot
        if not kernel.device_tree:
            return None
        source = self._beside(kernel.device_tree, "device-tree", "without it the kernel finds none of the board's devices")
        overlays = [
            self._beside(name, "overlays", "the device that it describes would not be found") for name in kernel.overlays
        ]
        strangers = [path.name for path in overlays if path.parent != source.parent]
        if strangers:
            raise YarrikError(
                Trouble("DEVICE-TREE-MISSING", f"the overlay {strangers[0]} lies in another folder than the device tree",
                        board.place("kernel", "overlays"), remedy=f"put both into {source.parent}")
            )  # fmt: skip
        place = board.place("kernel", "device-tree")
        tree = self.surroundings.source_tree(source.parent, DEVICE_TREE_SUFFIXES, place)
        sources = self.add_step(
            Step(
                "prepare",
                f"device tree of {board.name}",
                PrepareFolder(suffixes=DEVICE_TREE_SUFFIXES),
                files={"source": tree.digest},
                places={"source": source.parent},
                predicted={"tree": tree.digest},
            )
        )
        inputs = {"source": (sources.name, "tree")}
        places = {"source": source.parent}
        for index, name in enumerate(kernel.include):
            folder = board.beside(name, "kernel", "include")
            extra = self.surroundings.source_tree(folder, (), board.place("kernel", "include"))
            step = self.add_step(
                Step(
                    "prepare",
                    f"device tree includes {index} of {board.name}",
                    PrepareFolder(),
                    files={"source": extra.digest},
                    places={"source": folder},
                    predicted={"tree": extra.digest},
                )
            )
            inputs[f"include-{index}"] = (step.name, "tree")
            places[f"include-{index}"] = folder
        if self.kernel_sources is not None:
            inputs["kernel"] = self.kernel_sources
        toolchain = self.surroundings.toolchain("board")
        compiled = self.add_step(
            Step(
                "build",
                f"device tree of {board.name}",
                CompileDeviceTrees(
                    source=source.name,
                    overlays=tuple(path.name for path in overlays),
                    applied=boot.overlays == "applied",
                    labels=kernel.keep_labels,
                    include=tuple(f"include-{index}" for index in range(len(kernel.include))),
                    silence=kernel.silence,
                    compiler=toolchain.programs[0] if not toolchain.prefix else f"{toolchain.prefix}gcc",
                    arguments=line_in(self.composition, "device-tree"),
                ),
                inputs=inputs,
                places=places,
            )
        )
        return compiled.name, "blobs"

    def _beside(self, name: str, key: str, why: str) -> Path:
        board = self.composition.board
        path = board.beside(name, "kernel", key)
        if not path.is_file():
            raise YarrikError(
                Trouble("DEVICE-TREE-MISSING", f"there is no file {name} beside the board's file", board.place("kernel", key),
                        why=why, remedy=found_nearby(path, f"put it at {path}, or correct the name"))
            )  # fmt: skip
        return path

    def _boot_sources(self) -> dict[str, tuple[Path, Place, str]]:
        """Files from outside that boot files are made of, by label: path, place of the definition, how to get one."""
        board, boot = self.composition.board, self.composition.board.value.boot
        found: dict[str, tuple[Path, Place, str]] = {}
        if boot.key:
            path = board.folder_of("boot", "key") / boot.key
            remedy = found_nearby(path, f"make one: openssl genrsa -out {shown_path(path)} 2048", any_ending=False)
            found["key"] = (path, board.place("boot", "key"), remedy)
        if boot.loader is not None:
            found["loader"] = (
                Path(boot.loader.host_file),
                board.place("boot", "loader"),
                from_package(boot.loader.debian_package),
            )
        if boot.settings is not None:
            path = board.folder_of("boot", "settings", "file") / boot.settings.file
            found["settings"] = (path, board.place("boot", "settings", "file"), "")
        if boot.environment is not None:
            path = board.folder_of("boot", "environment", "file") / boot.environment.file
            found["environment"] = (path, board.place("boot", "environment", "file"), "")
        return found

    def _made_blobs(self) -> tuple[str, ...]:
        """Raw files of the disks that the build itself makes."""
        environment = self.composition.board.value.boot.environment
        return (environment.name,) if environment is not None else ()

    def _blobs(self) -> dict[str, tuple[Path, Place]]:
        """Raw files of the disks and of raw partitions, by label."""
        board = self.composition.board
        found: dict[str, tuple[Path, Place]] = {}
        for number, disk in enumerate(board.value.disk):
            keys = [("blob", index, blob.file) for index, blob in enumerate(disk.blob)]
            keys += [("partition", index, part.file) for index, part in enumerate(disk.partition) if part.file is not None]
            for kind, index, file in keys:
                where = ("disk", str(number), kind, str(index))
                if file in self._made_blobs():
                    continue
                found[f"blob {file}"] = (board.folder_of(*where, "file") / file, board.place(*where))
        return found
