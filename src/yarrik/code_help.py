"""For each code an example of how it is met, and the way out. `codes.py` says what it means; `yarrik explain` and the docs'
page of codes show both."""

from __future__ import annotations

import msgspec

from yarrik.codes import CODES


class Help(msgspec.Struct, frozen=True):
    """How a code is met, and what to do."""

    example: str
    way_out: str


_TABLE = r"""
ACCOUNT-CLASH
  Two recipes ask for the user `tide` with the homes `/var/lib/tide` and `/srv/tide`
  Agree on one in both recipes, or decide with a [[user]] of the image.
ACCOUNT-FORM
  `home = "/var/lib:tide"`
  Choose a path without `:`; for root, use the image's [root] table.
ACCOUNT-HOME
  `keys` for a user whose home has the mode 0777
  Correct owner and mode of the home.
ACCOUNT-ID
  `id = 0` or `id = 70000` in a [[user]]
  Choose a number between 1 and 65533.
ACCOUNT-KEY
  `key-files = ["id_ed25519"]`, which is the private key
  Name the file that ends with `.pub`.
ACCOUNT-MISSING
  `owner = "tide"` in a [[file]], and no [[user]] of that name
  Add the [[user]], or correct the name.
ACCOUNT-PASSWORD
  `login = "open"` beside a `password-secret`
  Keep one of the two.
ACCOUNT-SHELL
  `keys` for a user with `shell = "/bin/false"`
  Name a shell that is in the image.
ACCOUNT-SKELETON
  `skeleton = "/etc/skel"`, and nothing brings that folder
  Bring it with [[file]] or [[folder]].
ACCOUNT-TWICE
  Two [[user]] tables with `id = 100`
  Give each account a name and a number of its own.
ADD-TWICE
  `partition.add = [{ name = "root" }]` where there is a `root`
  To change it, write it as a table without `add`.
ADD-UNSAID
  `[[set.board.disk]]` with `name = "crad"`
  Correct the name; for a new one, write `add = true`.
AMENDMENT-FORM
  An amendment with `recipe` and `board`
  Name one definition, and write a second amendment for the other.
AMENDMENT-KEY
  `[set.options.colour]` of a recipe without that option
  Correct the key; for a new one, write all that it needs.
AMENDMENT-TARGET
  `recipe = "libtied"` in an amendment
  Correct the name, or remove the amendment with what it changed.
ARCH-UNKNOWN
  `prefix = "sparc-linux-gnu-"`
  Choose a compiler for one of the known architectures.
ARCHIVE-TOO-LARGE
  A small archive that unpacks to 100 GiB
  If it is right that way, raise `size-limit` or `member-limit` of the [[source]].
ARCHIVE-UNFIT
  An archive with the member `../../etc/passwd`
  Check where it came from, and fetch it anew.
BLOB-DAMAGED
  `yarrik devicetree show board.dts`, a source in place of a blob
  Name a .dtb file, or compile it again.
BLOB-UNREADABLE
  `yarrik devicetree show bord.dtb`
  Check the name.
BOARD-SETTING-LOST
  `[[when]] board = "old-name"` sets `kernel.device-tree`
  Let the condition name what the board is or extends now.
BOARD-UNKNOWN
  `board = "kittiwak"` in a product
  Correct the name, or add the shelf that has the board.
BOOT-CHAIN
  `verify = true` in a [[bootloader]], and `method = "menu"`
  Set `method = "fit"` and `boot.key`.
BOOT-CHAIN-SCRIPT
  `method = "fit"` with a key, and boot.scr beside the tree
  Build the boot command into the bootloader, and set `script = false`.
BOOT-CONSOLE
  `console = "ttyS1"`, and the port is disabled in the device tree
  Name another port, or enable this one.
BOOT-DAMAGED
  An image that was cut off while it was copied
  Write or build the image again.
BOOT-DEVICE-TREE
  An overlay for a label that the base does not have
  Correct the device tree or overlay that the message names.
BOOT-ENVIRONMENT
  A settings file that is larger than its block
  Shorten the file, or make `boot.environment.size` larger.
BOOT-ENVIRONMENT-PLACE
  `size = "128 KiB"` in [boot.environment], and CONFIG_ENV_SIZE=0x40000
  Give the board and the bootloader the same place and form.
BOOT-FILE-MISSING
  A boot menu that names `/boot/Image.gz`, and the kernel is `Image`
  Build again; if the file was edited by hand, correct its name.
BOOT-FILE-TWICE
  `path = "/Image"` in a [[boot.file]], where the kernel is
  Give the file another path.
BOOT-INIT
  `init-path = "/sbin/init"`, and no package brings it
  Add the package with the init to the profile's `init`.
BOOT-INITRAMFS
  An initramfs packed with zstd for a kernel without it
  Choose another `boot.initramfs-compression`, or add the kernel option.
BOOT-KERNEL-ARCH
  An x86-64 kernel on an arm64 board
  Correct the board's `arch`, or its kernel recipe.
BOOT-KERNEL-FORM
  `form = "zImage"` for a board that loads `Image`
  Choose a form that the boot method can load.
BOOT-KERNEL-LACKS
  A squashfs root, and CONFIG_SQUASHFS is off
  Add the option to one of the board's `kernel.fragments`.
BOOT-KEY
  `key = "board.pem"`, and the file is a public key
  Name a private RSA key in PEM form.
BOOT-LINE-NOWHERE
  `command-line-in = "kernel"` and a kernel that is not built here
  Choose another place in `boot.command-line-in`.
BOOT-LINE-TWICE
  `bootargs` in the device tree's /chosen, and a command line of the boot files
  Keep one; words belong into `kernel.arguments`.
BOOT-LOADER
  A [[disk.blob]] that reaches into the first partition
  Move the partition, or correct the blob's `offset` and `at-most`.
BOOT-MEMORY
  The kernel and the device tree are loaded to addresses that overlap
  Correct [memory], or leave addresses out: they are computed.
BOOT-MENU-MISSING
  A boot partition without `extlinux/extlinux.conf`
  Build again; if it was edited by hand, put the menu back.
BOOT-MENU-WAITS
  A menu with several entries and no time-out
  Set `boot.seconds`.
BOOT-METHOD
  `method = "uefi"` on a board without an EFI partition
  Give the disk what the method needs, or choose another method.
BOOT-METHOD-UNKNOWN
  `method = "meny"`
  Choose one of the names that the message lists.
BOOT-NOT-SEEN
  `yarrik boot --expect login:` on an image without a login
  Read the console and its log; `--seconds` gives a slow board more time.
BOOT-PROGRAM
  `[boot.loader]` with both `host-file` and `file`
  Keep one of the two.
BOOT-ROOT-FORM
  `root=LABEL=root`
  Choose one of the forms of `boot.root`; the kernel alone knows PARTUUID, PARTLABEL and device names.
BOOT-ROOT-MISSING
  `root=/dev/mmcblk0p3` on a disk with two partitions
  Use `boot.root = "partuuid"`, which follows the partition.
BOOT-ROOT-NONE
  `root = "none"` without an initramfs
  Set `boot.root`, or `boot.initramfs = "root"`.
BOOT-SIGNATURE
  An image tree that was signed with another key than the bootloader has
  Sign with the key whose public half the bootloader was built with.
BOOT-SLOT
  `[[boot.slot]]` with `root = "data"`
  Name the partition that holds the root filesystem, or one of its `copies`, once each.
BOOT-TABLE
  A disk whose first sectors were overwritten
  Write the image again.
BOOT-TABLE-BACKUP
  An image that was copied onto a larger card
  Nothing has to be done; `sgdisk -e` moves the backup to the end.
BOOT-VERITY
  A byte of a verified root filesystem was changed after it was written
  Write the partition again.
BOOTLOADER-BASE
  A [[bootloader]] with a `recipe` alone
  Add `base = "…_defconfig"`.
BOOTLOADER-KEY
  `verify = true` in a [[bootloader]], without `boot.key`
  Name the private key as `boot.key`.
BOOTLOADER-NOT-CONFIGURED
  A disk takes `loader:u-boot.bin`, and the board has no [[bootloader]] for `loader`
  Add the [[bootloader]] with its base configuration.
BUILD-SYSTEM-UNKNOWN
  `using = "autotool"`
  Choose one of the names that the message lists.
BUILD-VARIES
  A program with `__DATE__` in it
  Take time, random numbers and the order of listings out of the build; `yarrik enter STEP` shows the step's world.
CACHE-BUSY
  `yarrik cache prune` while a build runs
  Wait until the build has ended.
CACHE-DAMAGED
  A disk that loses what was written
  `yarrik cache verify`; then look at the disk.
CACHE-HOLE
  Files were deleted in the cache by hand
  Build again: what is missing is made anew.
CACHE-NO-S3
  `at = "s3://bucket/folder"` without the library
  `pip install 'yarrik[s3]'`
CACHE-NO-SHARED
  `yarrik cache push`, and no shared cache has `push = true`
  Add [[shared-cache]] to the settings.
CACHE-PLACE
  `at = "ftp://host/cache"`
  Name a folder, an https:// address, or s3://BUCKET/FOLDER.
CACHE-REFUSED
  A result that is signed with a key that you do not trust
  Add the colleague's key to `trusted-keys`, if you trust it.
CACHE-UNREACHABLE
  The cache server is down
  Nothing has to be done: the steps run here.
CACHE-UNWRITABLE
  A cache folder of another user
  Make it writable, or name another one in YARRIK_CACHE.
CARD-PLACE
  `[card-settings]` in an image, and a board whose boot partition has no `mount`
  Give the boot partition `filesystem = "fat"` and `mount = "/boot"`.
CARD-SETTING
  `kind = "number"`, `most = 10` and `usual = "60"`
  Correct the limits or the usual value.
CATALOGUE-UNREADABLE
  `catalogues = ["catalog.toml"]`, and the file is elsewhere
  Correct the path, or write it anew with `yarrik catalogue make`.
CERTIFICATE-DAMAGED
  a key file in `/usr/share/ca-certificates`
  Take the file out, or bring a certificate in PEM form.
CERTIFICATE-UNUSUAL
  `harbour.crt` has expired on 2024-05-01
  Bring a newer one, or take it out.
CHECK-ALL
  `yarrik check tide-gauge --all`
  Leave one of them out.
CHECK-UNKNOWN
  `silence = ["DTS-STATSU"]` in a board
  Correct the code; `yarrik codes DTS` lists them.
CHOICE-CLASH
  `options.panel.touch = true` and `options.panel.keys = true`, where exactly one can be on
  Turn one of them off.
CHOOSE-CHANGED
  An editor saves `products/tide-gauge.toml` while `yarrik choose` is open
  Look at the file, then choose again.
CHOOSE-FILE
  `yarrik choose` in the workspace of a product file
  Edit the file, or make a workspace of it: `yarrik workspace from FILE`.
CONDITION-LATE
  `[[when]] option = "display"` sets the image's `packages`
  Write `packages.add`, or set it without the condition.
CONDITION-NEVER
  `[[when]] board = "kittiwak"`
  Correct the name, or remove the condition.
CONSOLE-LOG
  `--log` names a file in a folder that is not there
  Name another file with `--log`.
DATA-MISSING
  libfreetype is in the image, and not a single font
  Add a package that brings the data: `font-sans`.
DEFINITION-TWICE
  Two shelves with a recipe `libtide`
  Rename one, or write `replaces = "SHELF"` in the later one.
DEFINITIONS-BROKEN
  A recipe with an error that this product does not use
  `yarrik check --all` shows the errors.
DEMO-FOLDER
  `yarrik demo ~`
  Name a new folder.
DEVICE-DRIVER
  The image draws with libdrm, the screen's driver is a module, and nothing loads it
  Name the module in /etc/modules, build it into the kernel, or add a device manager.
DEVICE-NODE
  /etc/modules names a driver for `harbour,tide-sensor`, and no node has that as `compatible`
  Add the overlay that describes the device to `kernel.overlays`, or enable the node.
DEVICE-TREE-MISSING
  `device-tree = "kittiwake.dts"`, and the file is in another folder
  Put it beside the board's file.
DISK-LAYOUT
  Partitions that overlap, or do not fit into `size`
  Change sizes, offsets or names in the board's [[disk]].
DISK-SPACE
  2 GiB free, and the last build took 5 GiB
  `yarrik cache status`, then `yarrik cache prune --unused 30d`.
DIVERSION-FORM
  `[use.tide]` with `path` and `git`
  Keep one of them.
DIVERSION-LOCKED
  `yarrik build --locked` with `[use.tide]` in the settings
  `yarrik settings set use.tide.path=` removes it.
DIVERSION-MISSING
  `use.tide.path`, and the folder was moved
  Correct the path, or remove the diversion.
DIVERSION-UNKNOWN
  `[use.tied]` in the settings
  Correct the recipe's name.
DIVERSION-WORK
  Files changed in `.yarrik/diverted/tide` before `yarrik fetch`
  Commit and push them, or divert to a folder of your own.
DTS-CELLS-MISSING
  A bus with children that have `reg`, without `#address-cells`
  Say #address-cells and #size-cells in the bus.
DTS-DUPLICATE-ADDRESS
  Two nodes `serial@9000000` below one bus
  Give them different addresses, or remove one.
DTS-NODE-NAME
  `my serial@0 { };`
  Use letters, digits and `,._+-` only.
DTS-PREPROCESSOR
  A source with #include, and no C compiler
  `apt-get install gcc`
DTS-REG-LENGTH
  `reg = <0x9000000>` below a bus with two address cells
  Correct `reg`, or the parent's cell counts.
DTS-SPECIFIER
  `interrupts = <0 1>` for a controller with three cells
  Give as many cells as the controller's `#…-cells` says.
DTS-STATUS
  `status = "ok!"`
  Write "okay" or "disabled".
DTS-STDOUT
  `stdout-path = "serial7"` without that alias
  Correct it, or add the alias.
DTS-SYNTAX
  A missing `;` after a property
  Correct the line that the message shows.
DTS-UNIT-ADDRESS
  `serial@9000000` with `reg = <0x9010000 …>`
  Make the two equal.
DTS-UNREADABLE
  A source that is a folder, or cannot be read
  Check name and permissions.
EDIT-CLOSED
  `yarrik edit tide --save` without an open edit
  `yarrik edit tide` begins one.
EDIT-GIT
  A damaged repository in `edits/tide`
  Look at it with git itself.
EDIT-MERGES
  A merge among your commits
  Rebase them onto `yarrik-saved`.
EDIT-NO-PLACE
  A recipe of a shelf from git, and no shelf of your own
  Add a shelf: `yarrik new shelf NAME`.
EDIT-NO-SOURCES
  `yarrik edit libc`, which has no sources
  Edit the recipe itself.
EDIT-NOTHING
  `yarrik edit tide --save` before any commit
  Change something, and commit it.
EDIT-UNCOMMITTED
  `yarrik edit tide --save` with changed files
  Commit them first.
EDIT-UNSAVED
  `yarrik edit tide --close` with commits that are not saved
  `yarrik edit tide --save`, or add --yes.
ELF-HARDENING
  `expects = ["relro"]` in the profile, and a recipe that links with its own flags
  Let the recipe use CFLAGS and LDFLAGS.
ELF-STACK
  An assembler file without the section .note.GNU-stack
  Add it, or link with `-Wl,-z,noexecstack`.
EMULATOR-NONE
  `yarrik boot` for a board without [emulator]
  Boot another product, or write the image to a card.
EXTENDS-LOOP
  `a` extends `b`, which extends `a`
  Remove one `extends`.
EXTENDS-UNKNOWN
  `extends = "kittiwak"`
  Correct the name, or add the shelf that has it.
EXTRACT-FAILED
  `yarrik inspect IMAGE --extract / --to FOLDER` onto a full disk
  Name an empty folder with room.
EXTRACT-REFUSED
  An archive with a link that leads outside, and a file behind it
  Do not trust the archive before its origin is clear.
FAULT
  Yarrik meets what its authors did not think of
  Report it, with the file that holds the trace.
FILE-NOT-TOML
  `name = tide` without quotes
  Correct the line; texts are in quotes, tables in [brackets].
FILE-NOT-UTF8
  A file in Latin-1
  Save it as UTF-8.
FILE-NULL-CHARACTER
  `summary = "a\u0000b"`
  Remove the character.
FILE-REPLACED
  [[file]] `path = "/etc/port"`, and a package has a file there
  Add `replaces = "PACKAGE"`, or take the file out.
FILE-REPLACES-NOTHING
  `replaces = "tidelog"`, whose file is in another place now
  Look where it is, and correct the path.
FILE-SETUID
  `chmod 4755` in an installation
  Give it capabilities instead, or silence this in the product with a reason.
FILE-UNREADABLE
  A definition that only root may read
  Check that it is there and that you may read it.
FILE-WRITABLE
  A folder with the mode 0777 in a package
  Correct the mode with the package's `attributes`.
FILESYSTEM-UNKNOWN
  `filesystem = "ext5"`
  Choose one of the names that the message lists.
FIRST-BOOT-FORM
  `do = "run"` without a `program`
  Add the key that the message names, or take out the one without use.
FIRST-BOOT-GROW
  `do = "grow"`, and a partition behind the one that is to grow
  Make it the disk's last partition, with ext4, or name another one with `partition`.
FIRST-BOOT-PLACE
  `[first-boot]` on a read-only root filesystem without a writable place for its `state`
  Name a place on a writable partition, or declare one in `writable`.
FLASH-ANOTHER
  A card is pulled while the question is open, and another one put in
  List the devices once more (`yarrik devices`), and give the command again.
FLASH-BENCH
  `size = "4 cats"` in `card.toml`
  Correct the key that is named; docs/flashing.md has all of them.
FLASH-BLOCKS
  A disk with blocks of 4096 bytes
  Take a device with blocks of 512 bytes.
FLASH-BUILT-IN
  A second disk inside the computer
  Name the card's device, or allow the disk with `--built-in`.
FLASH-BUSY
  A desktop mounts a card in the same moment
  Unmount the card, or end the program that has it.
FLASH-DIFFERS
  A counterfeit card that repeats itself after 8 GiB
  Throw the card away; if all cards do it, try another reader.
FLASH-GONE
  The reader's cable is loose
  Plug it in again and give the same command: it goes on from there.
FLASH-HELD
  A disk of a RAID
  Name another device, or take the other one apart first.
FLASH-IMAGE
  Somebody edits the image after the build
  Build or copy the image again.
FLASH-MOUNTED
  The desktop has mounted the card
  Unmount the card if it is the right one.
FLASH-NOT-DISK
  `/dev/sdb1` instead of `/dev/sdb`
  Name the whole device: `yarrik devices`.
FLASH-PLACE
  `--partition root-b`, and a card with another layout
  Write the whole image once: leave out `--partition`.
FLASH-READ-ONLY
  The lock switch of a card
  Look for the switch on the card, or its adapter.
FLASH-SMALL
  A card of 2 GB, and an image of 4 GiB
  Take a larger card, or make the board's partitions smaller.
FLASH-SWAP
  `/dev/sdb2` in the list of `swapon`
  Name another device, or take it out of use with swapoff.
FLASH-SYSTEM
  A link `usb-stick` that leads to the first disk
  Name the card's device: `yarrik devices`.
FLASH-UNCONFIRMED
  A script without `--write-to-device`
  Type the device's name, or name device and serial number with `--write-to-device`.
FLASH-UNKNOWN
  `/dev/sdz`, or a user without rights
  List the devices: `yarrik devices`. Run as root, or in the group of the device.
FLASH-VALUES
  A column `station` for an image whose `card-settings` have no such setting
  Correct the row or column that is named; `yarrik boot set IMAGE` lists what there is.
FLASH-WRITE
  A worn card
  Try another reader; if it comes again, throw the card away.
FOLDER-MISSING
  `yarrik pack nothing out.img --as ext4`
  Name the folder to pack.
FOLDER-UNREADABLE
  A folder with files of another user
  Name a folder that you may read.
FORM-UNKNOWN
  `yarrik pack root out --as ext5`
  Choose one of the forms that the message lists.
FRAGMENT-NAME
  `yarrik kernel fragment "a b"`
  Write it like `more.kcfg`.
FRAGMENT-THERE
  `yarrik kernel fragment common.kcfg`, which exists
  Take another name.
HOST-TOOL-MISSING
  A recipe that is built with `cmake`, on a machine without it
  Install the Debian package that the message names.
HOST-TOOL-OLD
  `program-versions = { bison = ">= 3.0" }`, and the machine has 2.7
  Install a newer one, or change what the recipe asks for.
IMAGE-DAMAGED
  An image with a superblock that does not read
  Build or write it again.
IMAGE-FILE
  A [[file]] with `content` and `from`
  Keep one of the two.
IMAGE-FORM
  `boot-into = ["fat"]`, and a file below /boot whose name FAT cannot hold
  Choose another form, or give the file another name.
IMAGE-GENERATED
  A [[file]] with `path = "/etc/passwd"`
  Use `hostname`, [root] and [[user]].
IMAGE-MISSING
  `yarrik boot` before the first build
  `yarrik build`
IMAGE-UNKNOWN
  `image = "tide-guage"` in a product
  Correct the name, or add the shelf that has the image.
IMAGE-UNREADABLE
  `yarrik inspect out/gauge.img`, and there is no such file
  Check the name.
INCLUDE-LOOP
  `base.toml` includes `gauge.toml`, which includes `base.toml`
  Remove one of the lines.
INCLUDE-MISSING
  `include = ["bass.toml"]`
  Correct the path; it begins at the file's own folder.
INIT-MISSING
  `init = "shell"` in a profile, which brings no `/sbin/init`
  Name the package that brings it, and its path in `init-path`.
IO-FAILED
  A full disk
  Make room or check permissions, then try again.
KERNEL-BASE-UNKNOWN
  `base = "bord_defconfig"`
  Correct the name; the message lists what the sources have.
KERNEL-CALL
  The broker calls epoll_create1, and CONFIG_EPOLL is off
  Set the option: `yarrik kernel set EPOLL=y`. A program that has another way, like poll(2), runs without it.
KERNEL-CARRIES
  `built-in-image = "early"`, and the first program of that image is /sbin/init
  Give the image `init-path = "/init"`; leave kernel modules out of it; or let the bootloader load it.
KERNEL-CHANGES
  `yarrik kernel menu` twice, with changes of the first time
  `yarrik kernel fragment NAME` keeps them.
KERNEL-MENU
  No ncurses on this machine
  `apt-get install libncurses-dev pkg-config`
KERNEL-MISSING
  A kernel recipe whose package does not list the kernel
  List it in the package's `files`.
KERNEL-NO-CHANGES
  `yarrik kernel fragment NAME` after a menu without changes
  Change something in the menu first.
KERNEL-NO-MODULES
  A recipe with a kernel module, and CONFIG_MODULES is off
  Add CONFIG_MODULES=y to a fragment.
KERNEL-NOT-BUILT
  `yarrik kernel menu` for a stand-in kernel
  Name a product whose kernel has `using = "kernel"`.
KERNEL-OPTION-FORM
  `yarrik kernel set SQUASHFS`
  Write NAME=VALUE, like SQUASHFS=y.
KERNEL-OPTION-IMPOSSIBLE
  `yarrik kernel set REGMAP=y`, which has no prompt
  Do what the message says; often that is to set another option.
KERNEL-OPTION-LOST
  CONFIG_SND_SOC=y in a fragment, without CONFIG_SOUND
  Add the options that the message names.
KERNEL-OPTION-UNKNOWN
  `yarrik kernel show SQUASH_FS`
  Correct the name.
KEY-MISSING
  A product without `board`
  Add the key.
KEY-UNKNOWN
  `licenze = "MIT"`
  Correct the key; the message has the nearest one.
KEY-UNREADABLE
  `signing-key` names a file that is not there
  `yarrik cache new-key FILE`
KEY-UNWRITABLE
  `yarrik cache new-key /etc/key` without the right to write there
  Name another file.
KIND-UNKNOWN
  `yarrik find tide --kind recipes`
  Choose one of the kinds that the message lists.
LIBRARY-AMBIGUOUS
  Two packages with `libplot.so.2`
  Name the right one in the image's `packages`.
LIBRARY-MISSING
  A program linked against `libtide.so.2`, which no recipe in the product brings
  Add the recipe to `build.needs`, and the file to a package.
LIBRARY-UNSEARCHED
  A library in `/opt/lib`
  Install it into /usr/lib, or link with -Wl,-rpath.
LICENCE-FILE-MISSING
  `licence-files = ["LICENCE"]`, and the sources have COPYING
  Correct the name.
LICENCE-REFUSED
  `refuse-licences = ["GPL-3.0-*"]` in the profile, and a package under GPL-3.0-or-later
  Leave the package out, or take another one.
LICENCE-UNKNOWN
  `licence = "GPL"`
  Write an SPDX expression like `GPL-2.0-or-later`.
LINK-NOWHERE
  `/bin/vi -> /usr/bin/editor`, and no package brings that
  Add the package, or remove the link.
LOCK-DAMAGED
  A merge left `<<<<` in yarrik.lock
  Take it from version control, or remove it and run `yarrik resolve`.
LOCK-STALE
  `yarrik build --locked` after a change of a version
  `yarrik resolve` shows the difference; commit the lock.
LOG-MISSING
  `yarrik log libtied`
  Correct the name, or build first.
LOGIN-NO-SHELL
  `shell = "/bin/bash"`, and the image has no bash
  Add the package, or change the shell.
LOGIN-NOBODY
  A login service, and every account is locked; or keys without a login service
  Give an account a password or keys, and the image a package with the role `login-service`.
LOGIN-OPEN
  `login = "open"` and a service for remote login
  Lock the account, or give it a password.
MODULE-DAMAGED
  A .ko file that was cut off
  Build it again.
MODULES-MISSING
  The board's network driver is a module that no package in the image has
  Add the kernel's module package to the image.
MODULES-NOBODY
  A driver is a module, and the init does not load modules
  Build the driver in (=y), or add a package that loads modules.
MODULES-VERSION
  Modules of another kernel version in the image
  Build both from one recipe.
MOUNT-PLACE
  `writable = [{ path = "/var/lib/tide", by = "bind", on = "/data" }]`, and no partition has `mount = "/data"`
  Give a partition of the board that `mount`.
NAME-MISSING
  `yarrik log` without a step
  Name one, or use --last-failure.
NAME-UNFIT
  A recipe in the folder `My Recipe`
  Use small letters, digits, `-`, `.` and `+`.
NAME-UNKNOWN
  `yarrik show tied`
  Correct the name: `yarrik find PART`.
NEED-FORM
  `yarrik why-not libplot >= 3` without quotes
  Put it in quotes.
NEEDS-LOOP
  `a` needs `b` to build, and `b` needs `a`
  Remove one of the needs, or split a recipe.
NETWORK-FORM
  `automatic = ["ipv4"]`, and the profile says `network-form = "plain"`, which has no client for DHCP
  Write addresses down, or choose another form with its programs.
NETWORK-FORM-UNKNOWN
  `network-form = "plian"`
  Correct the name.
NETWORK-UNFIT
  `gateways = ["192.0.3.1"]` for an interface with the address 192.0.2.7/24
  Correct one of the two.
NEW-CHOICE
  `yarrik new workspace gauge --arch sparc`
  Choose one of the names that the message lists.
NEW-EXISTS
  `yarrik new recipe tide`, which exists
  Choose another name.
NEW-HARDWARE
  `yarrik new board ours --from photo.png`
  Name a .dtb, .dts or the board's whole .config.
NEW-NAME
  `yarrik new recipe My_Recipe`
  Use small letters, digits, `-`, `.` and `+`.
NEW-UNWRITABLE
  A workspace on a medium that is read-only
  Make it writable.
NODE-MISSING
  `yarrik devicetree show board.dtb /soc/uart`
  Correct the path.
NOT-FOUND
  `yarrik find submarine`
  Try another word, or add a catalogue to the settings.
NOT-IN-PRODUCT
  `yarrik why libplot`, and the product has it not
  `yarrik why-not libplot` says what prevents it.
NOTHING-NEWER
  `yarrik outdated --update zlib` when it is the newest
  Nothing: it is current.
OPTION-FIXED
  `options.tide.fast = true`, and the option exists in another version only
  Choose the version, or leave the option.
OPTION-UNKNOWN
  `options.tide.colour = true`
  Correct the name: `yarrik show tide`.
OUT-DAMAGED
  An image in `out/` was changed by hand
  Remove it and build again.
OUT-EXISTS
  `yarrik pack root root.img --as ext4`, and the file exists
  Name another file, or add --force.
OUT-FAILED
  `--out /etc/file` without the right to write there
  Name a file of yours.
OUT-INSIDE
  `yarrik pack root root/root.img --as ext4`
  Write it elsewhere.
OUTPUT-MISSING
  `"u-boot.img" = "u-boot.img"` under [outputs], and the build makes only `u-boot.bin`
  Correct the path, or let the build make the file.
OUTPUT-NOT-TAKEN
  `BL33={loader:u-boot.bin}` in a build without `takes`
  Add the output to `takes`.
OUTPUT-UNKNOWN
  `file = "loader:u-boot.img"`, and the recipe `loader` has no output of that name
  Correct the name, or add it under [outputs] of the recipe.
OVERLAY-DAMAGED
  An overlay compiled without `/plugin/`
  Compile it again from a source with `/plugin/`.
OVERLAY-LABEL-MISSING
  `&uart9 { … }`, and the base has no such label
  Correct the label.
OVERLAY-NO-SYMBOLS
  A base compiled without symbols
  Compile it with --symbols, or set `kernel.keep-labels`.
OVERLAY-NOTHING
  The same overlay is named twice
  Remove it from `kernel.overlays`, or from the base what it repeats.
OVERLAY-OVERWRITES
  Two overlays set `status` of one node
  Keep one, or put the one that is meant to win last.
OVERLAY-PARAMETER
  `overlay-parameters = { tide-sensor = { zer = "1300" } }`, and the overlay declares `zero`
  Correct the name or value.
OVERLAY-PATH-MISSING
  `target-path = "/soc/uart9"`
  Correct the path.
OVERLAY-PLAIN
  `overlays = ["board.dts"]`
  Name an overlay, which begins with `/dts-v1/; /plugin/;`.
OWNERS-CLASH
  A table of owners makes a device where the folder has a file
  Remove one of the two.
OWNERS-LINE
  `/var/lib/tide 0750` in a table of owners
  Write PATH KIND MODE UID GID.
OWNERS-PATH
  A table of owners with `/vra/lib`
  Correct the path.
OWNERS-UNREADABLE
  `--owners table`, and there is no such file
  Check the name.
PACK-FAILED
  `yarrik pack` onto a full disk
  Check free space and permissions.
PACK-TOO-SMALL
  `--size "4 MiB"` for 10 MiB of files
  Give a larger size, or leave it out.
PACK-UNFIT
  A device node for FAT
  Change what is named, or choose another form.
PACKAGE-ARCH
  A Makefile that calls `gcc` in place of $(CC)
  Let the build use $(CC) and $(AR).
PACKAGE-ATTRIBUTES
  `attributes` for a path that the package does not list
  Correct the path, or list it in `files`.
PACKAGE-ELF-DAMAGED
  A program that was cut off by the build
  Look at the step's log: `yarrik log NAME`.
PACKAGE-FILE-MISSING
  `files = ["/usr/bin/tide"]`, and the build installs `/usr/sbin/tide`
  Correct the list, or let the build install it.
PACKAGE-FILE-TWICE
  Two packages with `/usr/bin/*`
  List the path in one of them.
PACKAGE-FILES-LEFT
  The build installs a manual that no package lists
  List it in a package, or remove it in `commands-after`.
PACKAGE-IN-BUILD-FOLDER
  `--libdir=$DESTDIR/usr/lib`: DESTDIR comes before it once more
  Give places as they are on the board: `--libdir=/usr/lib`.
PACKAGE-MISSING
  `needs = ["tide-data"]`, a package that exists only with an option
  Turn the option on, or correct the need.
PACKAGE-NO-SYMBOLS
  `install -s` in a Makefile, and a static library of another recipe among what is needed
  Let the build install unstripped: Yarrik strips it when it knows what is in it.
PACKAGE-PATH-LEAKED
  A program with the path of its sources in it
  Compile with -ffile-prefix-map, or remove the path.
PACKAGE-REFUSED
  `refuse = ["libplot"]`, and a package needs it
  Remove the refusal, or the package that needs it.
PACKAGES-EXCLUDE
  `input-keys` and `input-touch` in one image
  Keep one of them.
PARTITION-FULL
  `size = "8 MiB"` for 10 MiB of files
  Make it larger, or write `size = "fit + 20%"`.
PARTITION-UNFIT
  A file of 5 GiB on FAT
  Choose another filesystem, or change what goes there.
PARTITION-UNKNOWN
  `yarrik inspect IMAGE --partition rot`
  Correct the name.
PARTITION-VERIFIED
  `verified = true` on a partition of a board without slots
  Take `verified` out, or add slots and `boot.switch` with the method `script`.
PATCH-FAILED
  A patch for another version of the sources
  `yarrik edit NAME` shows the sources; make the patch anew.
PATH-AMBIGUOUS
  `/extlinux` exists on two partitions
  Choose one with --partition.
PATH-BELOW-FILE
  A [[file]] at `/etc/port/name`, and `/etc/port` is a file
  Choose another path.
PATH-CLASH
  Two packages bring `/usr/bin/vi`
  Remove it from one package's `files`, or one package from the image.
PATH-MISSING
  `yarrik inspect IMAGE /ect/port`
  `yarrik inspect IMAGE /` lists the files.
PATH-UNFIT
  A workspace in `/home/me/my work` on a machine without bubblewrap
  Move the workspace, or install bubblewrap.
PORT-BUSY
  A login service, a modem manager or another terminal has the port
  End the program that is named, then try again.
PORT-FILE
  Neither a `device` nor a table [simulated]
  Correct the key that is named; docs/console.md has all of them.
PORT-FORBIDDEN
  A new user who is not in the group that owns the port
  Have yourself added to the group that is named, then log in again.
PORT-MISSING
  The adapter is not plugged in, or has another number today
  List the ports (`yarrik console`), and use the name that stays the same.
PORT-UNFIT
  A disk is named instead of a port
  List the ports: `yarrik console`.
POWER-FAILED
  The power strip does not answer
  Run the command by hand, and correct it in the file that describes the port.
PRODUCT-UNKNOWN
  `yarrik build tide-guage`
  Correct the name.
PRODUCT-UNNAMED
  `yarrik build` in a workspace with several products
  Name one, or set `workspace.product`.
PROFILE-UNKNOWN
  `profile = "laen"` in a product
  Correct the name, or add the shelf that has the profile.
RECIPE-UNKNOWN
  `packages = ["tied"]`
  Correct the name, or add the shelf that has it: `yarrik find WORD`.
RECIPE-VERSION
  A recipe without `version`
  Add `version` or `versions`.
RECOMMENDED-MISSING
  `recommends = ["tide-docs"]`, which no shelf has
  Correct the name, or remove the recommendation.
REMOVE-NOTHING
  `packages.remove = ["vim"]`, which is not in the list
  Correct the name, or remove the line.
RESOLVE-TOO-HARD
  Hundreds of versions that exclude each other
  Pin one in [versions], or wait longer: --patience 60.
ROLE-TWICE
  Two packages that provide `init`
  Keep one of them.
ROOT-PARTITION-MISSING
  A disk on which no partition has `holds = "root"`
  Give it to one, or set `boot.initramfs = "root"`.
ROOT-PASSWORD
  `login = "password"` without `password-hash` and `password-secret`
  Name a secret, or write down a hash that `openssl passwd -6` made.
SECRET-FORM
  `YARRIK_SECRET_OPERATOR=""`
  Give it a text on one line.
SECRET-LET-IN
  `let-in = ["YARRIK_SECRET_OPERATOR"]` in a recipe's [build]
  Take it out: what a build sees is recorded in clear.
SECRET-MISSING
  `password-secret = "operator"`, and YARRIK_SECRET_OPERATOR is not set
  Set it, or name a file: `yarrik settings set secrets.operator.file=PATH`.
SECRET-OPEN
  A file of a secret with the mode 0644
  `chmod 600` it.
SERVE-ADDRESS
  `--address 192.168.7.1` while the cable is unplugged
  Set the address up, or name one that the machine has.
SERVE-PORT
  Port 69 without root
  Give another port, or run it as root.
SERVICE-ENVIRONMENT
  `needs-environment = ["TIDE_PORT"]`, and no `environment` that has it
  Set it for the service, or for all programs of the image.
SERVICE-FORM
  `every = "10 min"`, and the profile says `service-form = "scripts"`
  Take it out, or choose another init with its form.
SERVICE-FORM-UNKNOWN
  `service-form = "plian"`
  Correct the name.
SERVICE-LOOP
  `after = ["b"]` in a service `a`, and `needs = ["a"]` in `b`
  Take one of them out.
SERVICE-NEED
  `needs = ["store"]`, and no package of the image brings a service `store`
  Add the package that brings it, or turn the service off.
SERVICE-PROGRAM
  A service file that starts `/usr/bin/tide`, which is not in the image
  Add the package, or correct the service.
SERVICE-TWICE
  Two packages with [[package.NAME.service]] `name = "tidelog"`
  Give one of them another name.
SERVICE-UNKNOWN
  [[service]] `name = "tidelgo"` and `enabled = false` in an image
  Correct the name; a new service needs its `program`.
SERVICE-USER
  A service that runs as `tide`, and the image has no such account
  Add the [[user]].
SETTING-FORM
  `--set image.hostname`
  Write KEY=VALUE.
SETTING-KEY
  `--set imag.hostname=gull`
  Correct the key; the first word is board, profile, image, product, recipe, options or versions.
SETTINGS-NONE
  `yarrik boot set` for an image without settings
  Give the board `boot.environment` or `boot.settings`.
SHELF-GIT
  A clone whose repository is damaged
  Look at it with git itself.
SHELF-MISSING
  `needs = ["coast"]` in shelf.toml, and the workspace lists no `coast`
  `yarrik shelf add coast`
SHELF-MOVES
  A shelf with `branch = "main"`, and yarrik.lock was removed
  `yarrik shelf pin`
SHELF-NAME
  `name = "coast"` in yarrik.toml, `name = "shore"` in its shelf.toml
  Write the same name in both.
SHELF-NEEDS
  `yarrik shelf add weather`, which needs `numbers`
  Add --yes.
SHELF-NOT-HERE
  A fresh clone of a workspace
  `yarrik shelf sync`
SHELF-PLACE
  A [[shelf]] with `path` and `git`
  Keep one of them.
SHELF-REVISION
  `branch = "mian"`
  Correct the branch, tag or commit.
SHELF-STATE
  A link in `shelves/`, or a clone with settings that run commands
  Move it away, then `yarrik shelf sync`.
SHELF-TWICE
  `yarrik shelf add coast`, and there is one
  Remove the other, or rename it.
SHELF-UNKNOWN
  `yarrik shelf add wheather`
  Correct the name, or give folder or address.
SHELF-UNREACHABLE
  The server of a repository is down
  Check address, access and network.
SHELF-VERSION
  `works-with.coast = ">= 2"`, and coast is 1.9
  `yarrik shelf pin --update coast`, or take another version.
SIGN-KEY
  The private key is named where public ones belong
  Name the file that the message asks for; `ssh-keygen -t ed25519` makes both.
SIGN-MISSING
  A colleague's trial build, with `image-keys` in the settings
  Have it signed (`yarrik sign`), or write it all the same: `--unsigned`.
SIGN-WRONG
  SHA256SUMS was edited after it was signed
  Fetch the image and its signature anew, or sign it again.
SILENCE-UNFIT
  `[silence]` with `KEY-UNKNOWN = "x"`, which is an error
  Silence warnings only, each with a reason.
SIZE-UNKNOWN
  `--size 4megs`
  Write a size like `4 MiB`.
SOURCE-ARCHIVES
  A `debian` source on a machine without apt
  Name an archive: `[[debian-archive]]` in the settings.
SOURCE-CHANGED
  An upgrade of a Debian package replaced the archive that the lock knows
  `yarrik build --renew-lock` accepts the new one.
SOURCE-COUNT
  A recipe with two [[source]] tables
  Keep one.
SOURCE-DIGEST
  The file behind an address was replaced
  If the new file is the right one, correct `sha256`.
SOURCE-FORM
  A [[source]] with `path` and `url`
  Keep one of them.
SOURCE-INDEX
  An index that is cut short
  Try again later, or name another archive: `[[debian-archive]]` in the settings.
SOURCE-INDEX-OLD
  A mirror that nobody has renewed for weeks
  Name another one, or set `expired = true` for an archive of a past day: `[[debian-archive]]` in the settings.
SOURCE-MISSING
  `path = "scr"`
  Correct the name.
SOURCE-MOVED
  A file was saved while the build took it in
  Build again.
SOURCE-NO-DIGEST
  A `url` without `sha256`
  `yarrik fetch --digest URL` prints it.
SOURCE-OFFLINE
  `yarrik build --offline` before `yarrik fetch`
  `yarrik fetch`, with a network.
SOURCE-PACKAGE-UNFIT
  A `.dsc` that names other files than the index
  Take another version of the package, or upstream's archive with `url`.
SOURCE-PACKAGE-UNKNOWN
  `debian = "libz"`, where the source package is called zlib
  Correct the name.
SOURCE-UNREACHABLE
  A server that answers 404
  Check the address, or add `mirrors`.
SOURCE-UNSIGNED
  A mirror that somebody made without keys
  Name the keyring, or set `unsigned = true` for an archive of your own.
SOURCE-VERSION-UNKNOWN
  A recipe's version that the archive no longer has
  Write the version that the message names.
STEP-FAILED
  A compiler error
  Read the log: `yarrik log --last-failure`.
STEP-LACKS
  `#include <zlib.h>` without `needs = ["zlib"]`
  Name the recipe in `build.needs`.
STEP-LEFT-LINK
  A build that makes its output folder a link
  Let it leave a folder there.
STEP-NETWORK
  A build that downloads something
  Add it as a source; steps have no network.
STEP-NO-COMMANDS
  `yarrik enter write tide-gauge`
  Name a step that runs commands: `yarrik plan --all`.
STEP-NO-PROGRAM
  A Makefile that calls `perl`, which the recipe does not name
  Add it to `build.programs`.
STEP-OVER-LIMIT
  A build that hangs longer than `build.time-limit`
  Read its log; raise the limit if it is right that way.
STEP-TOO-DEEP
  A script that makes folders in a loop
  Let the build install a flatter tree.
STEP-UNKNOWN
  `yarrik plan --why "build tied"`
  `yarrik plan --all` lists the steps.
SYMBOL-VERSION
  A program that was built against a C library with GLIBC_2.38, in an image with an older one
  Build it against the library of the image.
SYSROOT-CLASH
  Two recipes install `/usr/include/config.h`
  Let one of them install it elsewhere.
TEMPLATE-UNFIT
  `{{ values.prot }}`, and the image's value is `port`
  Correct the name, or add it to the image's [values].
TERMS-CHANGED
  A vendor's new text under the same name
  `yarrik terms show NAME`, then `yarrik terms accept NAME`.
TERMS-DIGEST
  `yarrik terms accept modem --digest …` of another text
  `yarrik terms show modem` shows the text and its digest.
TERMS-OPEN
  The first build with a recipe that has `terms`
  `yarrik terms show NAME`, then `yarrik terms accept NAME`.
TERMS-UNKNOWN
  `yarrik terms show moden`
  `yarrik terms list`
TERMS-UNREADABLE
  `terms = "TERMS.txt"`, and there is no such file
  Put the text beside the definition.
TIMELINE-MISSING
  `yarrik timeline` before the first build, or after one that took all from the cache
  `yarrik build`, or `yarrik build --clean-room` to run all steps
TOOLCHAIN-ARCH
  An arm64 board without `toolchain.prefix` on an x86-64 machine
  Set the prefix, like `aarch64-linux-gnu-`.
TOOLCHAIN-AS-PACKAGE
  `needs = ["our-toolchain"]`
  Name it in the board's `toolchain.recipe` only.
TOOLCHAIN-BROKEN
  A compiler without its C library
  Install the Debian package that the message names.
TOOLCHAIN-FORM
  `toolchain.recipe` names a recipe that is built with make
  Write `using = "toolchain"` and one [[source]] with `host-file`.
TOOLCHAIN-NO-COMPILER
  `prefix = "arm-"`, and the archive has `arm-linux-gcc`
  Correct the prefix.
TOOLCHAIN-RUNTIME
  A compiler that was unpacked without its C library
  Install the C library of this toolchain.
TRANSFER-FAILED
  The board's side was not started, or has another protocol
  Start it on the board first; try `--by xmodem`.
TRANSFER-FILE
  `send` names a file beside the script that was not built
  Correct its path; it is relative to the script.
TREE-KIND
  A named pipe in the folder of a [[tree]]
  Remove it; device nodes are [[node]]s.
TREE-RULE
  `files = "/etc/kyes/**"` in a rule of a [[tree]]
  Correct the path; it begins at the image's root.
TREE-UNREADABLE
  A source folder with files of another user
  Make it readable.
UPDATE-BOARD
  `yarrik update apply` with the image of a board that has one root filesystem
  Copy the image of a product whose board has `boot.slot` and `boot.switch`.
UPDATE-BUNDLE
  A bundle that was fetched by half
  Fetch it again; `yarrik update show` checks every part of it.
UPDATE-FAILED
  The running system was changed since it was written
  Apply an update that was made with `--whole`.
UPDATE-IMAGE
  The new image's slot is larger than the one that boards have
  Keep the sizes of slots, and give the product a higher `version`.
UPDATE-NOT-OURS
  `yarrik outdated --update zlib`, with the recipe of a shelf that comes with Yarrik
  Write an amendment on a shelf of yours.
UPDATE-MEDIUM
  `yarrik update medium` with an installer whose last partition is not called `payload`
  Give the installer's disk that partition, with `filesystem = "none"`.
UPDATE-REFUSED
  An update from version 1.2, for a board that runs 1.1
  Make one that starts from the board's version, or one with `--whole`.
UPDATE-UNCLEAR
  A recipe with `versions = ["1.8", "2.0"]`
  Change the file by hand.
USAGE
  `yarrik shelf add URL --branch a --tag b`
  Read `--help` of the command.
VALUE-TYPE
  `strip = "yes"`
  Write a value of the type that the message names.
VALUE-UNFIT
  `size = "large"`
  Write it in the form that the message shows.
VALUE-UNKNOWN
  `arch = "arm65"`
  Choose one of the values that the message lists.
VARIANT-OVERWRITES
  Two variants set `image.hostname`
  Remove one of the lines, or swap the variants.
VARIANT-UNKNOWN
  `yarrik build --with dispaly`
  Correct the name.
VERSION-FORM
  `needs-yarrik = "newest"`
  Write it like `>= 0.1`.
VERSION-TOO-OLD
  `needs-yarrik = ">= 9"`
  Install a newer Yarrik.
VERSIONS-CLASH
  One recipe needs `libplot >= 2`, another `libplot < 2`
  The message shows who wants what; change one of the needs.
WORD-UNKNOWN
  `arguments = ["--cpu={arch:gnuu}"]`
  Use one of the spellings that the message lists, or write the text out.
WORKSPACE-LINK
  `.yarrik/work` or `edits` of a workspace of others leads to your home folder
  Remove the link; for more room elsewhere, move the whole workspace.
WORKSPACE-MISSING
  `yarrik build` in your home folder
  Change into a workspace, or `yarrik new workspace NAME`.
WORKSPACE-UNWRITABLE
  A workspace of another user
  Make it writable, or copy it.
ZONE-UNKNOWN
  `time-zone = "Pacific/Aukland"`
  Correct the name; the package tzdata brings the files.
"""


