"""The shape of every file that people write. Keys in the files have `-` where names here have `_`."""

import datetime
from pathlib import Path
from typing import Annotated, Any, ClassVar, Literal

import msgspec

from yarrik.model.rules import (
    Account,
    AccountComment,
    Address,
    Address4Or6,
    AddressWithBits,
    Alignment,
    CapabilityText,
    CardFileName,
    CheckCode,
    CommitId,
    ConfigName,
    CountryCode,
    DiskSignature,
    ExtendedName,
    FileOrOutput,
    FilesystemIdentifier,
    GitUrl,
    Guid,
    HostName,
    HostNameOrDomain,
    HostProgram,
    ImagePath,
    InterfaceName,
    LinkTarget,
    ListenText,
    LocaleName,
    Mode,
    MountOption,
    Name,
    NameOrNothing,
    OneLine,
    OptionNeed,
    OutputName,
    OutputText,
    PartitionSize,
    PartitionType,
    ProductVersion,
    PublicKey,
    RefName,
    Relative,
    ReleaseId,
    Requirement,
    ServiceName,
    SettingName,
    Sha256,
    Size,
    Span,
    Ssid,
    SysctlKey,
    ToolPrefix,
    Url,
    Variable,
    VersionText,
    WishText,
    ZoneName,
)


class Definable(msgspec.Struct, frozen=True, kw_only=True, rename="kebab", forbid_unknown_fields=True):
    """Base of all tables: immutable, strict about keys. `KEY` is what tells the tables of an array apart when one array is
    merged with another."""

    KEY: ClassVar[str] = ""
    #: A change to a definition has to say `add = true` where it adds one: a slip in a name must not make another one.
    ADDING_IS_SAID: ClassVar[bool] = False


class Part(msgspec.Struct, frozen=True):
    """Marks a table that holds some keys of another shape; an empty name means the shape of the whole file."""

    of: str


#: Some keys of the definition that it is in.
OwnChanges = Annotated[dict[str, Any], Part("")]


class OneOrMore(msgspec.Struct, frozen=True):
    """Marks a value that is one text or a list of texts."""


Names = Annotated[Any, OneOrMore()]


class Choice(msgspec.Struct, frozen=True):
    """Marks a name that chooses an entry of the table `of`, which rooms above hold; they check it."""

    of: Literal["boot method", "build system", "filesystem", "service form", "network form"]


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


#: Where shelves are that come with Yarrik, each in a folder of its name, with a catalogue of them.
BUILT_IN_SHELVES = Path(__file__).parent.parent / "commons"


