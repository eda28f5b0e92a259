"""The shape of every file that people write. Keys in the files have `-` where names here have `_`."""

from __future__ import annotations

import datetime
from typing import Annotated, Literal

import msgspec

from yarrik.model.rules import (
    Account,
    Address,
    Alignment,
    CheckCode,
    ConfigName,
    DiskSignature,
    FilesystemIdentifier,
    Guid,
    HostName,
    ImagePath,
    Mode,
    Name,
    OneLine,
    PartitionSize,
    PartitionType,
    Relative,
    Requirement,
    Sha256,
    Size,
    ToolPrefix,
    Variable,
)


class Definable(msgspec.Struct, frozen=True, kw_only=True, rename="kebab", forbid_unknown_fields=True):
    """Base of all tables: immutable, strict about keys."""


# yarrik.toml


class WorkspaceTable(Definable, frozen=True, kw_only=True):
    name: Name
    needs_yarrik: str = ""
    product: Name = ""


class ShelfChoice(Definable, frozen=True, kw_only=True):
    name: Name
    path: str


class WorkspaceFile(Definable, frozen=True, kw_only=True):
    workspace: WorkspaceTable
    shelf: tuple[ShelfChoice, ...] = ()


# shelf.toml


class ShelfTable(Definable, frozen=True, kw_only=True):
    name: Name
    summary: OneLine = ""
    version: OneLine = ""
    needs: tuple[Name, ...] = ()
    needs_yarrik: str = ""


class ShelfFile(Definable, frozen=True, kw_only=True):
    shelf: ShelfTable


# boards/NAME.toml


class Toolchain(Definable, frozen=True, kw_only=True):
    prefix: ToolPrefix = ""
    c_flags: tuple[OneLine, ...] = ()


class KernelChoice(Definable, frozen=True, kw_only=True):
    """Where no shelf has `recipe`, the first of `otherwise` that one has is taken: other versions, the preferred one first.
    `base`, `fragments`, `form` and `built_in` (a folder that becomes the kernel's own initramfs) serve recipes that build with
    `using = "kernel"`.

    `device_tree`, `overlays` and the folders `include` lie beside the board's file; `silence` names checks of device trees
    that are not to be told of. `console` is the one that programs talk to; kernel messages go to `more_consoles` too."""

    recipe: Name
    otherwise: tuple[Name, ...] = ()
    base: ConfigName = "defconfig"
    base_file: Relative = ""
    fragments: tuple[Relative, ...] = ()
    form: Literal["", "Image", "Image.gz", "zImage", "bzImage"] = ""
    built_in: Relative = ""
    device_tree: Relative = ""
    overlays: tuple[Relative, ...] = ()
    include: tuple[Relative, ...] = ()
    keep_labels: bool = False
    silence: tuple[CheckCode, ...] = ()
    console: OneLine = ""
    more_consoles: tuple[OneLine, ...] = ()
    log_level: Annotated[int, msgspec.Meta(ge=0, le=8)] | None = None
    arguments: tuple[OneLine, ...] = ()


class MenuChoice(Definable, frozen=True, kw_only=True):
    """A further entry of the boot menu: the same kernel with more words on its command line."""

    name: Name
    title: OneLine = ""
    arguments: tuple[OneLine, ...] = ()


class EnvironmentChoice(Definable, frozen=True, kw_only=True):
    """The bootloader's environment: settings from `file`, as a block of `size` in `name` beside the image."""

    file: Relative
    size: Size
    redundant: bool = False
    name: Relative = "environment.bin"


class SettingsChoice(Definable, frozen=True, kw_only=True):
    """A text file of `key=value` lines for firmware, taken from `file`; `path` is where it stands on the boot partition."""

    file: Relative
    path: ImagePath


class LoaderChoice(Definable, frozen=True, kw_only=True):
    """A boot program that a Debian package installs, for firmware to start from the card."""

    host_file: OneLine
    debian_package: Name = ""