def _read() -> dict[str, Help]:
    lines = iter(_TABLE.strip().splitlines())
    return {code: Help(example.strip(), way_out.strip()) for code, example, way_out in zip(lines, lines, lines, strict=True)}


HELP = _read()


def as_markdown() -> str:
    """The catalogue of codes as a page, by stage."""
    stages = list(dict.fromkeys(one.stage for one in CODES.values()))
    order = [
        "definitions",
        "resolve",
        "plan",
        "fetch",
        "build",
        "image",
        "boot",
        "flash",
        "console",
        "cache",
        "edit",
        "command",
    ]
    lines = [
        "# Codes",
        "",
        "What each code means, by the stage that meets it first, with an example and the way out. The message itself",
        "says where, why, and what to do; `yarrik explain CODE` prints what is written here. A `warn` can be silenced in a",
        'product, with the reason: `[silence]` and `CODE = "because …"`. Written by `yarrik codes --markdown`.',
    ]
    for stage in sorted(stages, key=order.index):
        lines += ["", f"## {stage}", "", "| code | | meaning | for example | way out |", "|---|---|---|---|---|"]
        for one in CODES.values():
            if one.stage == stage:
                known = HELP[one.code]
                cells = (f"`{one.code}`", one.severity, one.meaning, known.example, known.way_out)
                lines.append(f"| {' | '.join(map(_cell, cells))} |")
    return "\n".join(lines) + "\n"


def _cell(text: str) -> str:
    return text.replace("|", "\\|")