class ShelfChoice(Definable, frozen=True, kw_only=True):
    """A shelf of the workspace: a folder, by its `path` from the workspace's own; a `git` repository, which `yarrik shelf
    sync` clones into shelves/NAME; or a `built_in` one, which comes with Yarrik and is always the first.

    Of a repository, one of `branch`, `tag` and `commit` says what to take, without them its usual branch; yarrik.lock pins the
    commit. `folder` is the shelf's folder in the repository. With `shallow` only the one commit is fetched, without its
    history."""

    KEY: ClassVar[str] = "name"

    name: Name
    path: str = ""
    git: GitUrl = ""
    branch: RefName = ""
    tag: RefName = ""
    commit: CommitId = ""
    folder: Relative = ""
    shallow: bool = False
    built_in: bool = False

    @property
    def clone(self) -> str:
        """The path of a repository's working tree, from the workspace's folder."""
        return f"shelves/{self.name}"

    @property
    def place(self) -> str:
        """The path of the shelf's folder, from the workspace's own; a whole one where it comes with Yarrik."""
        if self.built_in:
            return str(BUILT_IN_SHELVES / self.name)
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
    `using = "toolchain"`. With the `compiler` clang, recipes are compiled and linked by this machine's clang and lld, against
    the same C library; kernels and bootloaders stay with gcc."""

    prefix: ToolPrefix = ""
    compiler: Literal["gcc", "clang"] = "gcc"
    recipe: Name = ""
    c_flags: tuple[OneLine, ...] = ()


class KernelChoice(Definable, frozen=True, kw_only=True):
    """Where no shelf has `recipe`, the first of `otherwise` that one has is taken: other versions, the preferred one first.
    `base`, `fragments`, `form`, `built_in` (a folder that becomes the kernel's own initramfs) and `built_in_image` (an image of
    the product that does) serve recipes that build with `using = "kernel"`.

    `device_tree`, `more_device_trees` (those of boards that share the image), `overlays` and the folders `include` lie beside
    the file that names them, and may include what lies beside any file of the board; `silence` names checks of device trees
    that are not to be told of. `console` is the one that programs talk to; kernel messages go to `more_consoles` too."""

    recipe: Name
    otherwise: tuple[Name, ...] = ()
    base: ConfigName = "defconfig"
    base_file: Relative = ""
    fragments: tuple[Relative, ...] = ()
    form: Literal["", "Image", "Image.gz", "zImage", "bzImage"] = ""
    built_in: Relative = ""
    built_in_image: NameOrNothing = ""
    device_tree: Relative = ""
    more_device_trees: tuple[Relative, ...] = ()
    overlays: tuple[Relative, ...] = ()
    overlay_parameters: dict[Name, dict[Variable, OneLine]] = {}
    include: tuple[Relative, ...] = ()
    keep_labels: bool = False
    silence: tuple[CheckCode, ...] = ()
    console: OneLine = ""
    more_consoles: tuple[OneLine, ...] = ()
    log_level: Annotated[int, msgspec.Meta(ge=0, le=8)] | None = None
    arguments: tuple[OneLine, ...] = ()


class MenuChoice(Definable, frozen=True, kw_only=True):
    """A further entry of the boot menu: the same kernel with more words on its command line, another of the board's device
    trees (by its source), or another image of the product in memory as `initramfs`."""

    KEY: ClassVar[str] = "name"

    name: Name
    title: OneLine = ""
    arguments: tuple[OneLine, ...] = ()
    device_tree: Relative = ""
    initramfs: Name = ""


class SlotChoice(Definable, frozen=True, kw_only=True):
    """A complete system on the disk, one of several of which one runs while another is replaced: `root` is the partition of its
    root filesystem. It has an entry of its own in the boot menu."""

    KEY: ClassVar[str] = "name"

    name: Name
    root: OneLine
    title: OneLine = ""


class SwitchChoice(Definable, frozen=True, kw_only=True):
    """How a script changes between slots: the partition `state` holds which slot is known to work, and which one is tried, for
    `tries` starts. `shared` are partitions that all slots use and no update touches."""

    state: OneLine
    tries: Annotated[int, msgspec.Meta(ge=1, le=9)] = 3
    shared: tuple[OneLine, ...] = ()


class EnvironmentChoice(Definable, frozen=True, kw_only=True):
    """The bootloader's environment: settings from `file`, as a block of `size` in `name` beside the image. A `redundant` one
    has two blocks, whose beginnings are `spacing` apart, without it one behind the other."""

    file: Relative
    size: Size
    redundant: bool = False
    spacing: Size = ""
    name: Relative = "environment.bin"


class SettingsChoice(Definable, frozen=True, kw_only=True):
    """A text file of `key=value` lines for firmware: those of `file`, and `lines`; `path` is where it stands on the boot
    partition. With the method `settings` they follow the lines that are computed, and replace those of the same key."""

    file: Relative = ""
    path: ImagePath = "/config.txt"
    lines: tuple[OneLine, ...] = ()


class LoaderChoice(Definable, frozen=True, kw_only=True):
    """A boot program for firmware to start from the card: one that a Debian package installs (`host_file`), or a `file`."""

    host_file: OneLine = ""
    debian_package: Name = ""
    file: FileOrOutput | None = None


class BootFile(Definable, frozen=True, kw_only=True):
    """A further file of the boot partition: from beside the board's file, or an output of a recipe."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    file: FileOrOutput


class ImagePart(Definable, frozen=True, kw_only=True):
    """A further part of an image tree that is loaded with the kernel, like a firmware stage."""

    KEY: ClassVar[str] = "name"

    name: Name
    file: FileOrOutput
    type: Literal["firmware", "standalone", "tee", "fpga"] = "firmware"
    load: Address = ""
    entry: Address = ""


class BootloaderChoice(Definable, frozen=True, kw_only=True):
    """How a recipe that builds with `using = "bootloader"` is configured for the board: a `base` of its sources or a
    `base_file`, and `fragments`. `environment` is a file of settings that is built in as the default environment.
    `device_tree` is the source of the bootloader's own device tree, beside the board's file; with `verify` it carries the
    public half of `boot.key`, so that only signed image trees are taken."""

    KEY: ClassVar[str] = "recipe"

    recipe: Name
    base: ConfigName = ""
    base_file: Relative = ""
    fragments: tuple[Relative, ...] = ()
    environment: Relative = ""
    device_tree: Relative = ""
    verify: bool = False


