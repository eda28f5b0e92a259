"""What a step does, as a value. Everything that an action knows goes into its step's fingerprint, so nothing can be
forgotten there; where things lie on this machine is not part of it: that is in the step's `places`.

In commands and environments, `{step}` stands for the folder that holds a step's files, and `{jobs}` for the number of
jobs a build system may run at a time. Neither has a say in the result.
"""

from typing import ClassVar, Literal

import msgspec

from yarrik.model import BootChoice, Disk, KernelChoice, MemoryChoice, PackageRule
from yarrik.resolve import Accounts
from yarrik.rootfs import OwnPath
from yarrik.services import OneService

Command = tuple[str, ...]


class Action(msgspec.Struct, frozen=True, kw_only=True, tag_field="does", rename="kebab"):
    """Base of all actions. `REVISION` is raised when an action comes to do something else with the same fields, so that
    results of former versions are not taken for new ones."""

    REVISION: ClassVar[int] = 0
    #: Fields that records and messages show by their digest only.
    HIDDEN: ClassVar[frozenset[str]] = frozenset()


def runs_commands(action: Action) -> bool:
    """Whether an action starts programs of the build host."""
    return isinstance(action, (RunCommands, ConfigureKernel, ApplyPatches, UnpackDebian, Stage, CompileDeviceTrees))


class FetchFile(Action, frozen=True, kw_only=True):
    """Takes a file that the build host provides into the cache. Output: `file`."""

    sha256: str


class Download(Action, frozen=True, kw_only=True):
    """Takes a file with this digest into the cache, from wherever it can be had. Output: `file`."""

    sha256: str


class Clone(Action, frozen=True, kw_only=True):
    """Takes a commit of a git repository, or a folder of it, from wherever it can be had. Output: `tree`."""

    commit: str
    folder: str
    submodules: bool


class TakeFile(Action, frozen=True, kw_only=True):
    """Makes a single file a tree of its own. Output: `tree`."""

    name: str


class FetchRuntime(Action, frozen=True, kw_only=True, omit_defaults=True):
    """Takes the C library's run-time files, by their paths in the image, from the toolchain. A link script names libraries as
    they lie in the image. `links` are paths with their destinations. Outputs: `files`, `needs` and `tools` as of `Stage`."""

    REVISION: ClassVar[int] = 1  # documents

    recipe: str
    in_image: tuple[str, ...]
    links: dict[str, str] = {}


class PrepareFolder(Action, frozen=True, kw_only=True):
    """Takes a folder of sources into the cache; with `suffixes`, only files so named right in it. Output: `tree`."""

    suffixes: tuple[str, ...] = ()


class Unpack(Action, frozen=True, kw_only=True, omit_defaults=True):
    """Unpacks an archive, within limits of members and of bytes in all; a single folder at its top is left out, and of the rest
    `folder` is taken, or all. Output: `tree`."""

    name: str
    folder: str = ""
    member_limit: int = 200_000
    size_limit: int = 16 << 30


class UnpackDebian(Action, frozen=True, kw_only=True, omit_defaults=True):
    """Makes one tree of a Debian source package's files, which are inputs `file NAME`. `patches` lays those of the packaging
    on, else the tree is upstream's alone; `folder` is taken of it, or all. Output: `tree`."""

    package: str
    version: str
    dsc: str
    patches: bool = True
    folder: str = ""
    member_limit: int = 200_000
    size_limit: int = 16 << 30


class ConfigureKernel(Action, frozen=True, kw_only=True, omit_defaults=True):
    """Makes a kernel's configuration from a base and fragments. Output: `config`, a tree with `.config`.

    `base` is a configuration of the kernel's own, or empty for the file `base`. A command line is built in if one is given;
    `built_in` is the initramfs for the kernel to carry, as its build folder sees it: a folder, or a cpio archive. A bootloader
    is configured in the same way: its base configurations are in the folder `configs`, and `lines` are options that follow from
    the board. A `lenient` one says nothing of options that did not survive, so that a reader sees what became of them."""

    make: Command
    base: str
    fragments: tuple[str, ...]
    command_line: str
    kernel_arch: str
    environment: dict[str, str]
    toolchain: str
    built_in: str = ""
    programs: tuple[str, ...] = ()
    host: str = ""
    configs: str = ""
    lines: tuple[str, ...] = ()
    lenient: bool = False


