"""The steps of a product, behind those of its recipes: root filesystem, device tree, boot files, disks, bench, manifests."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TypedDict

import msgspec
from msgspec.structs import replace

from yarrik.arch import ARCHES, Arch
from yarrik.boot import METHODS, CommandLine, RootUnfit, RootWish, Word, command_line, root_words
from yarrik.disk import RootPlace, has_boot_partition, numbered_partitions, root_place
from yarrik.errors import Collector, Place, Trouble, YarrikError, found_nearby, from_package, shown_path, suggestion
from yarrik.model import Board, Composition, Definition, Disk, KernelChoice, output_of
from yarrik.plan.actions import (
    Assemble,
    CompileDeviceTrees,
    Describe,
    PackInitramfs,
    PlaceBootFiles,
    TryOnBench,
    WriteDisks,
    WriteTree,
)
from yarrik.plan.inside import image_variables, services_of, what_is_inside
from yarrik.plan.known_choices import unknown
from yarrik.plan.steps import Step, folder_step
from yarrik.plan.surroundings import NearSurroundings
from yarrik.resolve import Settled, emulator_outputs
from yarrik.rootfs import check_owners
from yarrik.services import SERVICE_FORMS, AskedService, OneService
from yarrik.units import parse_size

DEVICE_TREE_SUFFIXES = (".dts", ".dtsi", ".dtso", ".h")

#: Keys of a board that messages of later steps point at.
BOARD_KEYS = (
    "kernel.recipe", "kernel.form", "kernel.console", "kernel.more-consoles", "kernel.overlays", "kernel.device-tree",
    "kernel.arguments", "boot.method", "boot.key", "boot.environment", "boot.root", "boot.initramfs", "boot.slot", "memory",
    "disk",
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
    return _root_words(composition, place)


def _root_words(composition: Composition, place: RootPlace) -> list[Word]:
    board, boot = composition.board, composition.board.value.boot
    try:
        searched = boot.initramfs != "none" or bool(board.value.kernel.built_in or board.value.kernel.built_in_image)
        return root_words(composition.name, place, RootWish(boot.root, boot.root_device, boot.read_only, searched))
    except RootUnfit as error:
        key = "root-device" if boot.root == "device" else "root"
        raise YarrikError(
            Trouble("BOOT-ROOT-FORM", str(error), board.place("boot", key),
                    why="the kernel would wait for its root filesystem for ever", remedy=error.remedy)
        ) from error  # fmt: skip


def slot_roots(composition: Composition) -> list[list[Word]]:
    """The same for each of the board's slots. Raises YarrikError for slots that cannot be."""
    board, boot = composition.board, composition.board.value.boot
    place = root_place(board.value.disk)
    if boot.switch is not None and not boot.slot:
        raise YarrikError(Trouble("BOOT-SLOT", "the board changes between slots, and has none", board.place("boot", "switch"),
                                  remedy="add a [[boot.slot]] for each, or take `boot.switch` out"))  # fmt: skip
    if not boot.slot or place is None:
        return []

    def wrong(number: int, what: str, why: str, remedy: str) -> YarrikError:
        return YarrikError(Trouble("BOOT-SLOT", what, board.place("boot", "slot", str(number), "root"), why=why, remedy=remedy))

    known = {name: RootPlace(place.disk, number, name, partition)
             for number, name, partition in numbered_partitions(place.disk) if partition is place.partition}  # fmt: skip
    method = METHODS.get(boot.method)
    if method is not None and not method.several and not method.switches:
        raise wrong(1, f"the boot method {boot.method} starts one system", "slots have entries of their own in a menu",
                    "take one of: " + ", ".join(key for key, one in METHODS.items() if one.several | one.switches))  # fmt: skip
    if method is not None and method.switches:
        _check_switch(composition, place)
    elif boot.switch is not None:
        raise YarrikError(
            Trouble("BOOT-SLOT", f"the boot method {boot.method} counts no starts", board.place("boot", "switch"),
                    why="its menu has an entry for each slot, and starts the one that it names",
                    remedy='take `boot.switch` out, or use `method = "script"`')
        )  # fmt: skip
    if boot.initramfs == "root" or boot.command_line_in != "boot-files":
        raise wrong(1, "slots need a command line for each of them in the boot files",
                    "the root filesystem is in memory, or the command line stands elsewhere and is the same for all",
                    "leave out `boot.slot`, or `boot.initramfs` and `boot.command-line-in`")  # fmt: skip
    if boot.slot[0].root != place.name:
        what = f"the first slot is on {boot.slot[0].root}, and a new card starts {place.name}"
        raise wrong(1, what, "what is started first is the first slot", f'put the slot with `root = "{place.name}"` first')
    names = [entry.name for entry in boot.entry]
    seen: set[str] = set()
    for number, slot in enumerate(boot.slot, 1):
        if slot.root not in known:
            raise wrong(number, f"the slot `{slot.name}` is on {slot.root}, which does not hold this root filesystem",
                        "each slot is a copy of the whole system", suggestion(slot.root, known))  # fmt: skip
        if slot.root in seen or slot.name in names:
            what = f"the partition {slot.root} is in two slots" if slot.root in seen else f"`{slot.name}` is an entry too"
            raise wrong(number, what, "replacing one would change the other, or the menu has a name twice", "name another one")
        seen.add(slot.root)
    return [_root_words(composition, known[slot.root]) for slot in boot.slot]