class BootChoice(Definable, frozen=True, kw_only=True):
    """`method`: a `menu` file, `entries` for a loader, one `fit` with everything in it, a `script` with wrapped files,
    `uefi`, where firmware starts the kernel itself, or `settings`, a text file of firmware that names all of it.

    `root` is the form in which the kernel gets the root filesystem's name; `root_device` is the disk that the form `device`
    names, like `mmcblk0`. `command_line_in` says where the command line stands. With `initramfs = "root"` the whole root
    filesystem is unpacked into memory; the name of another image of the product has that one there, to find the root
    filesystem. `seconds` is how long a menu waits. The first `slot` is started unless the menu says otherwise; with the method
    `script` each slot has its own kernel, and `switch` says how one is chosen. `key` is the private key that signs. Without a
    `script` an image tree stands alone, and the bootloader's own boot command starts it."""

    method: Annotated[Name, Choice("boot method")] = "menu"
    root: Literal["partuuid", "partlabel", "uuid", "label", "device", "none"] = "partuuid"
    root_device: OneLine = ""
    read_only: bool | None = None
    command_line_in: Literal["boot-files", "device-tree", "kernel", "bootloader"] = "boot-files"
    overlays: Literal["applied", "placed"] = "applied"
    initramfs: Name = "none"
    initramfs_compression: Literal["none", "gzip", "xz", "zstd"] = "gzip"
    seconds: Annotated[int, msgspec.Meta(ge=0, le=600)] = 0
    entry: tuple[MenuChoice, ...] = ()
    slot: tuple[SlotChoice, ...] = ()
    switch: SwitchChoice | None = None
    loader: LoaderChoice | None = None
    file: tuple[BootFile, ...] = ()
    part: tuple[ImagePart, ...] = ()
    script: bool = True
    key: Relative = ""
    key_name: Name = "product"
    environment: EnvironmentChoice | None = None
    settings: SettingsChoice | None = None
    memory_bundle: bool = False


class MemoryChoice(Definable, frozen=True, kw_only=True):
    """Where the bootloader puts things; what is not given follows from where memory begins. `size` and `base` say where
    memory is when no device tree does. `entry` is where a wrapped kernel starts, without it where it is put."""

    base: Address = ""
    size: Size = ""
    kernel: Address = ""
    device_tree: Address = ""
    overlays: Address = ""
    initramfs: Address = ""
    script: Address = ""
    bundle: Address = ""
    entry: Address = ""


class Emulator(Definable, frozen=True, kw_only=True):
    """How `yarrik boot` starts this board. In the arguments, `{image}` stands for its disk, `{bootloader}` for that file,
    and `{device-tree}` for the board's device tree blob, for emulators that hand it on as firmware does; `{image:NAME}` for
    another of its disks, `{out}` for the folder with the product's files, `{command-line}` for that of a memory bundle, and
    `{RECIPE:OUTPUT}` for an output of a recipe, as which the bootloader may be named too."""

    program: OneLine
    arguments: tuple[OneLine, ...]
    bootloader: str = ""
    debian_packages: tuple[Name, ...] = ()


class Partition(Definable, frozen=True, kw_only=True):
    """`copies` are the names of further partitions with the same content. `bootable` marks where boot files are looked
    for; without it that is the partition that holds them. `raw` takes its content from `file`. `image` is another root
    filesystem of the product that it holds.

    With `verified` the kernel checks each block of it when it is read, by a tree of digests behind the filesystem.

    `guid` is the partition's and `identifier` the filesystem's; without them they derive from the names. `in_mbr` shows
    it in a hybrid disk's classic table too."""

    KEY: ClassVar[str] = "name"
    ADDING_IS_SAID: ClassVar[bool] = True

    name: OneLine
    filesystem: Annotated[Name, Choice("filesystem")] = "ext4"
    file: FileOrOutput | None = None
    size: PartitionSize = "fit"
    holds: Literal["root", "boot", "nothing"] = "nothing"
    type: PartitionType = ""
    label: OneLine = ""
    align: Alignment = "1 MiB"
    bootable: bool | None = None
    read_only: bool = False
    verified: bool = False
    image: Name = ""
    mount: ImagePath = ""
    mount_options: tuple[MountOption, ...] = ()
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
    """A raw file at an offset of the disk, and at each of `copies`; `at_most` is the room it may take. It lies beside the
    board's file, is made by the build, or is an output of a recipe."""

    file: FileOrOutput
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
    bootloader: tuple[BootloaderChoice, ...] = ()
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
    service_form: Annotated[Name, Choice("service form")] = "plain"
    network_form: Annotated[Name, Choice("network form")] = "plain"
    merged_usr: bool = False
    c_flags: tuple[OneLine, ...] = ("-O2",)
    link_flags: tuple[OneLine, ...] = ()
    strip: bool = True
    expects: tuple[Literal["relro", "bind-now", "pie", "no-executable-stack", "stripped"], ...] = ()
    refuse_licences: tuple[OneLine, ...] = ()
    clock: datetime.datetime = datetime.datetime(2026, 1, 1, tzinfo=datetime.UTC)
    options: Options = {}
    versions: Versions = {}
    when: tuple[When, ...] = ()


