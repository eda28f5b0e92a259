"""The shape of every file that people write. Keys in the files have `-` where names here have `_`."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Literal

import msgspec

from yarrik.model.rules import (
    Account,
    Address,
    Alignment,
    CheckCode,
    CommitId,
    ConfigName,
    DiskSignature,
    FilesystemIdentifier,
    GitUrl,
    Guid,
    HostName,
    HostProgram,
    ImagePath,
    Mode,
    Name,
    OneLine,
    OptionNeed,
    PartitionSize,
    PartitionType,
    PublicKey,
    RefName,
    Relative,
    Requirement,
    Sha256,
    Size,
    Span,
    ToolPrefix,
    Url,
    Variable,
    VersionText,
    WishText,
)


class Definable(msgspec.Struct, frozen=True, kw_only=True, rename="kebab", forbid_unknown_fields=True):
    """Base of all tables: immutable, strict about keys. `KEY` is what tells the tables of an array apart when one array is
    merged with another."""

    KEY: ClassVar[str] = ""
    #: A change to a definition has to say `add = true` where it adds one: a slip in a name must not make another one.
    ADDING_IS_SAID: ClassVar[bool] = False


@dataclass(frozen=True)
class Part:
    """Marks a table that holds some keys of another shape; an empty name means the shape of the whole file."""

    of: str


#: Some keys of the definition that it is in.
OwnChanges = Annotated[dict[str, Any], Part("")]


@dataclass(frozen=True)
class OneOrMore:
    """Marks a value that is one text or a list of texts."""


Names = Annotated[Any, OneOrMore()]


@dataclass(frozen=True)
class Choice:
    """Marks a name that chooses an entry of the table `of`, which rooms above hold; they check it."""

    of: Literal["boot method", "build system", "filesystem"]


class When(Definable, frozen=True, kw_only=True):
    """Settings that hold under conditions, all of which have to be met; a list of values means any of them, and a `-` before
    a value that it must not be.

    `board` is a board or one that it extends, `option` an option of this recipe or `RECIPE[OPTION]`, `version` a wish for this
    recipe's version or `RECIPE >= 2`."""

    arch: Names = ()
    board: Names = ()
    profile: Names = ()
    option: Names = ()
    variant: Names = ()
    version: Names = ()
    set: OwnChanges


Options = dict[Name, dict[Name, bool]]
Versions = dict[Name, WishText]


# yarrik.toml


class WorkspaceTable(Definable, frozen=True, kw_only=True):
    """The workspace itself. `needs_yarrik` is the version that it takes, `product` what commands mean when none is named.
    `catalogues` are paths from the workspace's folder, or addresses. `made_for` is the product file that a workspace was made
    for by `yarrik build FILE`: shelves and product are those of that file."""

    name: Name
    needs_yarrik: str = ""
    product: Name = ""
    catalogues: tuple[OneLine, ...] = ()
    made_for: OneLine = ""


class ShelfChoice(Definable, frozen=True, kw_only=True):
    """A shelf of the workspace: a folder, by its `path` from the workspace's own; or a `git` repository, which `yarrik shelf
    sync` clones into shelves/NAME. Of a repository, one of `branch`, `tag` and `commit` says what to take, without them its
    usual branch; yarrik.lock pins the commit. `folder` is the shelf's folder in the repository. With `shallow` only
    the one commit is fetched, without its history."""

    KEY: ClassVar[str] = "name"

    name: Name
    path: str = ""
    git: GitUrl = ""
    branch: RefName = ""
    tag: RefName = ""
    commit: CommitId = ""
    folder: Relative = ""
    shallow: bool = False

    @property
    def clone(self) -> str:
        """The path of a repository's working tree, from the workspace's folder."""
        return f"shelves/{self.name}"

    @property
    def place(self) -> str:
        """The path of the shelf's folder, from the workspace's own."""
        if not self.git:
            return self.path
        return f"{self.clone}/{self.folder}" if self.folder else self.clone


class WorkspaceFile(Definable, frozen=True, kw_only=True):
    """`yarrik.toml`: the workspace and its shelves."""

    workspace: WorkspaceTable
    shelf: tuple[ShelfChoice, ...] = ()


# shelf.toml


class ShelfTable(Definable, frozen=True, kw_only=True):
    """A shelf: what it is called, its version, and shelves that it needs. `works_with` says for other shelves which versions of
    them it works with, whether it needs them or not. `terms` is a text that users have to accept."""

    name: Name
    summary: OneLine = ""
    version: OneLine = ""
    needs: tuple[Name, ...] = ()
    needs_yarrik: str = ""
    works_with: dict[Name, WishText] = {}
    terms: Relative = ""