def _check_switch(composition: Composition, place: RootPlace) -> None:
    """Whether a script can change between the board's slots. Raises YarrikError."""
    board, boot = composition.board, composition.board.value.boot

    def wrong(keys: tuple[str, ...], what: str, why: str, remedy: str) -> YarrikError:
        return YarrikError(Trouble("BOOT-SLOT", what, board.place("boot", *keys), why=why, remedy=remedy))

    if boot.switch is None:
        raise wrong(("slot",), "no partition holds the state of the slots", "the script has to know which one works",
                    'add [boot.switch] with `state = "state"`, and that partition with `filesystem = "none"`')  # fmt: skip
    if len(boot.slot) < 2:
        raise wrong(("slot",), "there is one slot", "one runs while another is replaced", "add a second one")
    if not has_boot_partition(board.value.disk):
        raise wrong(("slot",), "the script that chooses a slot would be in a slot", "an update would replace it as well",
                    'add a partition with `holds = "boot"`')  # fmt: skip
    if place.partition.filesystem not in ("ext4", "ext2"):
        raise wrong(("slot",), f"the root filesystem is {place.partition.filesystem}",
                    "the bootloader reads the kernel there, and many know only ext4", 'use `filesystem = "ext4"`')  # fmt: skip
    if boot.entry or boot.initramfs != "none":
        raise wrong(("slot",), "a script with slots has no menu entries, and no initramfs", "each slot is a whole system",
                    "take `boot.entry` and `boot.initramfs` out")  # fmt: skip
    if place.partition.verified and (boot.root != "partuuid" or boot.read_only is not True):
        raise wrong(("slot",), f"the partition {place.name} is verified, and mounted for writing or named by something else",
                    "the kernel refuses each block that was changed",
                    'set `read-only = true` and `root = "partuuid"` in [boot]')  # fmt: skip
    named = {name: partition for _, name, partition in numbered_partitions(place.disk)}
    for key, name in (("state", boot.switch.state), *(("shared", one) for one in boot.switch.shared)):
        if name not in named:
            raise wrong(("switch", key), f"there is no partition {name} on the disk {place.disk.name}", "",
                        suggestion(name, named))  # fmt: skip
    state = named[boot.switch.state]
    if state.filesystem != "none" or state.holds != "nothing" or state.copies:
        raise wrong(("switch", "state"), f"the partition {boot.switch.state} holds something else",
                    "its first two sectors are the state of the slots", 'let it have `filesystem = "none"`')  # fmt: skip
    for name in boot.switch.shared:
        if name == boot.switch.state or name in (slot.root for slot in boot.slot):
            raise wrong(("switch", "shared"), f"the partition {name} is a slot or the state", "an update replaces it",
                        "take it out of `shared`")  # fmt: skip


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


class _Switched(TypedDict, total=False):
    slot_numbers: tuple[int, ...]
    state_number: int
    shared_numbers: tuple[int, ...]
    board: str
    release: str
    verified: bool