# images/NAME.toml


class ServiceLimits(Definable, frozen=True, kw_only=True):
    """What a service may take at most; `open_files` and `processes` are counted."""

    open_files: Annotated[int, msgspec.Meta(ge=16, le=1 << 20)] | None = None
    processes: Annotated[int, msgspec.Meta(ge=1, le=1 << 20)] | None = None
    memory: Size = ""


class Service(Definable, frozen=True, kw_only=True):
    """A program that runs without anybody at the keyboard; the profile's `service-form` says in which form its files are.

    It runs as `user`, in its first group or `group`, in the folder `folder`, with the variables of `environment` and of
    lines `NAME="VALUE"` in `environment_file`, if there is one; without those of `needs_environment` it cannot work. It
    starts after those in `after` that there are, and only if those in `needs` are up. It is up at once, or when it has
    made `ready_file`, or, if it runs `once`, when it has ended well. When it ends, it is started again as `restart` says,
    after `restart_delay`, which doubles up to `restart_most`. With `listen` it is started when somebody connects
    (`tcp:ADDRESS:PORT`, `unix:PATH`), with `every` again and again. `log` is where its words go: the console, or a `ring`
    of files that never grows. `writes` are the places that a `confined` service may write to."""

    KEY: ClassVar[str] = "name"

    name: ServiceName
    summary: OneLine = ""
    program: ImagePath = ""
    arguments: tuple[OneLine, ...] = ()
    user: Account = ""
    group: Account = ""
    folder: ImagePath = ""
    environment: dict[Variable, OneLine] = {}
    environment_file: ImagePath = ""
    needs_environment: tuple[Variable, ...] = ()
    after: tuple[ServiceName, ...] = ()
    needs: tuple[ServiceName, ...] = ()
    once: bool | None = None
    ready_file: ImagePath = ""
    restart: Literal["", "never", "on-failure", "always"] = ""
    restart_delay: Span = ""
    restart_most: Span = ""
    stop_after: Span = ""
    listen: ListenText = ""
    every: Span = ""
    log: Literal["", "console", "ring"] = ""
    confined: bool | None = None
    writes: tuple[ImagePath, ...] = ()
    limits: ServiceLimits = ServiceLimits()


class ImageService(Service, frozen=True, kw_only=True):
    """A service of the image; it changes one of the same name that a package brings, which it may also turn off."""

    enabled: bool = True


class Wireless(Definable, frozen=True, kw_only=True):
    """A wireless network: its name, and the secret that it is joined with. Without a secret it is open to all."""

    ssid: Ssid
    secret: Name = ""
    country: CountryCode = ""


class Interface(Definable, frozen=True, kw_only=True):
    """A network interface; the profile's `network-form` says in which form its files are.

    `kind` is `wired`, `wireless` (with [network.wireless]), `vlan` (`number` of the interface `of`), or `bridge` (of `ports`).
    It has its own `addresses`, or asks for them (`automatic`: by DHCP over IPv4, by router advertisements over IPv6). The start
    does not wait for what is `optional`."""

    KEY: ClassVar[str] = "name"

    name: InterfaceName
    kind: Literal["wired", "wireless", "vlan", "bridge"] = "wired"
    addresses: tuple[AddressWithBits, ...] = ()
    gateways: tuple[Address4Or6, ...] = ()
    automatic: tuple[Literal["ipv4", "ipv6"], ...] = ()
    name_servers: tuple[Address4Or6, ...] = ()
    search: tuple[HostNameOrDomain, ...] = ()
    of: InterfaceName = ""
    number: Annotated[int, msgspec.Meta(ge=1, le=4094)] | None = None
    ports: tuple[InterfaceName, ...] = ()
    wireless: Wireless | None = None
    mtu: Annotated[int, msgspec.Meta(ge=576, le=65535)] | None = None
    optional: bool = False


#: How somebody logs in: without a password, with one, or not at all.
LoginWay = Literal["locked", "open", "password"]


class GroupAccount(Definable, frozen=True, kw_only=True):
    """A group of accounts. Without an `id` it gets a number, which the lock keeps."""

    KEY: ClassVar[str] = "name"

    name: Account
    id: int | None = None


class ServiceAccount(Definable, frozen=True, kw_only=True):
    """An account as a package asks for it: nobody logs in with it.

    Without an `id` it gets a number, which the lock keeps. `group` is its first group, otherwise one of its own name;
    `groups` are further ones. Where two ask for the same account, each says only what matters to it."""

    KEY: ClassVar[str] = "name"

    name: Account
    id: int | None = None
    group: Account = ""
    groups: tuple[Account, ...] = ()
    home: ImagePath = ""
    shell: ImagePath = ""
    comment: AccountComment = ""


