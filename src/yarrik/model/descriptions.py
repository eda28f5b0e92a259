"""What each key of each kind of file is for, with an example; schemas, the reference, `show` and `schema KEY` draw from here.

Types, defaults and limits are those of the shapes in `definitions.py`; a test holds this table complete, and every example
against its shape."""

from __future__ import annotations

from functools import cache

import msgspec

from yarrik.model.definitions import Definable

#: `Shape.key = EXAMPLE`, and below it what the key is for; `*` stands for all shapes with such a key.
_TABLE = r"""
*.summary = "Records the tide level"
  What it is for, on one line.
*.replaces = "coast"
  The shelf whose definition of the same name this one takes the place of.
*.extends = "kittiwake"
  The definition of the same kind that this one is made from; what is written here goes over it.
*.options = { libplot = { png = true } }
  Options of recipes that have to be on or off, by recipe.
*.versions = { libplot = ">= 2" }
  Versions of recipes that are allowed, by recipe.
*.when = [{ board = "kittiwake", set = { summary = "On the pier" } }]
  Settings that hold under conditions.
When.arch = ["arm64", "arm"]
  Architectures of the board; `-arm64` means all others.
When.board = "kittiwake"
  Boards, or boards that these extend.
When.profile = "lean"
  Profiles, or profiles that these extend.
When.option = "libplot[png]"
  Options that are on: of this recipe by their names, of others as `RECIPE[OPTION]`.
When.variant = "display"
  Variants of the build.
When.version = ">= 2"
  A wish for this recipe's version, or for another one's as `RECIPE >= 2`.
When.set = { summary = "On the pier" }
  What is set when all conditions are met: keys of the definition that the condition is in.
WorkspaceTable.name = "harbour"
  The workspace's name.
WorkspaceTable.needs-yarrik = ">= 0.1"
  The versions of Yarrik that it works with.
WorkspaceTable.product = "tide-gauge"
  The product that commands mean when none is named.
WorkspaceTable.catalogues = ["more-shelves/catalogue.toml"]
  Catalogues to search for shelves: paths from the workspace's folder, or addresses.
WorkspaceTable.made-for = "../gauge.toml"
  The product file that the workspace was made for: shelves and product are those of that file.
WorkspaceFile.workspace = { name = "harbour" }
  The workspace itself.
WorkspaceFile.shelf = [{ name = "coast", path = "shelves/coast" }]
  The shelves, in order: later ones may extend, amend or replace what earlier ones have.
ShelfChoice.name = "coast"
  The shelf's name, as in its `shelf.toml`.
ShelfChoice.path = "shelves/coast"
  The shelf's folder, from the workspace's own. Not with `git`.
ShelfChoice.git = "https://example.org/coast.git"
  The address of the repository that the shelf is in. Not with `path`.
ShelfChoice.branch = "stable"
  The repository's branch; without branch, tag and commit its usual one.
ShelfChoice.tag = "v2.1"
  The repository's tag.
ShelfChoice.commit = "4b825dc642cb6eb9a060e54bf8d69288fbee4904"
  The repository's commit, in full; then the lock cannot move it.
ShelfChoice.folder = "shelves/coast"
  The shelf's folder in the repository.
ShelfChoice.built-in = true
  Takes the shelf of this name that comes with Yarrik.
ShelfChoice.shallow = true
  Whether only the one commit is fetched, without its history.
ShelfTable.name = "harbour"
  The shelf's name; workspaces list it by this name.
ShelfTable.version = "2.1"
  The shelf's version. Other shelves may ask for it, and the lock and manifests say it.
ShelfTable.needs = ["coast"]
  Shelves that have to be in the workspace too.
ShelfTable.needs-yarrik = ">= 0.1"
  The versions of Yarrik that it works with.
ShelfTable.works-with = { coast = ">= 2" }
  Versions of other shelves that it works with, whether it needs these or not.
ShelfTable.terms = "TERMS.txt"
  A text beside `shelf.toml` that users have to accept.
ShelfFile.shelf = { name = "harbour" }
  The shelf itself.
CatalogueTable.name = "harbour-more"
  The catalogue's name.
CatalogueFile.catalogue = { name = "harbour-more" }
  The catalogue itself.
CatalogueFile.shelf = [{ name = "coast", git = "https://example.org/coast.git" }]
  The shelves that it lists.
Listed.kind = "recipe"
  What kind of thing it is.
Listed.name = "windlog"
  Its name.
Listed.version = "1.2"
  A recipe's version.
Listed.of = "libplot"
  The recipe of a package or option, the package of a role.
CatalogueShelf.name = "weather"
  The shelf's name.
CatalogueShelf.version = "1.2"
  The shelf's version when the catalogue was written.
CatalogueShelf.path = "weather"
  The shelf's folder, from the catalogue's own.
CatalogueShelf.git = "https://example.org/weather.git"
  The address of its repository.
CatalogueShelf.branch = "stable"
  The repository's branch to take.
CatalogueShelf.tag = "v1.2"
  The repository's tag to take.
CatalogueShelf.commit = "4b825dc642cb6eb9a060e54bf8d69288fbee4904"
  The repository's commit to take.
CatalogueShelf.folder = "shelves/weather"
  The shelf's folder in the repository.
CatalogueShelf.needs = ["numbers"]
  Shelves that it needs.
CatalogueShelf.needs-yarrik = ">= 0.1"
  The versions of Yarrik that it works with.
CatalogueShelf.works-with = { numbers = ">= 1" }
  Versions of other shelves that it works with.
CatalogueShelf.holds = [{ kind = "recipe", name = "windlog" }]
  What is on it, for searching.
Toolchain.prefix = "aarch64-linux-gnu-"
  What the names of the compiler and its tools begin with; without it the machine's own compiler.
Toolchain.compiler = "clang"
  What compiles and links recipes: gcc, or this machine's clang and lld with the C library of `prefix`.
Toolchain.recipe = "our-toolchain"
  The recipe whose archive has the compiler; it is built with `using = "toolchain"`.
Toolchain.c-flags = ["-mcpu=cortex-a53"]
  Flags for everything that is compiled for the board.
KernelChoice.recipe = "linux"
  The recipe of the kernel.
KernelChoice.otherwise = ["stand-in"]
  Recipes to take, in this order, where no shelf has `recipe`.
KernelChoice.base = "tinyconfig"
  The base configuration: a target of the kernel's own Makefile.
KernelChoice.base-file = "board.config"
  A whole configuration beside the board's file, in place of `base`.
KernelChoice.fragments = ["board.kcfg"]
  Files of kernel options beside the board's file, merged over the base in this order. Each option has to survive.
KernelChoice.form = "Image.gz"
  The form in which the kernel is stored; without it the usual one of the architecture and boot method.
KernelChoice.built-in = "initramfs"
  A folder beside the board's file that becomes the kernel's own initramfs.
KernelChoice.built-in-image = "early"
  An image of the product (`more-image`) that becomes the kernel's own initramfs; its first program has to be /init.
KernelChoice.device-tree = "kittiwake.dts"
  The board's device tree source, beside its file.
KernelChoice.more-device-trees = ["kittiwake-b.dts"]
  Device trees of further boards that the same image is for; each has an entry in the menu or image tree.
KernelChoice.overlays = ["tide-sensor.dtso"]
  Device tree overlays beside the board's file, applied in this order.
KernelChoice.overlay-parameters = { tide-sensor = { zero = "1300" } }
  Values for parameters that overlays declare, by the overlay's name.
KernelChoice.include = ["include"]
  Folders beside the board's file where device trees include from.
KernelChoice.keep-labels = true
  Whether the blob keeps labels as symbols, so that others can apply overlays to it.
KernelChoice.silence = ["DTS-STATUS"]
  Checks of device trees that are not to be shown.
KernelChoice.console = "ttyS0,115200"
  The console that programs talk to, as on the kernel's command line.
KernelChoice.more-consoles = ["tty0"]
  Further consoles for kernel messages.
KernelChoice.log-level = 4
  The kernel's log level, 0 to 8: messages below it reach the console.
KernelChoice.arguments = ["quiet"]
  Further words of the kernel's command line.
MenuChoice.name = "rescue"
  The entry's name.
MenuChoice.title = "Start a shell only"
  What the menu shows.
MenuChoice.device-tree = "kittiwake-b.dts"
  Another one of the board's device trees, by its source.
MenuChoice.initramfs = "recovery"
  Another image of the product, which is unpacked into memory.
MenuChoice.arguments = ["init=/bin/sh"]
  Words that this entry has more on its command line.
SlotChoice.name = "a"
  The slot's name, and that of its entry in the boot menu.
SlotChoice.root = "root-a"
  The partition of its root filesystem: the one that holds it, or one of its copies.
SlotChoice.title = "The system of the first slot"
  What the menu shows; without it the product and the slot's name.
SwitchChoice.state = "state"
  A partition of its own for the state of the slots, with `filesystem = "none"`.
SwitchChoice.tries = 3
  How many starts a new system has before the board goes back to the one that is known to work.
SwitchChoice.shared = ["data"]
  Partitions that all slots use: no update touches them.
EnvironmentChoice.file = "kittiwake.env"
  A file of `name=value` lines beside the board's.
EnvironmentChoice.size = "16 KiB"
  The size of the block, checksum included, as the bootloader was built with.
EnvironmentChoice.redundant = true
  Whether the block is written twice, with a flag byte, so that one survives a power cut.
EnvironmentChoice.spacing = "256 KiB"
  How far apart the two blocks begin, where a sector of the flash chip is larger than a block.
EnvironmentChoice.name = "environment.bin"
  The file's name beside the image.
SettingsChoice.file = "firmware.txt"
  A file of `key=value` lines beside the board's.
SettingsChoice.lines = ["display=off"]
  Further lines; with the method `settings` one of a computed key replaces the computed line.
SettingsChoice.path = "/config.txt"
  Where it is on the boot partition.
LoaderChoice.host-file = "/usr/lib/loader/loader.efi"
  The boot program's file on the build host.
LoaderChoice.debian-package = "loader-efi"
  The Debian package that installs it.
LoaderChoice.file = "loader:loader.efi"
  The boot program as a file beside the board's, or an output of a recipe.
BootFile.path = "/firmware/start.bin"
  Where the file is on the boot partition.
BootFile.file = "firmware:start.bin"
  The file beside the board's, or an output of a recipe as `RECIPE:OUTPUT`.
ImagePart.name = "trusted"
  The part's name in the image tree.
ImagePart.file = "trusted:stage.bin"
  Its content: a file beside the board's, or an output of a recipe as `RECIPE:OUTPUT`.
ImagePart.type = "firmware"
  What it is, in the image tree's own words.
ImagePart.load = "0x43000000"
  Where the bootloader puts it.
ImagePart.entry = "0x43000000"
  Where it starts.
BootloaderChoice.recipe = "loader"
  The recipe, one that builds with `using = "bootloader"`.
BootloaderChoice.base = "qemu_arm64_defconfig"
  A base configuration of its sources.
BootloaderChoice.base-file = "kittiwake-loader.config"
  A base configuration beside the board's file, instead.
BootloaderChoice.fragments = ["kittiwake-loader.kcfg"]
  Fragments beside the board's file; each line has to survive.
BootloaderChoice.environment = "kittiwake.env"
  Settings that are built in as its default environment.
BootloaderChoice.device-tree = "kittiwake-loader.dts"
  The source of its own device tree.
BootloaderChoice.verify = true
  Whether its own device tree carries the public half of `boot.key`, so that it takes only signed image trees.
BootChoice.file = [{ path = "/start.bin", file = "firmware:start.bin" }]
  Further files of the boot partition.
BootChoice.part = [{ name = "trusted", file = "trusted:stage.bin", load = "0x43000000" }]
  Further parts of an image tree, loaded with the kernel.
BootChoice.script = false
  Whether a script beside an image tree starts it; without one the bootloader's own boot command does.
BootChoice.method = "menu"
  How the board starts: which files are written, and who reads them.
BootChoice.root = "partuuid"
  The form in which the kernel gets the root filesystem's name; `uuid`, `label` and `none` need an initramfs that looks for it.
BootChoice.root-device = "mmcblk0"
  The disk's name on the board, for `root = "device"`.
BootChoice.read-only = true
  Whether the root filesystem is mounted read-only; without it as the filesystem asks for.
BootChoice.command-line-in = "device-tree"
  Who carries the kernel's command line.
BootChoice.overlays = "placed"
  Whether overlays are applied in the build, or placed beside the device tree for the bootloader.
BootChoice.initramfs = "root"
  Whether the whole root filesystem is unpacked into memory.
BootChoice.initramfs-compression = "zstd"
  How the initramfs is compressed; the kernel has to know it.
BootChoice.seconds = 3
  How many seconds a menu waits for a choice.
BootChoice.entry = [{ name = "rescue", arguments = ["init=/bin/sh"] }]
  Further entries of the boot menu.
BootChoice.switch = { state = "state", tries = 3, shared = ["data"] }
  How a script changes between the slots, each with its own kernel.
BootChoice.slot = [{ name = "a", root = "root-a" }, { name = "b", root = "root-b" }]
  Complete systems on the disk, of which one runs while another is replaced.
BootChoice.loader = { host-file = "/usr/lib/loader/loader.efi" }
  A boot program for firmware to start.
BootChoice.key = "kittiwake.pem"
  The private key that signs an image tree, in PEM form beside the board's file.
BootChoice.key-name = "product"
  The key's name in the signature; the bootloader looks for it.
BootChoice.environment = { file = "kittiwake.env", size = "16 KiB" }
  The bootloader's environment.
BootChoice.settings = { file = "firmware.txt", path = "/config.txt" }
  The firmware's settings.
BootChoice.memory-bundle = true
  Whether all that a debugger or emulator loads into memory is written as one folder with a map.
MemoryChoice.base = "0x40000000"
  Where memory begins, when no device tree says it.
MemoryChoice.size = "1 GiB"
  How much memory there is, when no device tree says it.
MemoryChoice.kernel = "0x40200000"
  Where the bootloader puts the kernel.
MemoryChoice.device-tree = "0x4a000000"
  Where the bootloader puts the device tree.
MemoryChoice.overlays = "0x4a100000"
  Where the bootloader puts overlays before it applies them.
MemoryChoice.initramfs = "0x4c000000"
  Where the bootloader puts the initramfs.
MemoryChoice.script = "0x4b000000"
  Where the bootloader puts a boot script.
MemoryChoice.entry = "0x40480000"
  Where a wrapped kernel starts, if that is not where it is put.
MemoryChoice.bundle = "0x50000000"
  Where the bootloader puts an image tree.
Emulator.program = "qemu-system-aarch64"
  The emulator's program.
Emulator.arguments = ["-M", "virt", "-nographic", "-drive", "file={image}"]
  Its arguments; `{image}`, `{image:NAME}`, `{bootloader}`, `{device-tree}`, `{out}`, `{command-line}`, `{RECIPE:OUTPUT}`.
Emulator.bootloader = "/usr/lib/u-boot/qemu_arm64/u-boot.bin"
  The file that `{bootloader}` stands for, or an output of a recipe as `RECIPE:OUTPUT`.
Emulator.debian-packages = ["qemu-system-arm", "u-boot-qemu"]
  The Debian packages that bring program and bootloader.
Partition.name = "root"
  The partition's name, also in the partition table where that holds names.
Partition.filesystem = "ext4"
  What it holds: a filesystem, `swap`, `raw`, or nothing.
Partition.file = "firmware.bin"
  The file beside the board's whose content a `raw` partition takes.
Partition.size = "fit + 20%"
  The partition's size: a size, `fit` to what it holds, `fit + SIZE or PERCENT`, or `rest` of the disk.
Partition.verified = true
  Whether the kernel checks each block when it is read; for the root filesystem of slots that a script switches.
Partition.image = "recovery"
  Another image of the product, whose root filesystem goes there.
Partition.holds = "root"
  What goes there: the root filesystem, the boot files, or nothing.
Partition.type = "linux"
  The type in the partition table, by name or number; without it the one that fits what it holds.
Partition.label = "root"
  The filesystem's label.
Partition.align = "4 MiB"
  What its first byte is a multiple of.
Partition.bootable = true
  Whether firmware and bootloaders look for boot files here; without it where the boot files are.
Partition.read-only = true
  Whether it is mounted read-only.
Partition.mount = "/data"
  Where it is mounted at start; the root filesystem and swap are in the mount table anyway.
Partition.mount-options = ["noatime"]
  Options of its mount, beside `ro` or `rw`.
Partition.copies = ["root-b"]
  Names of further partitions with the same content.
Partition.guid = "0fc63daf-8483-4772-8e79-3d69d8477de4"
  The partition's own identifier; without it derived from the names.
Partition.identifier = "5f6c1d5e-0d3b-4a0e-9d53-8e6d3a1f4b2c"
  The filesystem's identifier; without it derived from the names.
Partition.in-mbr = true
  Whether a hybrid disk's classic table shows it too.
Partition.inodes = 4096
  How many inodes the filesystem has; without it by its size and files.
Partition.reserved-percent = 1
  How many percent of the blocks only root may use.
Partition.tables = "full"
  Whether inode tables are written in full, or left for the kernel to clear.
Partition.compression = "zstd"
  How a compressed filesystem compresses.
Partition.level = 19
  How hard it compresses, 0 to 22; without it as usual for the kind.
Blob.file = "loader.bin"
  The file, beside the board's.
Blob.offset = "8 KiB"
  Where it begins on the disk.
Blob.copies = ["1 MiB"]
  Further offsets for the same file.
Blob.at-most = "1 MiB"
  The room that it may take, in bytes.
Disk.name = "card"
  The disk's name; with several disks it is part of the image's.
Disk.table = "gpt"
  The partition table.
Disk.guid = "9f2d1a3c-6c1e-4a7b-8f0d-2b3c4d5e6f70"
  The disk's identifier (GPT); without it derived from the names.
Disk.signature = "0x1a2b3c4d"
  The disk's identifier (MBR); without it derived from the names.
Disk.also = ["zstd", "map"]
  What is written beside the image: compressed ones, a map of its blocks, the sparse form of flashing protocols.
Disk.size = "64 MiB"
  The whole disk's size; without it as large as what is on it.
Disk.partition = [{ name = "root", holds = "root" }]
  Its partitions, in order.
Disk.blob = [{ file = "loader.bin", offset = "8 KiB" }]
  Files at fixed offsets, outside of partitions.
Board.arch = "arm64"
  The architecture that everything is compiled for; `host` is the build machine's own.
Board.toolchain = { prefix = "aarch64-linux-gnu-" }
  The compiler.
Board.kernel = { recipe = "linux", device-tree = "kittiwake.dts" }
  The kernel, its configuration, device tree and consoles.
Board.boot = { method = "menu" }
  How the board starts.
Board.bootloader = [{ recipe = "loader", base = "qemu_arm64_defconfig" }]
  How bootloaders that are built from source are configured.
Board.memory = { base = "0x40000000", size = "1 GiB" }
  Where memory is, and where the bootloader puts things.
Board.emulator = { program = "qemu-system-aarch64", arguments = ["-M", "virt"] }
  How `yarrik boot` starts the board here.
Board.disk = [{ name = "card", partition = [{ name = "root", holds = "root" }] }]
  The disks that are written as images.
Profile.c-library = "libc"
  The package of the C library.
Profile.init = "harbour-init"
  The package of the first program.
Profile.init-path = "/sbin/init"
  Where the first program is in the image.
Profile.service-form = "plain"
  In which form services are written down for the init.
Profile.network-form = "plain"
  In which form network interfaces are written down.
Profile.merged-usr = true
  Whether /bin, /sbin and /lib are links into /usr.
Profile.c-flags = ["-Os"]
  Compiler flags for everything on the board.
Profile.link-flags = ["-Wl,-z,now"]
  Linker flags for everything on the board.
Profile.strip = true
  Whether programs and libraries lose their symbols.
Profile.expects = ["relro", "bind-now", "pie"]
  Protections that every program and library should have; what lacks one is told when the image is put together.
Profile.refuse-licences = ["GPL-3.0-*", "AGPL-*"]
  Licences that no package of an image may be under, nor what is linked into it statically; `*` stands for any part of a name.
Profile.clock = 2026-01-01T00:00:00Z
  The time that files in images have.
Root.login = "password"
  Who logs in as root: nobody (`locked`), anybody (`open`), or who knows the password.
Root.password-hash = "$6$salt$hash"
  The password's hash, as `openssl passwd -6` prints it.
Root.shell = "/bin/sh"
  Root's shell.
Root.password-secret = "root-of-gauges"
  The secret that is the password: a name in the local settings.
Root.keys = ["ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHC7v7pVlCZtSj9sYF6mEh4D3nBQ3yT8kqkU4m1vX9aT anna"]
  Public keys that let root log in.
Root.key-files = ["anna.pub"]
  Files of such keys, one on a line, beside the image's own file.
GroupAccount.name = "dialout"
  The group's name.
GroupAccount.id = 20
  The group's number, 1 to 65533; without it a free one is taken, which the lock keeps.
ServiceAccount.name = "tide"
  The account's name.
ServiceAccount.id = 100
  The account's number, 1 to 65533; without it a free one is taken, which the lock keeps. A group of its own has the same.
ServiceAccount.group = "harbour"
  The account's first group; without it one of its own name.
ServiceAccount.groups = ["dialout"]
  Further groups that it is in.
ServiceAccount.home = "/var/lib/tide"
  The account's home; without it `/home/NAME` for people, and `/` for services.
ServiceAccount.shell = "/bin/sh"
  The account's shell; without it `/bin/sh` for who can log in, and `/bin/false` for all others.
ServiceAccount.comment = "Records the tide"
  What the account is for; the fifth field of /etc/passwd.
User.kind = "person"
  The range of its number: 100 to 999 for `system`, 1000 to 59999 for `person`. Without it, who can log in is a person.
User.skeleton = "/etc/skel"
  A folder of the image whose content the home begins with.
User.login = "password"
  Who logs in with it: nobody (`locked`), anybody (`open`), or who knows the password.
User.password-hash = "$6$pierpier$Zsj4vM5kG1o7c0b9XGJm0C8g3Yb2fJ1nQeT6sRkW4uA"
  The password's hash, as `openssl passwd -6` prints it.
User.password-secret = "operator"
  The secret that is the password: a name in the local settings. It is hashed when the image is built.
User.keys = ["ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHC7v7pVlCZtSj9sYF6mEh4D3nBQ3yT8kqkU4m1vX9aT anna"]
  Public keys for login; they go into `.ssh/authorized_keys` of the home.
User.key-files = ["anna.pub"]
  Files of such keys, one on a line, beside the image's own file.
User.expires = 2027-12-31
  The day from which nobody logs in with it.
Wireless.ssid = "harbour"
  The network's name.
Wireless.secret = "harbour-wireless"
  The secret that it is joined with: a name in the local settings. The image holds the key that follows from it.
Wireless.country = "NZ"
  The country whose rules of the air hold.
Interface.name = "eth0"
  The interface's name.
Interface.kind = "wired"
  What it is.
Interface.addresses = ["192.0.2.7/24"]
  Its addresses, each with the bits of its network.
Interface.gateways = ["192.0.2.1"]
  Where what is for other networks is sent, one for IPv4 and one for IPv6.
Interface.automatic = ["ipv4"]
  The protocols over which it asks for addresses.
Interface.name-servers = ["192.0.2.1"]
  Servers that know the addresses of names.
Interface.search = ["harbour.example"]
  Domains that are tried behind short names.
Interface.of = "eth0"
  The interface that a VLAN is on.
Interface.number = 7
  A VLAN's number.
Interface.ports = ["eth0", "eth1"]
  The interfaces that a bridge joins.
Interface.wireless = { ssid = "harbour", secret = "harbour-wireless" }
  The wireless network that it joins.
Interface.mtu = 1500
  The largest packet, in bytes.
Interface.optional = true
  Whether the start goes on without it.
WritablePlace.path = "/var/lib/tide"
  The path that services may write to.
WritablePlace.by = "bind"
  How: by an `overlay` over what the image has there, a folder in its place (`bind`), or in `memory`.
WritablePlace.on = "/data"
  Where the writable partition is mounted that keeps what is written.
WritablePlace.size = "8 MiB"
  The most that it may take in memory.
StartFolder.path = "/run/tide"
  The folder to make at each start.
StartFolder.owner = "tide"
  The account that it belongs to.
StartFolder.group = "harbour"
  The group that it belongs to; without it the owner's first one.
StartFolder.mode = "0750"
  Its permissions, in octal.
FirstBootAction.name = "room"
  The action's name, which its lines in the log have too.
FirstBootAction.do = "grow"
  What is done.
FirstBootAction.partition = "data"
  The partition that grows; without it that is the root filesystem's.
FirstBootAction.text = "gauge-{serial}"
  The host name, with `{serial}` and `{KEY}` filled in.
FirstBootAction.folder = "/etc/ssh"
  Where keys are kept; without it that is /etc/ssh.
FirstBootAction.types = ["ed25519"]
  Kinds of keys; without it one of ed25519 is made.
FirstBootAction.program = "/usr/bin/calibrate"
  The program that makes keys (without it /usr/bin/ssh-keygen), or that is run.
FirstBootAction.arguments = ["--once"]
  Words for the program.
FirstBootAction.creates = ["/etc/calibration"]
  Files that the program has to make.
FirstBoot.state = "/var/lib/first-boot"
  The folder in which the board remembers what is done, with its log.
FirstBoot.action = [{ name = "room", do = "grow" }]
  What is done, in this order.
CardSetting.name = "station"
  The setting's name in the file.
CardSetting.kind = "text"
  Which values it may have.
CardSetting.summary = "Name of the station"
  What it is for, on one line.
CardSetting.usual = "gull-rock"
  The value until somebody changes it.
CardSetting.longest = 32
  How many characters a text may have.
CardSetting.letters = "a-z0-9-"
  The characters that a text may have; `a-z` are all from a to z, and a hyphen at the end is one.
CardSetting.least = 1
  The smallest number.
CardSetting.most = 3600
  The largest number.
CardSetting.one-of = ["calm", "storm"]
  The words of a choice.
CardSetting.secret = true
  Whether its value stays out of logs and messages.
CardSettings.file = "gauge.txt"
  The file's name on the boot partition.
CardSettings.setting = [{ name = "station", usual = "gull-rock" }]
  The settings that there are.
ServiceLimits.open-files = 64
  How many files it may have open.
ServiceLimits.processes = 8
  How many processes its account may have.
ServiceLimits.memory = "32 MiB"
  How much memory it may take.
Service.name = "tidelog"
  The service's name.
Service.summary = "Records the tide"
  What it is for, on one line.
Service.program = "/usr/bin/tidelog"
  The program that runs, which does not go into the background by itself.
Service.arguments = ["--every", "1", "/var/lib/tide/level.log"]
  Its arguments, each as one text.
Service.user = "tide"
  The account that it runs as; without it root.
Service.group = "harbour"
  The group that it runs in; without it the account's first one.
Service.folder = "/var/lib/tide"
  The folder that it starts in.
Service.environment = { TIDE_PORT = "Gull Rock" }
  Variables beside the image's own.
Service.environment-file = "/var/lib/first-boot/settings"
  A file of variables on the board, read at each start of the service.
Service.needs-environment = ["TIDE_PORT"]
  Variables without which the program does not work: the build stops when nothing sets one.
Service.after = ["clock"]
  Services that are to be up before it starts, where the image has them.
Service.needs = ["store"]
  Services that have to be up before it starts; without one of them it is not started.
Service.once = true
  Whether it does its work and ends.
Service.ready-file = "/run/tide/ready"
  A file that it makes when it is up.
Service.restart = "always"
  Whether it is started again when it has ended: `never`, `on-failure`, `always`.
Service.restart-delay = "1 s"
  How long it stays down at first.
Service.restart-most = "60 s"
  How long it stays down at most: each time twice as long, until it has run for a while.
Service.stop-after = "5 s"
  How long it may take to end.
Service.listen = "tcp:0.0.0.0:7000"
  It is started when somebody connects there, and gets the socket as its descriptor 3.
Service.every = "10 min"
  It is run again and again, so long after it has ended.
Service.log = "ring"
  Where its words go: the console, or a `ring` of files that never grows.
Service.confined = true
  Whether it can neither gain rights nor write anywhere but below `writes`.
Service.writes = ["/var/lib/tide"]
  The places that it writes to, where it is confined.
Service.limits = { open-files = 64 }
  What it may take at most.
ImageService.enabled = false
  Whether it is started.
ImageFile.path = "/etc/port"
  Where the file is in the image.
ImageFile.content = "Gull Rock pier\n"
  The file's text.
ImageFile.from = "port.txt"
  A file beside the image's own, in place of `content`.
ImageFile.template = true
  Whether `{{ NAME }}` in it is filled in; a name that there is not is an error.
ImageFile.replaces = "tidelog"
  The package whose file this one takes the place of; without it two files of one path are an error.
ImageTree.from = "files"
  The folder beside the image's own file.
ImageTree.to = "/opt/pier"
  Where its content comes in the image; without it, at the root.
ImageTree.replaces = ["tidelog"]
  Packages of which it may take the place of files.
ImageTree.rule = [{ files = "/etc/keys/**", mode = "0600" }]
  Owners and modes of some of its paths, and which of them are templates.
TreeRule.files = "/etc/keys/**"
  Paths in the image: `*` is any part of a name, `**` whole folders.
TreeRule.owner = "tide"
  The account that they belong to.
TreeRule.group = "harbour"
  The group that they belong to; without it the owner's first one.
TreeRule.mode = "0600"
  The permissions of files, in octal; folders can be entered by who can read them.
TreeRule.template = true
  Whether `{{ NAME }}` in them is filled in.
ImageLink.path = "/etc/tide"
  Where the link is in the image.
ImageLink.to = "/var/lib/tide"
  Where it leads.
ImageLink.replaces = "tidelog"
  The package whose file the link takes the place of.
Release.name = "Harbour Linux"
  The system's name (`NAME`).
Release.id = "harbour"
  The system's name for programs (`ID`): small letters, digits, `.`, `_`, `-`.
Release.version = "2026.11"
  The system's version (`VERSION_ID`).
Release.pretty-name = "Harbour Linux of the piers"
  The name and version for people; without it they follow from the others.
Release.home-url = "https://harbour.example.org"
  Where the system is described.
Release.support-url = "https://harbour.example.org/help"
  Where users find help.
Release.more = { VARIANT = "Pier" }
  Further fields of os-release(5).
ImageFile.owner = "tide"
  The account that it belongs to.
ImageFile.group = "harbour"
  The group that it belongs to; without it the owner's first one.
ImageFile.mode = "0640"
  Its permissions, in octal.
ImageFolder.path = "/var/lib/tide"
  Where the folder is in the image.
ImageFolder.owner = "tide"
  The account that it belongs to.
ImageFolder.group = "harbour"
  The group that it belongs to; without it the owner's first one.
ImageFolder.mode = "0750"
  Its permissions, in octal.
ImageNode.path = "/dev/tide"
  Where the device node is in the image.
ImageNode.kind = "character"
  Which kind of device it stands for.
ImageNode.major = 10
  The device's major number.
ImageNode.minor = 200
  The device's minor number.
ImageNode.owner = "root"
  The account that it belongs to.
ImageNode.group = "dialout"
  The group that it belongs to; without it the owner's first one.
ImageNode.mode = "0600"
  Its permissions, in octal.
Image.packages = ["harbour-shell", "tidelog", "@display"]
  The packages to install, with versions where needed; `@NAME` is a group.
Image.refuse = ["libplot"]
  Packages that are not to come in because others recommend them.
Image.hostname = "gauge"
  The host name; without it the board's name.
Image.hosts = { "192.0.2.7" = ["office", "office.harbour.example"] }
  Further lines of /etc/hosts: names by address. The image's own name and `localhost` are there anyway.
Image.time-zone = "Pacific/Auckland"
  The time zone: a link to the image's own zone data, else a copy of the build host's file.
Image.locale = "C.UTF-8"
  The locale of services and shells.
Image.message-of-the-day = "Gull Rock pier\n"
  What a login shows: /etc/motd.
Image.release = { name = "Harbour Linux", id = "harbour", version = "2026.11" }
  What /etc/os-release says.
Image.environment = { TIDE_PORT = "Gull Rock" }
  Variables of every shell and service.
Image.sysctl = { "net.ipv4.ip_forward" = "1" }
  Kernel parameters that are set at start.
Image.values = { port = "Gull Rock" }
  Values for templates, as `{{ values.port }}`.
Image.marker = "tidelog: recording"
  The console's line that says that the image is up.
Image.root = { login = "open" }
  Root's login.
Image.user = [{ name = "tide", home = "/var/lib/tide" }]
  Accounts, beside those that packages ask for.
Image.group = [{ name = "dialout" }]
  Groups of accounts.
Image.file = [{ path = "/etc/port", content = "Gull Rock pier\n" }]
  Files of the image itself, over those of packages.
Image.folder = [{ path = "/var/lib/tide", owner = "tide" }]
  Empty folders.
Image.tree = [{ from = "files" }]
  Folders laid over the image, before single files.
Image.link = [{ path = "/etc/tide", to = "/var/lib/tide" }]
  Symbolic links.
Image.service = [{ name = "tidelog", enabled = false }]
  Services, beside those that packages bring.
Image.writable = [{ path = "/var/lib/tide", by = "bind", on = "/data" }]
  Paths of a read-only root filesystem that can be written to.
Image.start-folder = [{ path = "/run/tide", owner = "tide" }]
  Folders that are made at each start.
Image.first-boot = { action = [{ name = "room", do = "grow" }] }
  What a board does when it starts for the first time.
Image.card-settings = { setting = [{ name = "station", usual = "gull-rock" }] }
  Values that a person may change on the card.
Image.network = [{ name = "eth0", addresses = ["192.0.2.7/24"], gateways = ["192.0.2.1"] }]
  Network interfaces.
Image.firewall = "gauge.nft"
  A file of rules for nft(8) beside the image's own, which becomes /etc/nftables.conf.
Image.node = [{ path = "/dev/tide", kind = "character", major = 10, minor = 200 }]
  Device nodes.
Group.packages = ["panel", "tide-chart"]
  The packages that belong together.
Group.recommends = ["gauge-fonts"]
  Packages that come along unless the image refuses them.
Changes.product = { marker = "up" }
  Keys of the product.
Changes.board = { kernel = { console = "ttyS1" } }
  Keys of the board.
Changes.profile = { strip = false }
  Keys of the profile.
Changes.image = { hostname = "gull" }
  Keys of the image.
Changes.recipe = { tide = { build = { weight = 2 } } }
  Keys of recipes, by name.
Product.version = "1.4"
  The product's own version, up to four numbers: an update brings a higher one.
Product.board = "kittiwake"
  The board.
Product.profile = "lean"
  The profile.
MoreImage.name = "recovery"
  The name by which boards take it.
MoreImage.image = "gauge-recovery"
  The image that says what is inside.
MoreImage.init = "early-init"
  The package with its first program; without it, the profile's.
MoreImage.init-path = "/init"
  The path of its first program; without it, the profile's.
MoreImage.into = ["squashfs", "cpio-zstd"]
  Forms in which it is written by itself.
Product.more-image = [{ name = "recovery", image = "gauge-recovery" }]
  Further root filesystems of the product.
Product.root-into = ["tar-zstd"]
  Forms in which the root filesystem is written by itself.
Product.boot-into = ["folder"]
  Forms in which what is below /boot is written by itself; a folder is for bootloaders that read over the network.
Product.image = "tide-gauge"
  The image.
Product.marker = "tidelog: recording"
  The console's line that says that the product is up; it goes before the image's.
Product.variants = ["display"]
  Variants that are taken when none are named.
Product.silence = { DISK-SPACE = "the builder's disk is cleaned at night" }
  Warnings that are not to be shown, by code, each with the reason.
Product.set = { image = { hostname = "gull" } }
  Changes of what the product names, for this product only.
ProductFile.name = "tide-gauge"
  The product's name; without it the file's.
ProductFile.include = ["base.toml"]
  Other product files, from this one's folder: merged in order, and this one over all.
ProductFile.needs-yarrik = ">= 0.1"
  The versions of Yarrik that it works with.
ProductFile.shelf = [{ name = "coast", git = "https://example.org/coast.git" }]
  The shelves that it is made of, in order.
Variant.set = { image = { hostname = "gull" } }
  Changes of board, profile, image, product and recipes.
SharedCache.name = "office"
  The cache's name in messages.
SharedCache.at = "https://cache.example.org/yarrik"
  Where it is: a folder, an http(s) address, or `s3://BUCKET/FOLDER`.
SharedCache.push = true
  Whether what is built here is sent there.
SharedCache.signing-key = "~/.config/yarrik/key"
  The private key that signs what is sent.
SharedCache.endpoint = "https://s3.example.org"
  The address of an S3 store of your own.
SharedCache.time-out = "10 s"
  How long an answer is waited for.
DebianArchive.url = "http://deb.example.org/debian"
  The archive's address.
DebianArchive.suites = ["stable", "stable-security"]
  The suites that are looked into; the newest version in all of them counts.
DebianArchive.components = ["main"]
  The suites' components that are looked into.
DebianArchive.keyring = "/usr/share/keyrings/example.gpg"
  The file with the keys that may sign the suites' indexes.
DebianArchive.unsigned = true
  Takes indexes that nobody signed. Anybody on the way could change what is built.
DebianArchive.expired = true
  Takes indexes that were valid until a day that is past, as archives of past days have them.
Diversion.path = "~/src/tide"
  The folder with the sources.
Diversion.git = "https://example.org/tide.git"
  The repository with the sources.
Diversion.branch = "wip"
  The repository's branch.
Diversion.commit = "4b825dc642cb6eb9a060e54bf8d69288fbee4904"
  The repository's commit.
AcceptedTerms.sha256 = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
  The SHA-256 of the text that was accepted.
AcceptedTerms.date = "2026-11-26"
  The day on which it was accepted.
Proxies.http = "http://proxy.example.org:3128"
  The proxy for http addresses.
Proxies.https = "http://proxy.example.org:3128"
  The proxy for https addresses.
Proxies.direct = ["localhost", ".example.org"]
  Hosts that are reached without a proxy.
LocalSettings.jobs = 8
  How many jobs run at a time; 0 means as many as processors.
LocalSettings.cache = "/data/yarrik"
  The cache's folder.
LocalSettings.trusted-keys = ["ed25519:GhvMfFAgh2UzpEyVY5k9zDhLmJ0y8ZyZQ0yfYcXr0aE="]
  Public keys whose results from shared caches count.
LocalSettings.image-keys = ["ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHC7v7pVlCZtSj9sYF6mEh4D3nBQ3yT8kqkU4m1vX9aT releases"]
  Public keys of which one has to have signed what is written to a device.
LocalSettings.shared-cache = [{ name = "office", at = "/net/cache" }]
  Caches that several machines share.
LocalSettings.mirrors = { "https://example.org/" = ["https://mirror.example.org/"] }
  Where else to look first, by the beginning of an address.
LocalSettings.redirect-hosts = ["files.example.org"]
  Hosts that other servers may send a download on to.
LocalSettings.debian-archive = [{ url = "http://deb.example.org/debian", suites = ["stable"] }]
  Archives that `debian` sources come from, in place of those that apt uses on this machine.
LocalSettings.catalogues = ["https://example.org/catalogue.json"]
  Catalogues to search for shelves: paths from the file's folder, or addresses.
LocalSettings.proxies = { https = "http://proxy.example.org:3128" }
  Proxies for everything that reaches a network.
LocalSettings.use = { tide = { path = "~/src/tide" } }
  Recipes whose sources are taken from elsewhere, for work on them.
SecretPlace.environment = "TIDE_OPERATOR"
  The variable of the environment that holds it.
SecretPlace.file = "~/secrets/operator"
  The file that holds it, on one line, which nobody else can read.
LocalSettings.secrets = { operator = { file = "~/secrets/operator" } }
  Where secrets that images name are on this machine; others are looked for in `YARRIK_SECRET_NAME`.
LocalSettings.terms = { "recipe modem" = { sha256 = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855" } }
  Texts of terms that were accepted; `yarrik terms accept` writes them. Only the user's own file counts.
Local.set = { image = { hostname = "gull" } }
  Changes of every product on this machine.
Local.settings = { jobs = 8 }
  Settings for this workspace only.
Amendment.recipe = "libtide"
  The recipe that is changed.
Amendment.board = "kittiwake"
  The board that is changed.
Amendment.profile = "lean"
  The profile that is changed.
Amendment.image = "tide-gauge"
  The image that is changed.
Amendment.set = { summary = "Ours" }
  The keys that are changed.
Source.path = "src"
  A folder beside the recipe.
Source.git = "https://example.org/tide.git"
  The address of a git repository.
Source.commit = "4b825dc642cb6eb9a060e54bf8d69288fbee4904"
  The repository's commit, in full.
Source.folder = "lib"
  The folder of the repository, archive or package that is taken.
Source.submodules = true
  Whether submodules are taken too.
Source.url = "https://example.org/tide-{version}.tar.xz"
  The address of a file; an archive is unpacked.
Source.mirrors = ["https://mirror.example.org/tide-{version}.tar.xz"]
  Further addresses of the same file, asked in order.
Source.name = "tide.tar.xz"
  The file's name, where the address does not end with it.
Source.host-file = "/usr/src/tide-{version}.tar.xz"
  A file of the build host, like the archive of a Debian package.
Source.output = "loader:u-boot.bin"
  A file that another recipe's build makes, as `RECIPE:OUTPUT`.
Source.debian-package = "tide-source"
  The Debian package that installs the file.
Source.debian = "tide"
  The name of a source package in a Debian archive. Its version is the recipe's, or `version`.
Source.version = "1:2.1.dfsg-3"
  The source package's whole version, with Debian's revision. Without it, the newest revision counts and the lock keeps it.
Source.debian-patches = false
  Whether the patches of Debian's packaging are applied. Without them, the sources are upstream's alone.
Source.sha256 = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
  The file's SHA-256; `yarrik fetch --digest URL` prints it.
Source.member-limit = 200000
  How many members an archive may have.
Source.size-limit = "16 GiB"
  How large all files of an archive may be together.
Placing.from = "tide.conf"
  A file or folder of the sources.
Placing.to = "/etc/tide.conf"
  Where it goes in the image.
Placing.mode = "0644"
  Its permissions, in octal; without it those that it has.
Build.using = "make"
  The build system.
Build.needs = ["libtide"]
  Recipes whose headers and libraries the build is linked with.
Build.takes = ["loader:u-boot.bin"]
  Outputs of other recipes; in arguments, variables and commands `{RECIPE:OUTPUT}` stands for the path of one.
Build.fragments = ["every-board.kcfg"]
  Options of a bootloader that hold on every board, as files beside the recipe.
Build.tools = ["tablegen"]
  Recipes that are built for the build host, and run by this build.
Build.loader = "/lib/ld-musl-{arch:musl}.so.1"
  The recipe is a C library, and this is the loader of programs that are linked with it. The profile's `c-library` chooses it.
Build.goals = ["all"]
  Targets to build.
Build.install-goals = ["install"]
  Targets that install into `DESTDIR`.
Build.configure = "plain"
  Whose script `configure` is, with `autotools`: Autoconf's, or one that was written by hand and knows `--prefix` only.
Build.arguments = ["--disable-static"]
  Arguments of the build system's configuration; with `make`, of make itself. No shell expands them.
Build.variables = { LDLIBS = "-lm" }
  Variables that are set for the build.
Build.commands-before = ["./autogen.sh"]
  Shell commands before the build system's own work.
Build.commands = ["$CC $CFLAGS -o tide tide.c"]
  All that `plain` runs: shell commands.
Build.commands-after = ["rm -r $DESTDIR/usr/share/doc"]
  Shell commands after installation; `$DESTDIR` is what was installed.
Build.place = [{ from = "tide.conf", to = "/etc/tide.conf" }]
  Files that `files` and `prebuilt` put into the image.
Build.device-trees = ["coast/pier.dtb"]
  Blobs of a kernel's own sources to make too.
Build.weight = 2
  How many jobs the build takes of those that run at a time.
Build.memory = "2 GiB"
  How much memory the build takes.
Build.time-limit = "30 min"
  How long a step of it may run.
Build.output-limit = "100 MiB"
  How much a step of it may write to its log.
Build.process-limit = 4096
  How many processes and threads a step of it may have at a time.
Build.let-in = ["LM_LICENSE_FILE"]
  Variables of your environment that the commands may see. They become part of the fingerprint.
Build.programs = ["perl", "bison"]
  Programs of the build host that the commands run: names, paths, `perl:MODULE`, `python:MODULE`, `library:NAME`.
Build.program-versions = { bison = ">= 3.0" }
  Versions of programs of the build host that the build works with, by what they answer to `--version`.
OptionRule.default = true
  Whether it is on when nobody asks.
OptionRule.needs = ["libpng", "options.colour"]
  What has to be there when it is on: recipes to link with, or other options of this recipe.
OptionRule.tools = ["pngtool"]
  Tools that the build needs when it is on.
OptionRule.excludes = ["options.plain"]
  Options and packages that cannot be together with it.
OptionRule.arguments = ["--with-png"]
  Arguments of the build when it is on.
OptionRule.arguments-off = ["--without-png"]
  Arguments of the build when it is off.
OptionRule.variables = { PNG = "1" }
  Variables of the build when it is on.
OptionRule.variables-off = { PNG = "0" }
  Variables of the build when it is off.
OptionRule.packages = ["libplot-png"]
  Packages that exist only with it.
ChoiceRule.of = ["keys", "touch"]
  The options, exactly one of which is on.
ChoiceRule.default = "keys"
  The one that is on when nobody asks.
Attributes.path = "/var/lib/tide"
  The path in the package.
Attributes.owner = "tide"
  The account that it belongs to.
Attributes.group = "harbour"
  The group that it belongs to; without it the owner's first one.
Attributes.mode = "0750"
  Its permissions, in octal; without it those that the build gave.
Attributes.capabilities = "cap_net_raw=ep"
  Capabilities that a program starts with, as capabilities(7) names them.
Attributes.extended = { "user.origin" = "pier" }
  Further extended attributes.
PackageRule.files = ["/usr/bin/tide", "/usr/share/tide/**"]
  Paths that it takes of what was installed: `*` is any part of a name, `**` whole folders. Without it everything.
PackageRule.rest = ["/usr/bin/**"]
  The same for what no package of the recipe lists in `files`: the rest of a folder.
PackageRule.needs = ["libtide", "shell"]
  Packages and roles that have to be in the image with it.
PackageRule.recommends = ["tide-data"]
  Packages that come along unless the image refuses them.
PackageRule.provides = ["shell"]
  Roles that it can take.
PackageRule.excludes = ["input-touch"]
  Packages that cannot be in an image with it.
PackageRule.replaces = ["tide-old"]
  Packages whose names it answers to, and that are never together with it.
PackageRule.attributes = [{ path = "/var/lib/tide", owner = "tide", mode = "0750" }]
  Owners and modes of paths; all others belong to root.
PackageRule.user = [{ name = "tide", home = "/var/lib/tide" }]
  Accounts that its programs run as, or that its files belong to.
PackageRule.group = [{ name = "dialout" }]
  Groups of accounts that it needs.
PackageRule.service = [{ name = "tidelog", program = "/usr/bin/tidelog", user = "tide" }]
  Programs that the init starts.
Recipe.version = "1.4"
  The version; among several the preferred one.
Recipe.versions = ["1.4", "1.5"]
  All versions that can be built, where there are several.
Recipe.licence = "MIT"
  The licence, as an SPDX expression.
Recipe.licence-files = ["COPYING"]
  Licence texts in the sources, for the manifests.
Recipe.private = true
  Whether what is made of it stays out of shared caches.
Recipe.terms = "TERMS.txt"
  A text beside the recipe that users have to accept before anything of it is downloaded or built.
Recipe.source = [{ path = "src" }]
  Where the sources come from.
Recipe.patches = ["fix-build.patch"]
  Patches beside the recipe, applied in this order.
Recipe.build = { using = "make" }
  How the sources become files.
Recipe.outputs = { "u-boot.bin" = "u-boot.bin" }
  Files that others take as `RECIPE:OUTPUT`: paths of what is installed, or of what a bootloader's build makes.
Recipe.options = { png = { summary = "Draws into PNG files", needs = ["libpng"] } }
  Switches of the recipe, by name.
Recipe.choice = { input = { of = ["keys", "touch"], default = "keys" } }
  Options of which exactly one is on.
Recipe.package = { tide = { files = ["/usr/bin/tide"] } }
  The packages that it yields, by name; without any, one of the recipe's name with everything.
"""


class Description(msgspec.Struct, frozen=True):
    """What a key is for, and an example of its value, as TOML."""

    text: str
    example: str


@cache
def _read() -> dict[tuple[str, str], Description]:
    found = {}
    lines = iter(_TABLE.strip().splitlines())
    for head, text in zip(lines, lines, strict=True):
        name, _, example = head.partition(" = ")
        shape, _, key = name.partition(".")
        found[shape, key] = Description(text.strip(), example)
    return found


def description_of(shape: type[Definable], key: str) -> Description | None:
    """What a key of a shape is for, as the shape or one that it is made of says."""
    known = _read()
    for one in shape.__mro__:
        if (one.__name__, key) in known:
            return known[one.__name__, key]
    return known.get(("*", key))


def described_keys() -> set[tuple[str, str]]:
    """All pairs of shape and key in the table."""
    return set(_read())