class BootChoice(Definable, frozen=True, kw_only=True):
    """`method`: a `menu` file, `entries` for a loader, one `fit` with everything in it, a `script` with wrapped files, or
    `uefi`, where firmware starts the kernel itself.

    `root` is the form in which the kernel is told of the root filesystem; `root_device` is the disk that the form `device`
    names, like `mmcblk0`. `command_line_in` says where the command line stands. With `initramfs = "root"` the whole root
    filesystem is unpacked into memory. `seconds` is how long a menu waits. `key` is the private key that signs."""

    method: Literal["menu", "entries", "fit", "script", "uefi"] = "menu"
    root: Literal["partuuid", "partlabel", "uuid", "device", "none"] = "partuuid"
    root_device: OneLine = ""
    read_only: bool | None = None
    command_line_in: Literal["boot-files", "device-tree", "kernel"] = "boot-files"
    overlays: Literal["applied", "placed"] = "applied"
    initramfs: Literal["none", "root"] = "none"
    initramfs_compression: Literal["none", "gzip", "xz", "zstd"] = "gzip"
    seconds: Annotated[int, msgspec.Meta(ge=0, le=600)] = 0
    entry: tuple[MenuChoice, ...] = ()
    loader: LoaderChoice | None = None
    key: Relative = ""
    key_name: Name = "product"
    environment: EnvironmentChoice | None = None
    settings: SettingsChoice | None = None
    memory_bundle: bool = False


class MemoryChoice(Definable, frozen=True, kw_only=True):
    """Where the bootloader puts things; what is not given follows from where memory begins. `size` and `base` say where
    memory is when no device tree does."""

    base: Address = ""
    size: Size = ""
    kernel: Address = ""
    device_tree: Address = ""
    overlays: Address = ""
    initramfs: Address = ""
    script: Address = ""
    bundle: Address = ""


class Emulator(Definable, frozen=True, kw_only=True):
    """How `yarrik boot` starts this board. In the arguments, `{image}` stands for its disk, `{bootloader}` for that file,
    and `{device-tree}` for the board's device tree blob, for emulators that hand it on as firmware does; `{image:NAME}` for
    another of its disks, `{out}` for the folder with the product's files, `{command-line}` for that of a memory bundle."""

    program: OneLine
    arguments: tuple[OneLine, ...]
    bootloader: str = ""
    debian_packages: tuple[Name, ...] = ()


class Partition(Definable, frozen=True, kw_only=True):
    """`copies` are the names of further partitions with the same content. `bootable` marks where boot files are looked
    for; without it that is the partition that holds them. `raw` takes its content from `file`.

    `guid` is the partition's and `identifier` the filesystem's; without them they derive from the names. `in_mbr` shows
    it in a hybrid disk's classic table too."""

    name: OneLine
    filesystem: Literal["ext4", "ext2", "fat", "squashfs", "swap", "raw", "none"] = "ext4"
    file: Relative | None = None
    size: PartitionSize = "fit"
    holds: Literal["root", "boot", "nothing"] = "nothing"
    type: PartitionType = ""
    label: OneLine = ""
    align: Alignment = "1 MiB"
    bootable: bool | None = None
    read_only: bool = False
    copies: tuple[OneLine, ...] = ()
    guid: Guid = ""
    identifier: FilesystemIdentifier = ""
    in_mbr: bool = False
    inodes: Annotated[int, msgspec.Meta(ge=16)] | None = None
    reserved_percent: Annotated[int, msgspec.Meta(ge=0, le=50)] = 0
    tables: Literal["lazy", "full"] = "lazy"
    compression: Literal["", "zstd", "xz", "gzip", "lz4"] = ""
    level: Annotated[int, msgspec.Meta(ge=0, le=22)] | None = None


class Blob(Definable, frozen=True, kw_only=True):
    """A raw file at an offset of the disk, and at each of `copies`; `at_most` is the room it may take."""

    file: Relative
    offset: Size
    copies: tuple[Size, ...] = ()
    at_most: Size = ""


class Disk(Definable, frozen=True, kw_only=True):
    """`size` is the whole disk's; without it the disk is as large as what lies on it. `also` names what is written beside
    the image: compressed ones, a map of its blocks, the form that flashing protocols take."""

    name: Name
    table: Literal["gpt", "mbr", "hybrid", "none"] = "gpt"
    guid: Guid = ""
    signature: DiskSignature = ""
    also: tuple[Literal["zstd", "gzip", "xz", "map", "sparse"], ...] = ()
    size: Size = ""
    partition: tuple[Partition, ...] = ()
    blob: tuple[Blob, ...] = ()


class Board(Definable, frozen=True, kw_only=True):
    summary: OneLine = ""
    extends: Name = ""
    replaces: Name = ""
    arch: Literal["arm64", "arm", "riscv64", "x86-64", "host"]
    toolchain: Toolchain = Toolchain()
    kernel: KernelChoice
    boot: BootChoice = BootChoice()
    memory: MemoryChoice = MemoryChoice()
    emulator: Emulator | None = None
    disk: tuple[Disk, ...]