class User(ServiceAccount, frozen=True, kw_only=True):
    """An account of the image; it adds to one of the same name that a package asks for, and has the last word.

    `kind` chooses the range of its number: `system` is 100 to 999, `person` 1000 to 59999; without it, who can log in is a
    person. The home is filled with a copy of `skeleton`, a folder of the image. `login` follows from what else is there: with
    a hash or a secret it is `password`. `password_secret` names a secret of the local settings, which is hashed when the image
    is built. `keys` are public keys for login, `key_files` files of such. The account is closed from the day `expires` on."""

    kind: Literal["", "system", "person"] = ""
    skeleton: ImagePath = ""
    login: LoginWay | None = None
    password_hash: OneLine = ""
    password_secret: Name = ""
    keys: tuple[OneLine, ...] = ()
    key_files: tuple[Relative, ...] = ()
    expires: datetime.date | None = None


class Root(Definable, frozen=True, kw_only=True):
    """How one logs in as root; keys are those of `User`."""

    login: LoginWay | None = None
    password_hash: OneLine = ""
    password_secret: Name = ""
    keys: tuple[OneLine, ...] = ()
    key_files: tuple[Relative, ...] = ()
    shell: ImagePath = "/bin/sh"


class ImageFile(Definable, frozen=True, kw_only=True):
    """Exactly one of `content` and `from` is given. A `template` is filled in when the product is planned. `replaces` names the
    package whose file this one takes the place of."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    content: str | None = None
    from_file: Relative = msgspec.field(default="", name="from")
    template: bool = False
    replaces: Name = ""
    owner: Account = "root"
    group: Account = ""
    mode: Mode = "0644"


class TreeRule(Definable, frozen=True, kw_only=True):
    """Owner and mode of what `files` means in a tree: `*` stands for any part of a name, `**` for whole folders. The last rule
    that fits a path counts."""

    KEY: ClassVar[str] = "files"

    files: OneLine
    owner: Account = ""
    group: Account = ""
    mode: Mode = ""
    template: bool | None = None


class ImageTree(Definable, frozen=True, kw_only=True):
    """A folder beside the image's file, laid over the image at `to`, or from its root. All of it belongs to root, with the mode
    0755 for folders and what can be run, and 0644 for other files, unless a `rule` says otherwise. `replaces` names packages
    of which it may take the place of files."""

    KEY: ClassVar[str] = "from"

    from_folder: Relative = msgspec.field(name="from")
    to: ImagePath = ""
    replaces: tuple[Name, ...] = ()
    rule: tuple[TreeRule, ...] = ()


class ImageLink(Definable, frozen=True, kw_only=True):
    """A symbolic link at `path`, with the destination `to`. `replaces` names the package whose file it takes the place of."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    to: LinkTarget
    replaces: Name = ""


class WritablePlace(Definable, frozen=True, kw_only=True):
    """A path of a read-only root filesystem that can be written to. With `on`, where a writable partition is mounted, what is
    written stays: as an `overlay` over what the image has there, or in a folder that takes its place (`bind`). Without it, it
    is in `memory` and gone after a restart; `size` is the most that it may take."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    by: Literal["overlay", "bind", "memory"]
    on: ImagePath = ""
    size: Size = ""


class StartFolder(Definable, frozen=True, kw_only=True):
    """A folder that is made at each start, in a place that is empty then, like /run."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    owner: Account = "root"
    group: Account = ""
    mode: Mode = "0755"


class FirstBootAction(Definable, frozen=True, kw_only=True):
    """Something that a board does itself, once, when it starts for the first time. `grow` gives the last partition of a disk,
    and its filesystem, all room up to the disk's end: the root filesystem's, or `partition`. `machine-id` writes
    /etc/machine-id. `host-name` makes the host name of `text`, with `{serial}` for the board's serial number and `{KEY}` for a
    setting of the card; it follows these at each start. `host-keys` makes keys of `types` for a login service in `folder`, with
    `program`. `run` runs `program` with `arguments`, which has to make the files that it `creates`."""

    KEY: ClassVar[str] = "name"

    name: ServiceName
    do: Literal["grow", "machine-id", "host-name", "host-keys", "run"]
    partition: Name = ""
    text: OneLine = ""
    folder: ImagePath = ""
    types: tuple[Literal["ed25519", "ecdsa", "rsa"], ...] = ()
    program: ImagePath = ""
    arguments: tuple[OneLine, ...] = ()
    creates: tuple[ImagePath, ...] = ()