def _switched(composition: Composition) -> _Switched:
    """What boot files say of partitions where a script changes between slots."""
    board, boot = composition.board, composition.board.value.boot
    place = root_place(board.value.disk)
    if boot.switch is None or place is None:
        return {}
    numbers = {name: number for number, name, _ in numbered_partitions(place.disk)}
    return {
        "slot_numbers": tuple(numbers[slot.root] for slot in boot.slot),
        "state_number": numbers[boot.switch.state],
        "shared_numbers": tuple(numbers[one] for one in boot.switch.shared),
        "board": board.name,
        "verified": place.partition.verified,
        "release": composition.product.value.version or "0",
    }


class FromRecipes(msgspec.Struct, frozen=True):
    """What a product's own steps take of those of its recipes.

    `version` is the kernel's. `kernel_sources` tells where its prepared sources come from, if it is built here, and
    `configured` which step configures it, or a bootloader, by the recipe. `split` are the steps that yield packages, `licences`
    those that collect licence texts, by recipe. `services` are what packages bring. `outputs` are the step and name of each
    output that the board names."""

    version: str
    kernel_sources: tuple[str, str] | None
    configured: Mapping[str, str]
    split: Mapping[str, str]
    licences: Mapping[str, str]
    services: tuple[AskedService, ...]
    outputs: Mapping[str, tuple[str, str]] = msgspec.field(default_factory=dict)


class OwnSteps(msgspec.Struct, frozen=True):
    """What a product's own steps follow from beside its definitions and this machine. They begin at the number `first` of a
    graph, and take what is `given`. `wanted` are the packages that are asked for in each root filesystem, with the reason: in
    further ones by their names, in the usual one by an empty one."""

    first: int
    given: FromRecipes
    wanted: Mapping[str, tuple[tuple[str, str], ...]]


class RootChoice(msgspec.Struct, frozen=True):
    """What a root filesystem is made by: `wanted` are the packages that are asked for, with the reason; `settled` the accounts
    that may be in it."""

    composition: Composition
    settled: Settled
    wanted: tuple[tuple[str, str], ...]


def root_choices(
    composition: Composition, settled: Mapping[str, Settled], wanted: Mapping[str, tuple[tuple[str, str], ...]]
) -> tuple[RootChoice, dict[str, RootChoice]]:
    """What a product's root filesystem is made by, and further ones by their names: by the accounts of each, and the packages
    that are asked for."""
    further = {one.name: RootChoice(one.composition, settled[one.name], wanted[one.name]) for one in composition.more}
    return RootChoice(composition, settled[""], wanted[""]), further


def _on_disks(disks: Sequence[Disk]) -> set[str]:
    """Further images that partitions hold."""
    return {part.image for disk in disks for part in disk.partition if part.image}