# profiles/NAME.toml


class Profile(Definable, frozen=True, kw_only=True):
    summary: OneLine = ""
    extends: Name = ""
    replaces: Name = ""
    c_library: Requirement = "libc"
    init: Requirement
    init_path: ImagePath = "/sbin/init"
    c_flags: tuple[OneLine, ...] = ("-O2",)
    link_flags: tuple[OneLine, ...] = ()
    strip: bool = True
    clock: datetime.datetime = datetime.datetime(2026, 1, 1, tzinfo=datetime.UTC)


# images/NAME.toml


class Root(Definable, frozen=True, kw_only=True):
    """`login`: nobody logs in as root (`locked`), without a password (`open`), or with the one in `password_hash`."""

    login: Literal["locked", "open", "password"] = "locked"
    password_hash: OneLine = ""
    shell: ImagePath = "/bin/sh"


class User(Definable, frozen=True, kw_only=True):
    name: Account
    id: int
    home: ImagePath = "/"
    shell: ImagePath = "/bin/false"


class ImageFile(Definable, frozen=True, kw_only=True):
    path: ImagePath
    content: str | None = None
    from_file: Relative = msgspec.field(default="", name="from")
    owner: Account = "root"
    mode: Mode = "0644"


class ImageFolder(Definable, frozen=True, kw_only=True):
    path: ImagePath
    owner: Account = "root"
    mode: Mode = "0755"


class ImageNode(Definable, frozen=True, kw_only=True):
    path: ImagePath
    kind: Literal["character", "block"]
    major: int
    minor: int
    owner: Account = "root"
    mode: Mode = "0600"


class Image(Definable, frozen=True, kw_only=True):
    summary: OneLine = ""
    extends: Name = ""
    replaces: Name = ""
    packages: tuple[Requirement, ...]
    hostname: HostName = ""
    marker: OneLine = ""
    root: Root = Root()
    user: tuple[User, ...] = ()
    file: tuple[ImageFile, ...] = ()
    folder: tuple[ImageFolder, ...] = ()
    node: tuple[ImageNode, ...] = ()


# products/NAME.toml


class Product(Definable, frozen=True, kw_only=True):
    """`marker` is the console's line that says the image is up; it goes before the image's own."""

    summary: OneLine = ""
    replaces: Name = ""
    board: Name
    profile: Name
    image: Name
    marker: OneLine = ""


# recipes/NAME/recipe.toml


class Source(Definable, frozen=True, kw_only=True):
    """Exactly one of `path` (a folder beside the recipe) and `host_file` (an archive that a Debian package installs)."""

    path: Relative = ""
    host_file: str = ""
    debian_package: Name = ""
    sha256: Sha256 = ""


class Build(Definable, frozen=True, kw_only=True):
    """`device_trees` are blobs of a kernel's own sources that its build makes too, like `coast/pier.dtb`; they become a
    package of their own."""

    using: Literal["make", "plain", "kernel", "kernel-module", "toolchain-runtime"]
    needs: tuple[Requirement, ...] = ()
    tools: tuple[Requirement, ...] = ()
    goals: tuple[OneLine, ...] = ()
    install_goals: tuple[OneLine, ...] = ("install",)
    variables: dict[Variable, OneLine] = {}
    commands: tuple[str, ...] = ()
    device_trees: tuple[Relative, ...] = ()


class Attributes(Definable, frozen=True, kw_only=True):
    """Owner and mode of one path of a package; without an entry it belongs to root, with the mode the build gave."""

    path: ImagePath
    owner: Account = "root"
    mode: Mode = ""


class PackageRule(Definable, frozen=True, kw_only=True):
    """`files` are paths in the image; `*` stands for any part of a name, `**` for whole folders."""

    summary: OneLine = ""
    files: tuple[str, ...] = ()
    needs: tuple[Requirement, ...] = ()
    attributes: tuple[Attributes, ...] = ()


class Recipe(Definable, frozen=True, kw_only=True):
    summary: OneLine = ""
    replaces: Name = ""
    version: OneLine
    licence: OneLine
    source: tuple[Source, ...] = ()
    build: Build
    package: dict[Name, PackageRule] = {}