class FirstBoot(Definable, frozen=True, kw_only=True):
    """What a board does when it starts for the first time, in this order, and the folder in which it remembers what is done.
    Power may be cut at any moment: what was not finished is done at the next start."""

    state: ImagePath = "/var/lib/first-boot"
    action: tuple[FirstBootAction, ...] = ()


class CardSetting(Definable, frozen=True, kw_only=True):
    """A value that a person may change on the card. A `text` has at most `longest` characters, all of them `letters`; a
    `number` is whole, and between `least` and `most`; a `choice` is `one-of` some words; a `switch` is `yes` or `no`; an
    `address` is one of IPv4 or IPv6."""

    KEY: ClassVar[str] = "name"

    name: SettingName
    kind: Literal["text", "number", "choice", "switch", "address"] = "text"
    summary: OneLine = ""
    usual: OneLine = ""
    longest: Annotated[int, msgspec.Meta(ge=1, le=256)] | None = None
    letters: OneLine = ""
    least: Annotated[int, msgspec.Meta(ge=-(2**63), le=2**63 - 1)] | None = None
    most: Annotated[int, msgspec.Meta(ge=-(2**63), le=2**63 - 1)] | None = None
    one_of: tuple[OneLine, ...] = ()
    secret: bool = False


class CardSettings(Definable, frozen=True, kw_only=True):
    """A text file on the boot partition with values that a person may change, on any computer or with `yarrik boot set`. The
    board checks them when it starts; what does not fit is refused as a whole, and what held before stays. Services read them
    as variables from `settings` in the folder of `first-boot.state`."""

    file: CardFileName = "settings.txt"
    setting: tuple[CardSetting, ...] = ()


class Release(Definable, frozen=True, kw_only=True):
    """What /etc/os-release says of the system (os-release(5) of freedesktop.org), beside what follows from the product."""

    name: OneLine = "Linux"
    id: ReleaseId = "linux"
    version: OneLine = ""
    pretty_name: OneLine = ""
    home_url: OneLine = ""
    support_url: OneLine = ""
    more: dict[Variable, OneLine] = {}


class ImageFolder(Definable, frozen=True, kw_only=True):
    """An empty folder of the image."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    owner: Account = "root"
    group: Account = ""
    mode: Mode = "0755"


class ImageNode(Definable, frozen=True, kw_only=True):
    """A device node of the image."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    kind: Literal["character", "block"]
    major: Annotated[int, msgspec.Meta(ge=0, le=0xFFF)]
    minor: Annotated[int, msgspec.Meta(ge=0, le=0xF_FFFF)]
    owner: Account = "root"
    group: Account = ""
    mode: Mode = "0600"


#: The package with the program that does what is due at a board's first start.
FIRST_BOOT_PACKAGE = "first-boot"


class Image(Definable, frozen=True, kw_only=True):
    """`refuse` names packages that are not to come in because others recommend them."""

    summary: OneLine = ""
    extends: Name = ""
    replaces: Name = ""
    packages: tuple[Requirement, ...]
    refuse: tuple[Name, ...] = ()
    hostname: HostName = ""
    hosts: dict[Address4Or6, tuple[HostNameOrDomain, ...]] = {}
    time_zone: ZoneName = ""
    locale: LocaleName = ""
    message_of_the_day: str = ""
    release: Release | None = None
    environment: dict[Variable, OneLine] = {}
    sysctl: dict[SysctlKey, OneLine] = {}
    values: dict[Name, OneLine] = {}
    marker: OneLine = ""
    root: Root = Root()
    user: tuple[User, ...] = ()
    group: tuple[GroupAccount, ...] = ()
    service: tuple[ImageService, ...] = ()
    network: tuple[Interface, ...] = ()
    firewall: Relative = ""
    tree: tuple[ImageTree, ...] = ()
    file: tuple[ImageFile, ...] = ()
    link: tuple[ImageLink, ...] = ()
    writable: tuple[WritablePlace, ...] = ()
    start_folder: tuple[StartFolder, ...] = ()
    first_boot: FirstBoot | None = None
    card_settings: CardSettings | None = None
    folder: tuple[ImageFolder, ...] = ()
    node: tuple[ImageNode, ...] = ()
    options: Options = {}
    versions: Versions = {}
    when: tuple[When, ...] = ()

    @property
    def asks_for_first_boot(self) -> bool:
        """Whether the board has something to do when it starts that only it can do."""
        return self.first_boot is not None or self.card_settings is not None

    @property
    def first_boot_keys(self) -> tuple[str, ...]:
        """The keys that lead to where it asks for that."""
        if self.first_boot is None:
            return ("card-settings",)
        return ("first-boot", "action", "0") if self.first_boot.action else ("first-boot",)


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