class ShelfFile(Definable, frozen=True, kw_only=True):
    """`shelf.toml`: marks a folder as a shelf."""

    shelf: ShelfTable


# catalogues


class CatalogueTable(Definable, frozen=True, kw_only=True):
    """A catalogue: what it is called."""

    name: Name
    summary: OneLine = ""


ListedKind = Literal["board", "profile", "image", "product", "recipe", "variant", "group", "package", "option", "role"]


class Listed(Definable, frozen=True, kw_only=True):
    """Something that a shelf holds. `of` is the recipe of a package or option, and the package of a role."""

    kind: ListedKind
    name: Name
    summary: OneLine = ""
    version: OneLine = ""
    of: Name = ""


class CatalogueShelf(Definable, frozen=True, kw_only=True):
    """A shelf that exists: where it is, what its `shelf.toml` says, and what it holds. Its place is a `git` repository, or a
    `path` from the catalogue's folder."""

    KEY: ClassVar[str] = "name"

    name: Name
    summary: OneLine = ""
    version: OneLine = ""
    path: Relative = ""
    git: GitUrl = ""
    branch: RefName = ""
    tag: RefName = ""
    commit: CommitId = ""
    folder: Relative = ""
    needs: tuple[Name, ...] = ()
    needs_yarrik: str = ""
    works_with: dict[Name, WishText] = {}
    holds: tuple[Listed, ...] = ()


class CatalogueFile(Definable, frozen=True, kw_only=True):
    """A catalogue of shelves, in TOML or JSON. `yarrik catalogue make` writes one."""

    catalogue: CatalogueTable
    shelf: tuple[CatalogueShelf, ...] = ()


# boards/NAME.toml


class Toolchain(Definable, frozen=True, kw_only=True):
    """The compiler is `PREFIXgcc`: this machine's, or the one in the archive of a `recipe` that is built with
    `using = "toolchain"`."""

    prefix: ToolPrefix = ""
    recipe: Name = ""
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

    KEY: ClassVar[str] = "name"

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

    `root` is the form in which the kernel gets the root filesystem's name; `root_device` is the disk that the form `device`
    names, like `mmcblk0`. `command_line_in` says where the command line stands. With `initramfs = "root"` the whole root
    filesystem is unpacked into memory. `seconds` is how long a menu waits. `key` is the private key that signs."""

    method: Annotated[Name, Choice("boot method")] = "menu"
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

    KEY: ClassVar[str] = "name"
    ADDING_IS_SAID: ClassVar[bool] = True

    name: OneLine
    filesystem: Annotated[Name, Choice("filesystem")] = "ext4"
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
    inodes: Annotated[int, msgspec.Meta(ge=16, le=0xFFFF_FFFF)] | None = None
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

    KEY: ClassVar[str] = "name"
    ADDING_IS_SAID: ClassVar[bool] = True

    name: Name
    table: Literal["gpt", "mbr", "hybrid", "none"] = "gpt"
    guid: Guid = ""
    signature: DiskSignature = ""
    also: tuple[Literal["zstd", "gzip", "xz", "map", "sparse"], ...] = ()
    size: Size = ""
    partition: tuple[Partition, ...] = ()
    blob: tuple[Blob, ...] = ()


class Board(Definable, frozen=True, kw_only=True):
    """A board: its architecture, compiler, kernel, boot files, memory, emulator and disks."""

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
    options: Options = {}
    versions: Versions = {}
    when: tuple[When, ...] = ()


# profiles/NAME.toml


class Profile(Definable, frozen=True, kw_only=True):
    """What all images of a kind share: C library, init, flags, and the time that files get."""

    summary: OneLine = ""
    extends: Name = ""
    replaces: Name = ""
    c_library: Requirement = "libc"
    init: Requirement
    init_path: ImagePath = "/sbin/init"
    merged_usr: bool = False
    c_flags: tuple[OneLine, ...] = ("-O2",)
    link_flags: tuple[OneLine, ...] = ()
    strip: bool = True
    clock: datetime.datetime = datetime.datetime(2026, 1, 1, tzinfo=datetime.UTC)
    options: Options = {}
    versions: Versions = {}
    when: tuple[When, ...] = ()


# images/NAME.toml


class Root(Definable, frozen=True, kw_only=True):
    """`login`: nobody logs in as root (`locked`), without a password (`open`), or with the one in `password_hash`."""

    login: Literal["locked", "open", "password"] = "locked"
    password_hash: OneLine = ""
    shell: ImagePath = "/bin/sh"


class User(Definable, frozen=True, kw_only=True):
    """An account of the image, with its number, home and shell."""

    KEY: ClassVar[str] = "name"

    name: Account
    id: int
    home: ImagePath = "/"
    shell: ImagePath = "/bin/false"


class ImageFile(Definable, frozen=True, kw_only=True):
    """A file of the image: its `content`, or a file beside the image's own (`from`)."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    content: str | None = None
    from_file: Relative = msgspec.field(default="", name="from")
    owner: Account = "root"
    mode: Mode = "0644"