class ProductSteps(msgspec.Struct):
    """Adds a product's own steps to a graph."""

    composition: Composition
    surroundings: NearSurroundings
    add_step: Callable[[Step], Step]
    collector: Collector
    given: FromRecipes
    #: The step and name of an output of a recipe, as a board names it.
    output: Callable[[str, Place], tuple[str, str]]
    #: The packages that a recipe yields.
    packages_of: Callable[[str], Iterable[str]]

    def add(
        self,
        whole: RootChoice,
        further: Mapping[str, RootChoice],
        before_kernel: Mapping[str, str],
    ) -> None:
        """`whole` is the root filesystem, `further` are others by name; `before_kernel` are the steps that yield packages and
        do not wait for the kernel, by recipe."""
        composition, name, split = self.composition, self.composition.name, self.given.split
        board, profile, image = composition.board, composition.profile, composition.image
        arch = ARCHES[self.surroundings.toolchain("board").arch]
        read_only = any(word.text == "ro" for word in product_root(composition))
        assemble = self._assemble(whole, name, split, arch, read_only)
        carried = board.value.kernel.built_in_image
        others = {
            one: self._assemble(choice, f"{one} of {name}", before_kernel if one == carried else split, arch, False)
            for one, choice in further.items()
        }
        if carried:
            self._pack(carried, others[carried])
            self._check_carried(carried, further[carried], split.keys() - before_kernel.keys())
        in_memory = {board.value.boot.initramfs, *(entry.initramfs for entry in board.value.boot.entry)}
        inputs = {"root": (assemble.name, "root")}
        inputs |= {f"image {one}": (step.name, "root") for one, step in others.items() if one in in_memory}
        inputs |= {f"packages {one}": (step.name, "packages") for one, step in others.items() if one in {*in_memory, carried}}
        inputs["packages"] = (assemble.name, "packages")
        if board.value.kernel.recipe in self.given.configured:
            inputs["kernel options"] = (self.given.configured[board.value.kernel.recipe], "config")
        blobs = self._device_tree()
        if blobs is not None:
            inputs["device tree"] = blobs
        inputs |= self._boot_outputs()
        self._check_line()
        self._check_forms()
        self._check_verified()
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
                    version=self.given.version,
                    arch=arch.name,
                    kernel_path=f"/boot/{form}",
                    device_tree=Path(kernel.device_tree).name,
                    kernel=_for_boot_files(kernel),
                    boot=board.value.boot,
                    memory=board.value.memory,
                    line=tuple((word.text, word.origin) for word in product_line(composition).words),
                    boot_apart=apart,
                    clock=self._clock,
                    slots=tuple(tuple((word.text, word.origin) for word in words) for words in slot_roots(composition)),
                    **_switched(composition),
                    first_programs={one: choice.composition.profile.value.init_path for one, choice in further.items()},
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
        from_boot = {f"blob {file}": (boot.name, "environment") for file in made} | self._blob_outputs()
        write = self.add_step(
            Step(
                "write",
                name,
                WriteDisks(product=name, disks=board.value.disk, clock=self._clock, boot_apart=apart),
                files={label: self.surroundings.file_digest(path, place) for label, (path, place) in blob_files.items()},
                inputs={"root": (boot.name, "root"), **from_boot}
                | {f"image {one}": (step.name, "root") for one, step in others.items() if one in _on_disks(board.value.disk)},
                places={label: path for label, (path, _) in blob_files.items()},
            )
        )
        self._add_trees(boot, others)
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
                    environment=self._environment_block(),
                ),
                files={label: self.surroundings.file_digest(path, place) for label, (path, place) in blob_files.items()},
                inputs={f"disk {disk.name}": (write.name, f"disk:{disk.name}") for disk in board.value.disk}
                | ({"carried": (f"pack {carried} of {name}", "tree")} if carried else {})
                | from_boot
                | {label: (boot.name, output) for label, output in self._known_to_the_bench()}
                | self._loaders(),
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
                    **{f"packages {one}": (step.name, "packages") for one, step in others.items()},
                    "boot": (boot.name, "boot"),
                    "layout": (write.name, "layout"),
                    **{f"licences {recipe}": (step, "licences") for recipe, step in sorted(self.given.licences.items())},
                },
            )
        )

    @property
    def _clock(self) -> int:
        return int(self.composition.profile.value.clock.timestamp())

    def _add_trees(self, boot: Step, others: Mapping[str, Step]) -> None:
        """What the product writes beside its disks."""
        product, name = self.composition.product.value, self.composition.name

        def add(subject: str, tree: Step, forms: Sequence[str], of_boot: bool = False) -> None:
            if forms:
                file = f"{name}-{subject}"
                action = WriteTree(product=name, name=file, boot=of_boot, forms=tuple(dict.fromkeys(forms)), clock=self._clock)
                self.add_step(Step("write", f"{subject} of {name}", action, inputs={"root": (tree.name, "root")}))

        add("root", boot, product.root_into)
        add("boot", boot, product.boot_into, of_boot=True)
        for one in product.more_image:
            add(one.name, others[one.name], one.into)

    def _pack(self, name: str, step: Step) -> None:
        """What the kernel is to carry, as an input of its build."""
        action = PackInitramfs(name=name, clock=self._clock)
        self.add_step(Step("pack", f"{name} of {self.composition.name}", action, inputs={"root": (step.name, "root")}))

    def _check_carried(self, name: str, choice: RootChoice, behind: Iterable[str]) -> None:
        """Whether the kernel can carry an image."""
        board = self.composition.board
        place = board.place("kernel", "built-in-image")
        if board.value.kernel.recipe not in self.given.configured:
            what = f"the kernel is to carry the image `{name}`, and `{board.value.kernel.recipe}` is not built from source"
            remedy = f'give it to the bootloader instead: `initramfs = "{name}"` in [boot]'
            self.collector.add(Trouble("KERNEL-CARRIES", what, place, "nothing can be built into it", remedy))
        if board.value.kernel.built_in:
            what = f"the kernel is to carry the folder {board.value.kernel.built_in} and the image `{name}`"
            remedy = "take one of them out of the board"
            self.collector.add(Trouble("KERNEL-CARRIES", what, place, "it has room for one initramfs", remedy))
        path = choice.composition.profile.value.init_path
        if path != "/init":
            what = f"the first program of the image `{name}` is {path}, and a kernel starts /init of what it carries"
            remedy = 'give it `init-path = "/init"` in the product, with a package that brings it in `init`'
            self.collector.add(Trouble("KERNEL-CARRIES", what, place, "it would be left out", remedy))
        late = {package for recipe in behind for package in self.packages_of(recipe)}
        for package in (one for one, _ in choice.wanted if one in late):
            what = f"the image `{name}` has the package `{package}`, which is built after the kernel that carries the image"
            remedy = f'leave it out, or give the image to the bootloader: `initramfs = "{name}"` in [boot]'
            self.collector.add(Trouble("KERNEL-CARRIES", what, place, "each would wait for the other", remedy))

    def _assemble(self, choice: RootChoice, subject: str, split: Mapping[str, str], arch: Arch, read_only: bool) -> Step:
        composition, accounts = choice.composition, choice.settled.accounts
        inside = what_is_inside(composition, self.surroundings, arch.name, accounts, read_only, self.collector)
        try:
            check_owners(inside.own, inside.said, accounts)
        except YarrikError as error:
            self.collector.extend(error.troubles)
        services = self._services(choice)
        profile = composition.profile.value
        return self.add_step(
            Step(
                "assemble",
                subject,
                Assemble(
                    own=tuple(inside.own),
                    accounts=accounts,
                    passwords=self._passwords(choice.settled),
                    secret_files=inside.secret_files,
                    services=services,
                    called=tuple(inside.programs),
                    service_form=profile.service_form,
                    expects=profile.expects,
                    refused_licences=profile.refuse_licences,
                    wanted=choice.wanted,
                    arch=arch.name,
                    init_path=profile.init_path,
                    clock=self._clock,
                    merged_usr=profile.merged_usr,
                    variables=tuple(sorted(name for name, value in image_variables(choice.composition).items() if value)),
                ),
                files=inside.files,
                inputs={f"packages {recipe}": (step, "packages") for recipe, step in sorted(split.items())},
                places=inside.places,
                # Hashes of passwords, and keys, are in what comes of it.
                private=bool(inside.secret_files) or any(one.secret for one in accounts.users),
            )
        )

    def _services(self, choice: RootChoice) -> tuple[OneService, ...]:
        """The services that may be in the image; what is wrong with them is told here, whichever of them come in."""
        profile, collector = choice.composition.profile, self.collector
        services, places = services_of(choice.composition, self.given.services, choice.settled.accounts, collector)
        trouble = unknown("service form", profile.value.service_form, profile.place("service-form"))
        if trouble is not None:
            collector.add(trouble)
            return services
        form = SERVICE_FORMS[profile.value.service_form]
        for one in services:
            for lack in form.lacks(one):
                collector.add(
                    Trouble("SERVICE-FORM", f"the service `{one.name}` does not fit the form `{form.name}`, which never {lack}",
                            places.get(one.name, Place()), why=f"the profile says `service-form = \"{form.name}\"` "
                            f"({profile.place('service-form').short}), and nothing of a service may be lost",
                            remedy="take that out of the service, or choose another init with its form")
                )  # fmt: skip
        return services

    def _passwords(self, settled: Settled) -> dict[str, str]:
        """Hashes by account: those that are written down, and those of secrets."""
        found = {}
        for one in settled.accounts.users:
            if one.login == "password":
                place = settled.places[one.name][-1]
                try:
                    found[one.name] = one.password or self.surroundings.password(
                        one.secret, self.composition.name, one.name, place
                    )
                except YarrikError as error:
                    self.collector.extend(error.troubles)
        return found

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
        # What a bootloader of the board's own carries is seen in it.
        if board.boot.key and board.kernel.device_tree and not any(choice.verify for choice in board.bootloader):
            yield "control", "control"
        if board.boot.memory_bundle:
            yield "bundle", "memory:addresses.txt"

    def _environment_block(self) -> tuple[int, bool] | None:
        choice = self.composition.board.value.boot.environment
        return (parse_size(choice.size), choice.redundant) if choice is not None else None

    def _loaders(self) -> dict[str, tuple[str, str]]:
        """What the bench sees of loaders that are built here: files that the emulator starts, and how they are configured."""
        board = self.composition.board
        found = {}
        for text in emulator_outputs(board.value):
            step, name = self.output(text, board.place("emulator"))
            found[f"loader {text}"] = (step, f"output:{name}")
        for choice in board.value.bootloader:
            if choice.recipe in self.given.configured:
                found[f"options {choice.recipe}"] = (self.given.configured[choice.recipe], "config")
        return found

    def _check_line(self) -> None:
        """Whether what is to carry the command line can."""
        board = self.composition.board
        where = board.value.boot.command_line_in
        if where == "kernel" and self.given.kernel_sources is None:
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
        more = [
            self._beside(name, "more-device-trees", "a board of the family would not start")
            for name in kernel.more_device_trees
        ]
        labels = self._source_folders(source, [*overlays, *more])
        place = board.place("kernel", "device-tree")
        tree = self.surroundings.source_tree(source.parent, DEVICE_TREE_SUFFIXES, place)
        sources = self.add_step(folder_step(f"device tree of {board.name}", source.parent, tree.digest, DEVICE_TREE_SUFFIXES))
        inputs = {"source": (sources.name, "tree")}
        places = {"source": source.parent}
        for folder, label in labels.items():
            if label == "source":
                continue
            beside = self.surroundings.source_tree(folder, DEVICE_TREE_SUFFIXES, place)
            subject = f"device tree sources {label.partition('-')[2]} of {board.name}"
            step = self.add_step(folder_step(subject, folder, beside.digest, DEVICE_TREE_SUFFIXES))
            inputs[label] = (step.name, "tree")
            places[label] = folder

        def named(path: Path) -> str:
            label = labels[path.parent]
            return path.name if label == "source" else f"{label}/{path.name}"

        for index, name in enumerate(kernel.include):
            folder = board.beside(name, "kernel", "include")
            extra = self.surroundings.source_tree(folder, (), board.place("kernel", "include"))
            step = self.add_step(folder_step(f"device tree includes {index} of {board.name}", folder, extra.digest))
            inputs[f"include-{index}"] = (step.name, "tree")
            places[f"include-{index}"] = folder
        if self.given.kernel_sources is not None:
            inputs["kernel"] = self.given.kernel_sources
        toolchain = self.surroundings.toolchain("board")
        compiled = self.add_step(
            Step(
                "build",
                f"device tree of {board.name}",
                CompileDeviceTrees(
                    source=source.name,
                    overlays=tuple(map(named, overlays)),
                    parameters=kernel.overlay_parameters,
                    by_firmware=boot.method == "settings" and boot.overlays == "placed",
                    more=tuple(map(named, more)),
                    applied=boot.overlays == "applied",
                    labels=kernel.keep_labels,
                    include=(*(label for label in labels.values() if label != "source"),
                             *(f"include-{index}" for index in range(len(kernel.include)))),
                    silence=kernel.silence,
                    compiler=toolchain.programs[0] if not toolchain.prefix else f"{toolchain.prefix}gcc",
                    arguments=line_in(self.composition, "device-tree"),
                ),
                inputs=inputs,
                places=places,
                marks={"parameters": board.place("kernel", "overlay-parameters")},
            )
        )  # fmt: skip
        return compiled.name, "blobs"

    def _source_folders(self, base: Path, others: list[Path]) -> dict[Path, str]:
        """Folders with device tree sources: that of the base as `source`, then those of the other sources, and those of all
        files that the board is made of, which sources may include from. Each with the label that it has in the step."""
        found = {base.parent: "source"}

        def has_sources(folder: Path) -> bool:
            return folder.is_dir() and any(path.suffix in DEVICE_TREE_SUFFIXES for path in folder.iterdir())

        of_board = filter(has_sources, self.composition.board.folders)
        for folder in (*(path.parent for path in others), *of_board):
            found.setdefault(folder, f"more-{len(found)}")
        return found

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
        loader = boot.loader
        if loader is not None and bool(loader.host_file) == (loader.file is not None):
            raise YarrikError(
                Trouble("BOOT-PROGRAM", "the boot program must have either `host-file` or `file`",
                        board.place("boot", "loader"),
                        why="the firmware starts one program", remedy="keep one of the two")
            )  # fmt: skip
        if loader is not None and loader.host_file:
            place = board.place("boot", "loader")
            found["loader"] = (Path(loader.host_file), place, from_package(loader.debian_package))
        for label, file, keys in self._further_files():
            if output_of(file) is None:
                found[label] = (board.folder_of(*keys) / file, board.place(*keys), "")
        if boot.settings is not None and boot.settings.file:
            path = board.folder_of("boot", "settings", "file") / boot.settings.file
            found["settings"] = (path, board.place("boot", "settings", "file"), "")
        if boot.environment is not None:
            path = board.folder_of("boot", "environment", "file") / boot.environment.file
            found["environment"] = (path, board.place("boot", "environment", "file"), "")
        return found

    def _further_files(self) -> Iterator[tuple[str, str, tuple[str, ...]]]:
        """Files that the board adds to what the boot method makes: label, file as written, keys."""
        boot = self.composition.board.value.boot
        if boot.loader is not None and boot.loader.file is not None:
            yield "loader", boot.loader.file, ("boot", "loader", "file")
        for index, one in enumerate(boot.file):
            yield f"boot file {one.path}", one.file, ("boot", "file", str(index), "file")
        for index, part in enumerate(boot.part):
            yield f"part {part.name}", part.file, ("boot", "part", str(index), "file")

    def _boot_outputs(self) -> dict[str, tuple[str, str]]:
        """Outputs of recipes that go among the boot files, as inputs by label."""
        board = self.composition.board
        found = {}
        for label, file, keys in self._further_files():
            if output_of(file) is not None:
                step, name = self.output(file, board.place(*keys))
                found[label] = (step, f"output:{name}")
        return found

    def _blob_outputs(self) -> dict[str, tuple[str, str]]:
        """Outputs of recipes that are raw on a disk, as inputs by label."""
        found = {}
        for file, keys in self._raw_files():
            if output_of(file) is not None:
                step, name = self.output(file, self.composition.board.place(*keys))
                found[f"blob {file}"] = (step, f"output:{name}")
        return found

    def _check_verified(self) -> None:
        """Only a script that switches slots tells the kernel what a verified partition is verified by."""
        board = self.composition.board
        for number, disk in enumerate(board.value.disk, 1):
            for index, partition in enumerate(disk.partition, 1):
                if partition.verified and (partition.holds != "root" or board.value.boot.switch is None):
                    what = f"the partition {partition.name} is verified, and nothing tells the kernel so"
                    self.collector.add(
                        Trouble("PARTITION-VERIFIED", what,
                                board.place("disk", str(number), "partition", str(index), "verified"),
                                why="it is for the root filesystem of slots that a script switches",
                                remedy="take `verified` out, or add slots and `boot.switch` with the method `script`")
                    )  # fmt: skip

    def _made_blobs(self) -> tuple[str, ...]:
        """Raw files of the disks that the build itself makes."""
        environment = self.composition.board.value.boot.environment
        return (environment.name,) if environment is not None else ()

    def _blobs(self) -> dict[str, tuple[Path, Place]]:
        """Raw files of the disks and of raw partitions, by label."""
        board = self.composition.board
        found: dict[str, tuple[Path, Place]] = {}
        for file, where in self._raw_files():
            if file not in self._made_blobs() and output_of(file) is None:
                found[f"blob {file}"] = (board.folder_of(*where, "file") / file, board.place(*where))
        return found

    def _raw_files(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """Files that are written to a disk as they are, with the keys that name them."""
        for number, disk in enumerate(self.composition.board.value.disk):
            where = ("disk", str(number))
            for index, blob in enumerate(disk.blob):
                yield blob.file, (*where, "blob", str(index))
            for index, part in enumerate(disk.partition):
                if part.file is not None:
                    yield part.file, (*where, "partition", str(index))