#: Forms that a root filesystem is written in by itself, with what compresses it.
RootForm = Literal["ext4", "squashfs", "tar", "tar-gzip", "tar-xz", "tar-zstd", "cpio", "cpio-gzip", "cpio-xz", "cpio-zstd"]
#: Forms that boot files are written in by themselves.
BootForm = Literal["folder", "fat", "tar", "tar-gzip", "tar-xz", "tar-zstd"]


class MoreImage(Definable, frozen=True, kw_only=True):
    """A further root filesystem of a product, made of packages of the same versions and options: `image` says what is inside.
    It is written `into` files of its own, and taken by `name`: as an initramfs (`boot.initramfs`, or that of a `boot.entry`),
    or into a partition (`image`). Its first program is that of the profile, or `init_path` in the package `init`."""

    KEY: ClassVar[str] = "name"

    name: SettingName
    image: Name
    init: Requirement = ""
    init_path: ImagePath = ""
    into: tuple[RootForm, ...] = ()


class Product(Definable, frozen=True, kw_only=True):
    """`version` is the product's own: up to four numbers, which updates compare.

    `marker` is the console's line that says the image is up; it goes before the image's own. `variants` are taken when
    none are named. `set` changes what the product names, for this product only. `silence` names warnings by their
    codes that are not to be shown, each with the reason. The root filesystem is on the board's disks; it is written `root_into`
    files of its own as well, and what is below /boot `boot_into` such files, or a `folder` that a bootloader reads over the
    network."""

    summary: OneLine = ""
    replaces: Name = ""
    version: ProductVersion = ""
    board: Name
    profile: Name
    image: Name
    more_image: tuple[MoreImage, ...] = ()
    root_into: tuple[RootForm, ...] = ()
    boot_into: tuple[BootForm, ...] = ()
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


class DebianArchive(Definable, frozen=True, kw_only=True):
    """An archive that `debian` sources come from: each of its `suites` has an index that a key of `keyring`, a file, signed. An
    `unsigned` one is taken as it is; so is one that has `expired`."""

    KEY: ClassVar[str] = "url"

    url: Url
    suites: tuple[OneLine, ...]
    components: tuple[OneLine, ...] = ("main",)
    keyring: OneLine = ""
    unsigned: bool = False
    expired: bool = False


class Diversion(Definable, frozen=True, kw_only=True):
    """Where a recipe's sources are taken from on this machine, for work on them: a folder by its `path`, or a `git`
    repository at a branch or commit. It is said at every build, and with `--locked` it is refused."""

    path: OneLine = ""
    git: GitUrl = ""
    branch: RefName = ""
    commit: CommitId = ""