class ImageFolder(Definable, frozen=True, kw_only=True):
    """An empty folder of the image."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    owner: Account = "root"
    mode: Mode = "0755"


class ImageNode(Definable, frozen=True, kw_only=True):
    """A device node of the image."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    kind: Literal["character", "block"]
    major: Annotated[int, msgspec.Meta(ge=0, le=0xFFF)]
    minor: Annotated[int, msgspec.Meta(ge=0, le=0xF_FFFF)]
    owner: Account = "root"
    mode: Mode = "0600"


class Image(Definable, frozen=True, kw_only=True):
    """`refuse` names packages that are not to come in because others recommend them."""

    summary: OneLine = ""
    extends: Name = ""
    replaces: Name = ""
    packages: tuple[Requirement, ...]
    refuse: tuple[Name, ...] = ()
    hostname: HostName = ""
    marker: OneLine = ""
    root: Root = Root()
    user: tuple[User, ...] = ()
    file: tuple[ImageFile, ...] = ()
    folder: tuple[ImageFolder, ...] = ()
    node: tuple[ImageNode, ...] = ()
    options: Options = {}
    versions: Versions = {}
    when: tuple[When, ...] = ()


# groups/NAME.toml


class Group(Definable, frozen=True, kw_only=True):
    """Packages that belong together, asked for as `@NAME`."""

    summary: OneLine = ""
    replaces: Name = ""
    packages: tuple[Requirement, ...]
    recommends: tuple[Requirement, ...] = ()


# products/NAME.toml


class Changes(Definable, frozen=True, kw_only=True):
    """Changes to whatever board, profile and image a product names, to the product itself, and to recipes by name."""

    product: Annotated[dict[str, Any], Part("product")] = {}
    board: Annotated[dict[str, Any], Part("board")] = {}
    profile: Annotated[dict[str, Any], Part("profile")] = {}
    image: Annotated[dict[str, Any], Part("image")] = {}
    recipe: dict[Name, Annotated[dict[str, Any], Part("recipe")]] = {}


class Product(Definable, frozen=True, kw_only=True):
    """`marker` is the console's line that says the image is up; it goes before the image's own. `variants` are taken when
    none are named. `set` changes what the product names, for this product only. `silence` names warnings by their
    codes that are not to be shown, each with the reason."""

    summary: OneLine = ""
    replaces: Name = ""
    board: Name
    profile: Name
    image: Name
    marker: OneLine = ""
    variants: tuple[Name, ...] = ()
    silence: dict[OneLine, OneLine] = {}
    options: Options = {}
    versions: Versions = {}
    set: Changes = Changes()


# a product in one file


class ProductFile(Product, frozen=True, kw_only=True):
    """A product with the shelves that it is made of, for `yarrik build FILE`. It takes its name from the file unless it has
    one. `include` names other such files: they are merged in order, later ones over earlier ones, and this one over all."""

    name: Name
    include: tuple[OneLine, ...] = ()
    needs_yarrik: str = ""
    shelf: tuple[ShelfChoice, ...] = ()


# variants/NAME.toml, yarrik.local.toml


class Variant(Definable, frozen=True, kw_only=True):
    """A small set of changes for one build."""

    summary: OneLine = ""
    replaces: Name = ""
    options: Options = {}
    versions: Versions = {}
    set: Changes = Changes()


# settings.toml; [settings] in yarrik.local.toml


class SharedCache(Definable, frozen=True, kw_only=True):
    """A cache that several machines share: `at` is a folder, an HTTP(S) URL, or `s3://BUCKET/FOLDER`. With `push`, what is
    built here goes there, signed with `signing_key`, a file; `endpoint` is the URL of an S3 store of one's own. An answer is
    waited for as long as `time_out`, a few times; a cache that does not answer is left alone for the rest of the build."""

    KEY: ClassVar[str] = "name"

    name: Name
    at: OneLine
    push: bool = False
    signing_key: OneLine = ""
    endpoint: OneLine = ""
    time_out: Span = "10 s"