class TakeOutputs(Action, frozen=True, kw_only=True):
    """Picks files of what a recipe's build left, by the name under which others take them (`outputs`: paths by name). Outputs:
    `output:NAME` each, and `given:NAME`, a tree with that file in a folder of the recipe's name."""

    recipe: str
    outputs: dict[str, str]


class RunCommands(Action, frozen=True, kw_only=True):
    """Runs a recipe's build and its installation into `{step}/stage`. Output: `files`. `files` are texts that are written into
    the step's folder beforehand. `programs` are those of the host that it sees, by name, and `host` is the digest of all paths
    of the host that it sees.

    `writable` names the folders below `{step}` that the commands may change; all others are laid out read-only."""

    commands: tuple[Command, ...]
    environment: dict[str, str]
    folder: str
    writable: tuple[str, ...]
    toolchain: str
    files: dict[str, str] = {}
    programs: tuple[str, ...] = ()
    host: str = ""


class ApplyPatches(Action, frozen=True, kw_only=True):
    """Lays patches on a recipe's sources, in this order. Output: `tree`."""

    patches: tuple[str, ...]


class CollectLicences(Action, frozen=True, kw_only=True):
    """Takes a recipe's licence texts out of its sources. `files` are paths in them, with `*`. Output: `licences`."""

    files: tuple[str, ...]


class Stage(Action, frozen=True, kw_only=True):
    """Makes what was installed fit to ship: symbols stripped, architecture checked, the build's own paths taken out of what
    says how to build with a library. Inputs `archives RECIPE` are static libraries that it may have been linked with. Outputs:
    `files`, `sysroot`, `archives` (static libraries of this recipe and of those that it needs), `linked`, those whose objects
    are in its files, and `needs` and `tools`, with which others are built: documents of its sysroot and of its files that name
    those of the inputs `needs RECIPE` and `tools RECIPE`. `runtime` is the recipe of the toolchain's own C library, if the
    board's programs have that: name, version and licence."""

    REVISION: ClassVar[int] = 4  # documents

    strip: Command
    arch: str
    toolchain: str
    recipe: str
    version: str
    licence: str
    runtime: tuple[str, str, str] | None = None


class Split(Action, frozen=True, kw_only=True):
    """Shares the files out among a recipe's packages; input `linked` is what is linked statically into them. Outputs:
    `packages`, `files`."""

    REVISION: ClassVar[int] = 4  # static libraries

    recipe: str
    version: str
    licence: str
    summary: str
    packages: dict[str, PackageRule]


class Assemble(Action, frozen=True, kw_only=True):
    """Puts packages, accounts, services and an image's own files into one root filesystem. `passwords` are hashes by account,
    `secret_files` texts by label that only their owners may read. Outputs: `root`, `packages`."""

    REVISION: ClassVar[int] = 5  # licences of static libraries
    HIDDEN: ClassVar[frozenset[str]] = frozenset(["passwords", "secret_files"])

    own: tuple[OwnPath, ...]
    accounts: Accounts
    passwords: dict[str, str]
    secret_files: dict[str, str]
    services: tuple[OneService, ...]
    #: Programs that something else calls, with what does.
    called: tuple[tuple[str, str], ...] = ()
    service_form: str
    expects: tuple[str, ...]
    refused_licences: tuple[str, ...]
    wanted: tuple[tuple[str, str], ...]
    arch: str
    init_path: str
    #: When the product is made, in seconds since 1970: certificates may have expired then.
    clock: int
    merged_usr: bool = False
    #: Names of the image's own variables, which all services get.
    variables: tuple[str, ...] = ()