class SecretPlace(Definable, frozen=True, kw_only=True):
    """Where a secret is on this machine: in a variable of the environment, or in a file. It is never in a definition."""

    environment: Variable = ""
    file: OneLine = ""


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
    With `image_keys`, only images that one of them has signed are written to devices.
    `mirrors` tell for the beginning of a URL where else to look first. `redirect_hosts` are those that other servers may send a
    download on to. `debian_archive` takes the place of those that this machine's package manager uses.
    `use` diverts sources of recipes; `terms` are texts that were accepted, by kind and name."""

    jobs: Annotated[int, msgspec.Meta(ge=0, le=4096)] = 0
    cache: OneLine = ""
    trusted_keys: tuple[PublicKey, ...] = ()
    image_keys: tuple[OneLine, ...] = ()
    shared_cache: tuple[SharedCache, ...] = ()
    mirrors: dict[str, tuple[OneLine, ...]] = {}
    redirect_hosts: tuple[OneLine, ...] = ()
    debian_archive: tuple[DebianArchive, ...] = ()
    catalogues: tuple[OneLine, ...] = ()
    proxies: Proxies = Proxies()
    use: dict[Name, Diversion] = {}
    secrets: dict[Name, SecretPlace] = {}
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
    """Exactly one of `path` (a folder beside the recipe), `host_file` (a file of a Debian package), `url`, `git`, `debian` (a
    source package of a Debian archive), and `output`, a file that another recipe's build makes.

    A `url` needs `sha256`; `mirrors` are asked after it, in order. `name` is the file's, where the address does not end with
    it; an archive is unpacked, any other file taken as it is. `{version}` stands for the recipe's version.

    A `git` repository needs the whole `commit`, which is its digest; `submodules` takes what it links to. A `debian` package is
    taken in the newest revision of the recipe's version, or in exactly `version`; the lock holds its files. Its patches are
    laid on unless `debian_patches` is off. Of a repository, an archive or a package, `folder` takes a part.

    An archive with more members than `member_limit`, or whose files are larger than `size_limit` in all, is refused."""

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
    debian: Name = ""
    version: OneLine = ""
    debian_patches: bool = True
    output: OutputText | None = None
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

    `arguments` go to the build system's configuration (with `make`, to make itself), `variables` are set for it. `configure`
    says whether an `autotools` script is Autoconf's, or a `plain` one that somebody wrote by hand: it gets `--prefix` and the
    arguments only, and runs among the sources. In arguments, variables and commands `{triplet}`, `{arch}`, `{arch:SPELLING}`,
    `{tool:NAME}`, `{sysroot}` and `{stage}` stand for what the side that is built for has. `commands_before` and
    `commands_after` are shell commands around any build system's own work; `plain` has these and
    `commands` only. `place` is for `files` and `prebuilt`. `device_trees` are blobs of a kernel's own sources that its build
    makes too, like `coast/pier.dtb`; they become a package of their own. `takes` are outputs of other recipes; in arguments,
    variables and commands `{RECIPE:OUTPUT}` stands for the path of one. `fragments` are options of a bootloader that hold on
    every board. A recipe with a `loader` is a C library: with `c-library` in the profile all that is compiled for the board is
    linked with it, and started by that path.

    `weight` (in jobs) and `memory` tell what a build takes, so that not too many run beside it. `time_limit` and
    `output_limit` (of the log) and `process_limit` (processes and threads at a time) end one that goes astray. `let_in`
    names variables of the environment that the commands may see. `programs` are those of the host that they run, beside a
    shell's usual ones and those of the build system: names, paths, modules like `perl:XML::Parser` or `python:jinja2`, or
    libraries for the host's own compiler like `library:openssl`. `program_versions` says how new some of them have to be,
    by what they answer to `--version`."""

    using: Annotated[Name, Choice("build system")]
    needs: tuple[Requirement, ...] = ()
    tools: tuple[Requirement, ...] = ()
    takes: tuple[OutputText, ...] = ()
    fragments: tuple[Relative, ...] = ()
    loader: OneLine = ""
    goals: tuple[OneLine, ...] = ()
    install_goals: tuple[OneLine, ...] = ("install",)
    configure: Literal["autoconf", "plain"] = "autoconf"
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
    """Owner and mode of one path of a package; without an entry it belongs to root, with the mode the build gave.

    `capabilities` are those of capabilities(7) that a program starts with, like `cap_net_raw=ep`; `extended` are further
    extended attributes, by their names."""

    KEY: ClassVar[str] = "path"

    path: ImagePath
    owner: Account = "root"
    group: Account = ""
    mode: Mode = ""
    capabilities: CapabilityText = ""
    extended: dict[ExtendedName, OneLine] = {}


class PackageRule(Definable, frozen=True, kw_only=True):
    """`files` are paths in the image; `*` stands for any part of a name, `**` for whole folders. `rest` are such patterns
    too, for what no package of the recipe lists in `files`.

    `provides` are roles, like `shell`. `recommends` come along unless the image refuses them. `replaces` names a package that
    this one replaces: it answers to that name, and the two are never together. `user` and `group` are accounts that its
    programs run as, or that its files belong to; `service` are programs that the init starts."""

    summary: OneLine = ""
    files: tuple[str, ...] = ()
    rest: tuple[str, ...] = ()
    needs: tuple[Requirement, ...] = ()
    recommends: tuple[Requirement, ...] = ()
    provides: tuple[Name, ...] = ()
    excludes: tuple[Requirement, ...] = ()
    replaces: tuple[Name, ...] = ()
    attributes: tuple[Attributes, ...] = ()
    user: tuple[ServiceAccount, ...] = ()
    group: tuple[GroupAccount, ...] = ()
    service: tuple[Service, ...] = ()


class Recipe(Definable, frozen=True, kw_only=True):
    """`versions` lists all that can be built where there is more than `version`, which is then the preferred one; without it
    the newest is. `{version}` in a source's path stands for the one that is built.

    `licence` is an SPDX expression, `licence_files` are its texts in the sources. `patches` lie beside the recipe, and are laid
    on in this order. What is `private`, and all that is made of it, is never sent to a shared cache. `terms` is a text
    beside the recipe that users have to accept before anything of it is downloaded or built. `outputs` are files that others
    take as `RECIPE:OUTPUT`: paths of what is installed, or with `using = "bootloader"` of what its build makes."""

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
    outputs: dict[OutputName, Relative] = {}
    options: dict[Name, OptionRule] = {}
    choice: dict[Name, ChoiceRule] = {}
    package: dict[Name, PackageRule] = {}
    when: tuple[When, ...] = ()