class Diversion(Definable, frozen=True, kw_only=True):
    """Where a recipe's sources are taken from on this machine, for work on them: a folder by its `path`, or a `git`
    repository at a branch or commit. It is said at every build, and with `--locked` it is refused."""

    path: OneLine = ""
    git: GitUrl = ""
    branch: RefName = ""
    commit: CommitId = ""


class AcceptedTerms(Definable, frozen=True, kw_only=True):
    """A text of terms that a user has accepted: its SHA-256, and the day."""

    sha256: Sha256
    date: OneLine = ""


class Proxies(Definable, frozen=True, kw_only=True):
    """Proxies by what is asked for through them; hosts in `direct` are reached without one. The environment goes first."""

    http: OneLine = ""
    https: OneLine = ""
    direct: tuple[OneLine, ...] = ()


class LocalSettings(Definable, frozen=True, kw_only=True):
    """What holds for a person or machine. Results from shared caches count when one of `trusted_keys` has signed them.
    `mirrors` tell for the beginning of a URL where else to look first. `redirect_hosts` are those that other servers may send a
    download on to. `use` diverts sources of recipes; `terms` are texts that were accepted, by kind and name."""

    jobs: Annotated[int, msgspec.Meta(ge=0, le=4096)] = 0
    cache: OneLine = ""
    trusted_keys: tuple[PublicKey, ...] = ()
    shared_cache: tuple[SharedCache, ...] = ()
    mirrors: dict[str, tuple[OneLine, ...]] = {}
    redirect_hosts: tuple[OneLine, ...] = ()
    catalogues: tuple[OneLine, ...] = ()
    proxies: Proxies = Proxies()
    use: dict[Name, Diversion] = {}
    terms: dict[OneLine, AcceptedTerms] = {}


class Local(Variant, frozen=True, kw_only=True):
    """The last word on this machine: changes of the product, and settings of a person or machine."""

    settings: LocalSettings = LocalSettings()


# amendments/NAME.toml


class Amendment(Definable, frozen=True, kw_only=True):
    """A shelf's change to one definition of another shelf: exactly one of `recipe`, `board`, `profile`, `image` names it."""

    summary: OneLine = ""
    recipe: Name = ""
    board: Name = ""
    profile: Name = ""
    image: Name = ""
    set: Annotated[dict[str, Any], Part("target")] = {}
    when: tuple[When, ...] = ()

    @property
    def target(self) -> tuple[str, str]:
        """Kind and name of what it changes; empty ones when that is not said."""
        named = [(kind, name) for kind in ("recipe", "board", "profile", "image") if (name := getattr(self, kind))]
        return named[0] if len(named) == 1 else ("", "")


# recipes/NAME/recipe.toml


class Source(Definable, frozen=True, kw_only=True):
    """Exactly one of `path` (a folder beside the recipe), `host_file` (an archive of a Debian package), `url` and `git`.

    A `url` needs `sha256`; `mirrors` are asked after it, in order. `name` is the file's, where the address does not end with
    it; an archive is unpacked, any other file taken as it is. `{version}` stands for the recipe's version.

    A `git` repository needs the whole `commit`, which is its digest; `folder` takes a part of it, `submodules` what it links
    to. An archive with more members than `member_limit`, or whose files are larger than `size_limit` in all, is refused."""

    path: Relative = ""
    git: GitUrl = ""
    commit: CommitId = ""
    folder: Relative = ""
    submodules: bool = False
    url: Url = ""
    mirrors: tuple[Url, ...] = ()
    name: Relative = ""
    host_file: str = ""
    debian_package: Name = ""
    sha256: Sha256 = ""
    member_limit: Annotated[int, msgspec.Meta(ge=1, le=1 << 31)] = 200_000
    size_limit: Size = "16 GiB"


class Placing(Definable, frozen=True, kw_only=True):
    """One file or folder of the sources, and where it belongs in the image."""

    from_path: Relative = msgspec.field(name="from")
    to: ImagePath
    mode: Mode = ""