class CompileDeviceTrees(Action, frozen=True, kw_only=True, omit_defaults=True):
    """Compiles the board's device tree and overlays through the toolchain's preprocessor. Output: `blobs`, a tree with the
    base under the blob's name, and overlays below `overlays/` where they are left to the bootloader. With a `key_name` the
    base carries the public half of the file `key`, as bootloaders look for it. `more` are sources of further base trees. A
    source in another folder than the first one has the folder's label before its name. `parameters` are values that overlays
    declare names for; they are only checked when they are set `by_firmware`."""

    source: str
    overlays: tuple[str, ...]
    applied: bool
    labels: bool
    include: tuple[str, ...]
    silence: tuple[str, ...]
    compiler: str
    arguments: str
    key_name: str = ""
    more: tuple[str, ...] = ()
    parameters: dict[str, dict[str, str]] = {}
    by_firmware: bool = False


class PlaceBootFiles(Action, frozen=True, kw_only=True):
    """Adds device tree, command line (`line`: words, each with its origin) and the boot method's files, and checks that all of
    it fits the board and each other. Outputs: `root`, `boot`, the `device-tree`, the `environment`, and what a `memory` bundle
    holds."""

    REVISION: ClassVar[int] = 5  # scripts that switch slots

    product: str
    version: str
    arch: str
    kernel_path: str
    device_tree: str
    kernel: KernelChoice
    boot: BootChoice
    memory: MemoryChoice
    line: tuple[tuple[str, str], ...]
    boot_apart: bool
    clock: int
    #: Paths of the first programs of further images, by name.
    first_programs: dict[str, str] = {}
    #: What tells the kernel of the root filesystem of each of the board's slots, with the origin of each word.
    slots: tuple[tuple[tuple[str, str], ...], ...] = ()
    #: Where a script switches: numbers of the partitions of the slots, of their state, of what they share; the board's name.
    slot_numbers: tuple[int, ...] = ()
    state_number: int = 0
    shared_numbers: tuple[int, ...] = ()
    board: str = ""
    release: str = ""
    verified: bool = False


class TryOnBench(Action, frozen=True, kw_only=True, omit_defaults=True):
    """Reads the finished disks as the board's hardware would, up to init. Outputs: `boot-story.txt` to read, and `story`,
    the same as values."""

    REVISION: ClassVar[int] = 4  # scripts with conditions, and verified partitions, are followed

    product: str
    arch: str
    disks: tuple[Disk, ...]
    method: str
    arguments: tuple[str, ...] = ()
    environment: tuple[int, bool] | None = None


class WriteDisks(Action, frozen=True, kw_only=True):
    """Writes every disk of the board as an image file. Outputs: `disk:<name>` each, and `layout`."""

    REVISION: ClassVar[int] = 2  # what cannot be compressed is stored as it is

    product: str
    disks: tuple[Disk, ...]
    clock: int
    boot_apart: bool


class WriteTree(Action, frozen=True, kw_only=True):
    """Writes a tree into files of its own, beside the disks: what is below /boot (`boot`), or a whole root filesystem, in each
    of `forms`. Outputs: `file:NAME` each, with the name that it has in `out/`."""

    REVISION: ClassVar[int] = 1  # what cannot be compressed is stored as it is

    product: str
    name: str
    boot: bool
    forms: tuple[str, ...]
    clock: int


#: The archive that a kernel carries, in the folder of its build's input.
ARCHIVE = "initramfs.cpio"


class PackInitramfs(Action, frozen=True, kw_only=True):
    """Packs a further root filesystem `name` for the kernel to carry. Output: `tree`, a folder with the archive (cpio)."""

    name: str
    clock: int


class Provenance(msgspec.Struct, frozen=True, kw_only=True):
    """What a product is made of besides its recipes: a shelf with its version, and for one from git the commit as `revision`
    (`changed`: files differ from it); terms with the SHA-256 of their text; diverted sources with the digest of their tree.
    A recipe's published source has its version, the address that the recipe or lock names, and its commit or SHA-256 (of a
    Debian package that of its `.dsc`)."""

    kind: Literal["shelf", "source", "terms", "diversion"]
    name: str
    version: str = ""
    revision: str = ""
    at: str = ""
    changed: bool = False


class Describe(Action, frozen=True, kw_only=True):
    """Writes the manifests. Outputs: `packages.json`, `files.json`, `licences`."""

    REVISION: ClassVar[int] = 3  # static libraries

    product: str
    board: str
    profile: str
    image: str
    arch: str
    provenance: tuple[Provenance, ...] = ()