class Build(Definable, frozen=True, kw_only=True):
    """How the sources become files.

    `arguments` go to the build system's configuration (with `make`, to make itself), `variables` are set for it.
    `commands_before` and `commands_after` are shell commands around any build system's own work; `plain` has these and
    `commands` only. `place` is for `files` and `prebuilt`. `device_trees` are blobs of a kernel's own sources that its build
    makes too, like `coast/pier.dtb`; they become a package of their own.

    `weight` (in jobs) and `memory` tell what a build takes, so that not too many run beside it. `time_limit` and `output_limit`
    (of the log) and `process_limit` (processes and threads at a time) end one that goes astray. `let_in` names variables of the
    environment that the commands may see. `programs` are those of the host that they run, beside a shell's usual ones and those
    of the build system: names, paths, or modules of Perl like `perl:XML::Parser`. `program_versions` says how new some of them
    have to be, by what they answer to `--version`."""

    using: Annotated[Name, Choice("build system")]
    needs: tuple[Requirement, ...] = ()
    tools: tuple[Requirement, ...] = ()
    goals: tuple[OneLine, ...] = ()
    install_goals: tuple[OneLine, ...] = ("install",)
    arguments: tuple[OneLine, ...] = ()
    variables: dict[Variable, OneLine] = {}
    commands_before: tuple[str, ...] = ()
    commands: tuple[str, ...] = ()
    commands_after: tuple[str, ...] = ()
    place: tuple[Placing, ...] = ()
    device_trees: tuple[Relative, ...] = ()
    weight: Annotated[int, msgspec.Meta(ge=1, le=4096)] = 1
    memory: Size = ""
    time_limit: Span = ""
    output_limit: Size = ""
    process_limit: Annotated[int, msgspec.Meta(ge=16, le=1 << 22)] = 4096
    let_in: tuple[Variable, ...] = ()
    programs: tuple[HostProgram, ...] = ()
    program_versions: dict[HostProgram, WishText] = {}


class OptionRule(Definable, frozen=True, kw_only=True):
    """A switch of a recipe. `needs` and `tools` are for building with it on; `needs` and `excludes` may name other options of
    the recipe as `options.NAME`. `arguments` and `variables` are added to the build when it is on, those `_off` when it is off.
    `packages` are packages of the recipe that exist only with it."""

    summary: OneLine = ""
    default: bool = False
    needs: tuple[OptionNeed, ...] = ()
    tools: tuple[Requirement, ...] = ()
    excludes: tuple[OptionNeed, ...] = ()
    arguments: tuple[OneLine, ...] = ()
    arguments_off: tuple[OneLine, ...] = ()
    variables: dict[Variable, OneLine] = {}
    variables_off: dict[Variable, OneLine] = {}
    packages: tuple[Name, ...] = ()


class ChoiceRule(Definable, frozen=True, kw_only=True):
    """Options of which exactly one is on; `default` is the one that is on when nobody asks."""

    summary: OneLine = ""
    of: tuple[Name, ...]
    default: Name = ""


class Attributes(Definable, frozen=True, kw_only=True):
    """Owner and mode of one path of a package; without an entry it belongs to root, with the mode the build gave."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    owner: Account = "root"
    mode: Mode = ""


class PackageRule(Definable, frozen=True, kw_only=True):
    """`files` are paths in the image; `*` stands for any part of a name, `**` for whole folders.

    `provides` are roles, like `shell`. `recommends` come along unless the image refuses them. `replaces` names a package that
    this one replaces: it answers to that name, and the two are never together."""

    summary: OneLine = ""
    files: tuple[str, ...] = ()
    needs: tuple[Requirement, ...] = ()
    recommends: tuple[Requirement, ...] = ()
    provides: tuple[Name, ...] = ()
    excludes: tuple[Requirement, ...] = ()
    replaces: tuple[Name, ...] = ()
    attributes: tuple[Attributes, ...] = ()


class Recipe(Definable, frozen=True, kw_only=True):
    """`versions` lists all that can be built where there is more than `version`, which is then the preferred one; without it
    the newest is. `{version}` in a source's path stands for the one that is built.

    `licence` is an SPDX expression, `licence_files` are its texts in the sources. `patches` lie beside the recipe, and are laid
    on in this order. What is `private`, and all that is made of it, is never sent to a shared cache. `terms` is a text
    beside the recipe that users have to accept before anything of it is downloaded or built."""

    summary: OneLine = ""
    replaces: Name = ""
    version: VersionText = ""
    versions: tuple[VersionText, ...] = ()
    licence: OneLine
    licence_files: tuple[str, ...] = ()
    private: bool = False
    terms: Relative = ""
    source: tuple[Source, ...] = ()
    patches: tuple[Relative, ...] = ()
    build: Build
    options: dict[Name, OptionRule] = {}
    choice: dict[Name, ChoiceRule] = {}
    package: dict[Name, PackageRule] = {}
    when: tuple[When, ...] = ()
