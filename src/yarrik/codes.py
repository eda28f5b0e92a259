"""All codes of troubles in one catalogue: when each is met, whether it stops the work, and what it means.

The message that carries a code says what is wrong in the case at hand, where, and what to do; this says what it is about."""

from __future__ import annotations

from typing import Literal

import msgspec

Severity = Literal["stop", "warn", "note"]


class Code(msgspec.Struct, frozen=True):
    """`stage` is when it is met first: `definitions`, `resolve`, `plan`, `fetch`, `build`, `image`, `boot`, `flash`, `console`,
    `cache`, `edit` or `command`. `stop` ends the work, `warn` is collected and shown at its end, `note` is one of a build's
    notes."""

    code: str
    stage: str
    severity: Severity
    meaning: str


_TABLE = """
ACCOUNT-CLASH definitions stop Two packages ask for the same account with different values.
ACCOUNT-FORM definitions stop A home or shell contains a `:`, or a table of accounts describes root.
ACCOUNT-HOME image stop An account's home is no folder, or others could change its keys.
ACCOUNT-ID definitions stop An account's number is not between 1 and 65533, or none is left.
ACCOUNT-KEY definitions stop A public key for login is damaged, too short, of an old type, or a private one.
ACCOUNT-MISSING definitions stop A file or an account belongs to an account or group that the image does not have.
ACCOUNT-PASSWORD definitions stop An account's password is missing, given twice, never asked for, or no hash that counts.
ACCOUNT-SHELL image stop Somebody can log in with an account whose shell is missing, or lets nobody in.
ACCOUNT-SKELETON image stop The folder that an account's home begins with is not in the image.
ACCOUNT-TWICE definitions stop Two accounts have the same number.
ADD-TWICE definitions stop `add` names something that is there already.
ADD-UNSAID definitions stop A change names a disk or partition that is not there, and does not say `add = true`.
AMENDMENT-FORM definitions stop An amendment names no definition, or several.
AMENDMENT-KEY definitions stop An amendment changes a table that its target does not have.
AMENDMENT-TARGET definitions stop An amendment changes a definition that no shelf has.
ARCH-UNKNOWN plan stop A compiler builds for an architecture that is not known.
ARCHIVE-TOO-LARGE build stop An archive has more members or bytes than its source allows.
ARCHIVE-UNFIT build stop An archive cannot be unpacked: damaged, of an unknown form, or with paths that lead out.
BLOB-DAMAGED command stop A device tree blob does not read.
BLOB-UNREADABLE command stop A device tree blob cannot be opened.
BOARD-SETTING-LOST definitions stop A board lacks what it needs to start, which a condition or another product sets for others.
BOARD-UNKNOWN definitions stop A product names a board that no shelf has.
BOOT-CHAIN boot stop The bootloader checks signatures, and what it starts is not signed.
BOOT-CHAIN-SCRIPT boot warn A signed image tree is started by a script that is not signed.
BOOT-CONSOLE boot stop The console of the command line is not an enabled port of the device tree.
BOOT-DAMAGED boot stop An image is damaged so that the bench cannot read on.
BOOT-DEVICE-TREE boot stop A device tree or overlay of the boot files is missing, damaged, or cannot be applied.
BOOT-ENVIRONMENT boot stop The bootloader's settings cannot be encoded.
BOOT-ENVIRONMENT-PLACE boot stop The bootloader expects its environment elsewhere, in another form, or inside a partition.
BOOT-FILE-MISSING boot stop Boot files name a file that is not there.
BOOT-FILE-TWICE boot stop Two files have the same path on the boot partition.
BOOT-INIT boot stop There is no init that the kernel can start.
BOOT-INITRAMFS boot stop The kernel cannot unpack the initramfs.
BOOT-KERNEL-ARCH boot stop The kernel is for another architecture than the board.
BOOT-KERNEL-FORM boot stop The kernel is in a form that the boot method cannot load.
BOOT-KERNEL-LACKS boot stop The kernel lacks an option that its root filesystem needs.
BOOT-KEY boot stop The key that signs the image cannot be used.
BOOT-LINE-NOWHERE plan stop Nothing can carry the command line where it is to be.
BOOT-LINE-TWICE boot warn The command line is given, or sets a key, twice.
BOOT-LOADER boot stop A loader is missing at its offset, empty, or overlaps something.
BOOT-MEMORY boot stop Something overlaps in memory, lies outside of it, or the device tree disagrees about it.
BOOT-MENU-MISSING boot stop The bootloader finds nothing to start.
BOOT-MENU-WAITS boot warn A boot menu waits for a choice without a time limit.
BOOT-METHOD boot stop The boot method cannot carry what the board asks for.
BOOT-METHOD-UNKNOWN plan stop There is no boot method of this name.
BOOT-NOT-SEEN console stop A console did not show what was expected.
BOOT-PROGRAM plan stop A board's boot program is named twice, or not at all.
BOOT-ROOT-FORM boot stop `root=` is in a form that the kernel does not know.
BOOT-ROOT-MISSING boot stop `root=` names a partition that is not there or cannot be mounted.
BOOT-ROOT-NONE boot stop There is neither `root=` nor an initramfs.
BOOT-SIGNATURE boot stop An image tree's signature does not fit the bootloader's key.
BOOT-SLOT plan stop Slots of a board cannot be as they are described.
BOOT-TABLE boot stop The partition table is damaged or missing.
BOOT-TABLE-BACKUP boot warn The backup of the partition table is damaged or cut off.
BOOT-VERITY boot stop A verified partition does not hold what its digests say.
BOOTLOADER-BASE plan stop A bootloader has no base configuration, or two.
BOOTLOADER-KEY plan stop A bootloader is to verify signatures, and the board has no key.
BOOTLOADER-NOT-CONFIGURED plan stop The board does not say how a bootloader is configured.
BUILD-SYSTEM-UNKNOWN plan stop There is no build system of this name.
BUILD-VARIES build stop A step gives a different result when it runs again.
CACHE-BUSY cache stop A build is using the cache.
CACHE-DAMAGED cache stop What was built cannot be read back from the cache.
CACHE-HOLE cache stop An object that a step needs is not in the cache any more.
CACHE-NO-S3 cache stop The library for S3 stores is not installed.
CACHE-NO-SHARED cache stop No shared cache is named for what is asked.
CACHE-PLACE cache stop The place of a shared cache is in no known form.
CACHE-REFUSED cache warn A shared cache has something that must not be used.
CACHE-UNREACHABLE cache warn A shared cache does not answer.
CACHE-UNWRITABLE cache stop The cache folder cannot be written.
CARD-PLACE plan stop A settings file for people has no FAT boot partition that the board mounts.
CARD-SETTING plan stop A setting of the card contradicts itself, or its usual value does not fit.
CATALOGUE-UNREADABLE command stop A catalogue is not there, or is not valid.
CERTIFICATE-DAMAGED image stop A file among the trusted certificates is none, or has a private key in it.
CERTIFICATE-UNUSUAL image warn A trusted certificate has expired, is there twice, or has no link of its own.
CHECK-ALL command stop `--all` and a product are given together.
CHECK-UNKNOWN command stop No check of device trees has this code.
CHOICE-CLASH resolve stop Two options of a choice would have to be on.
CHOOSE-CHANGED command stop The product's file was changed while it was being chosen from.
CHOOSE-FILE command stop A product of several files cannot be changed by choosing.
CONDITION-LATE definitions stop A condition on options or versions sets what decides about them.
CONDITION-NEVER definitions warn A condition can never hold.
CONSOLE-LOG console stop A log of a console cannot be written.
DATA-MISSING boot warn A library is in the image without the data that it works on, like fonts.
DEFINITION-TWICE definitions stop Two shelves define the same name, and none says that it replaces the other.
DEFINITIONS-BROKEN definitions warn Definitions that this product does not use have errors.
DEMO-FOLDER command stop The demo would overwrite a folder that is something else.
DEVICE-DRIVER boot warn A library for a kind of device is in the image, and no driver would be loaded for one.
DEVICE-NODE boot warn The init loads a driver for a device that the device tree does not have, or has disabled.
DEVICE-TREE-MISSING plan stop A device tree or overlay that the board names is not there.
DISK-LAYOUT image stop The partitions of a disk cannot be laid out.
DISK-SPACE build warn The disk has less room than the last builds took.
DIVERSION-FORM command stop A diversion of sources says too little, or too much.
DIVERSION-LOCKED resolve stop With `--locked`, sources are diverted by the settings.
DIVERSION-MISSING plan stop The folder that sources are diverted to is not there.
DIVERSION-UNKNOWN definitions warn Sources of a recipe are diverted that no shelf has.
DIVERSION-WORK fetch stop A clone that sources are diverted to has work of its own.
DTS-CELLS-MISSING build warn A node's parent does not say how long addresses and sizes are.
DTS-DUPLICATE-ADDRESS build warn Two nodes have the same unit address.
DTS-NODE-NAME build warn A node's name has characters that the specification does not allow.
DTS-PREPROCESSOR build stop The C preprocessor for device trees cannot be started.
DTS-REG-LENGTH build warn A `reg` has a length that does not fit its parent's cells.
DTS-SPECIFIER build warn A list of references does not come out even.
DTS-STATUS build warn A `status` has a value that the specification does not know.
DTS-STDOUT build warn `stdout-path` leads to no node.
DTS-SYNTAX build stop A device tree source does not compile.
DTS-UNIT-ADDRESS build warn A unit address and the node's `reg` differ.
DTS-UNREADABLE build stop A device tree source cannot be read.
EDIT-CLOSED edit stop The recipe is not being edited.
EDIT-GIT edit stop git failed in a working tree.
EDIT-MERGES edit stop Commits with merges cannot become patches.
EDIT-NO-PLACE edit stop No shelf of the workspace can take the patches.
EDIT-NO-SOURCES edit stop The recipe has no sources that could be edited.
EDIT-NOTHING edit stop There is nothing to save.
EDIT-UNCOMMITTED edit stop Changed files are not committed.
EDIT-UNSAVED edit stop Closing would lose work.
ELF-HARDENING image warn A program or library lacks a protection that the profile expects.
ELF-STACK image warn A program or library can run what is written to its stack.
EMULATOR-NONE command stop The board has no emulator.
EXTENDS-LOOP definitions stop Definitions extend each other in a loop.
EXTENDS-UNKNOWN definitions stop A definition extends one that no shelf has.
EXTRACT-FAILED command stop A file cannot be written while extracting.
EXTRACT-REFUSED command stop A member would be written outside of the folder.
FAULT command stop Yarrik itself has a fault.
FILE-NOT-TOML definitions stop A file is not valid TOML.
FILE-NOT-UTF8 definitions stop A file is not UTF-8 text.
FILE-NULL-CHARACTER definitions stop A value holds a null character.
FILE-REPLACED image stop The image and a package bring the same file, and the image does not say that it replaces it.
FILE-REPLACES-NOTHING image stop A file is to replace one of a package that has none there.
FILE-SETUID image warn A program runs with the rights of its owner or group for every user.
FILE-UNREADABLE definitions stop A file of the workspace cannot be read.
FILE-WRITABLE image warn Everybody can change a file or folder.
FILESYSTEM-UNKNOWN plan stop There is no filesystem of this name.
FIRST-BOOT-FORM plan stop An action of the first start lacks a key, has one without use, or does not fit the program.
FIRST-BOOT-GROW plan stop A partition cannot grow at the first start.
FIRST-BOOT-PLACE plan stop Something that a board writes at its first start would be gone after a restart.
FLASH-ANOTHER flash stop The device under a name is not the one that was asked about.
FLASH-BENCH flash stop A file describes no bench device.
FLASH-BLOCKS flash stop A device's blocks are larger than those that the image's partition table counts in.
FLASH-BUILT-IN flash stop A device cannot be unplugged, so it is likely this machine's own.
FLASH-BUSY flash stop Something has claimed a device.
FLASH-DIFFERS flash stop A device does not hold what was written to it.
FLASH-GONE flash stop A device went away while it was written or read.
FLASH-HELD flash stop A device is part of another one: a volume group, an array, an encrypted disk.
FLASH-IMAGE flash stop An image cannot be read, or is not the one of its manifest.
FLASH-MOUNTED flash stop A device or a part of it is mounted.
FLASH-NOT-DISK flash stop What is named is no whole block device.
FLASH-PLACE flash stop A device has no such partition at the place where the image has it.
FLASH-READ-ONLY flash stop A device cannot be written to.
FLASH-SMALL flash stop A device is smaller than the image.
FLASH-SWAP flash stop A device is used as swap.
FLASH-SYSTEM flash stop The running system is on a device.
FLASH-UNCONFIRMED flash stop A device was not confirmed, or another one was named.
FLASH-UNKNOWN flash stop A device is not there, or may not be opened.
FLASH-VALUES flash stop A table of values for each device does not read, or the image does not take one of them.
FLASH-WRITE flash stop A device failed while it was written or read.
FOLDER-MISSING command stop The folder to pack is not there.
FOLDER-UNREADABLE command stop Something in the folder to pack cannot be read.
FORM-UNKNOWN command stop An output form is not known.
FRAGMENT-NAME command stop A kernel fragment needs another name.
FRAGMENT-THERE command stop A kernel fragment is there already.
HOST-TOOL-MISSING plan stop A program of the build host is not installed.
HOST-TOOL-OLD plan stop A program of the build host is in another version than a recipe works with.
IMAGE-DAMAGED command stop An image cannot be read further.
IMAGE-FILE plan stop A file of the image has neither content nor a source, or both.
IMAGE-FORM image stop A root filesystem or boot files cannot be written in a form that the product names.
IMAGE-GENERATED image stop An image brings a file that is written from its accounts and host name.
IMAGE-MISSING command stop The product's image was not built yet.
IMAGE-UNKNOWN definitions stop A product names an image that no shelf has, or a board one that the product has not.
IMAGE-UNREADABLE command stop An image cannot be opened.
INCLUDE-LOOP definitions stop Product files include each other in a loop, or too many of them.
INCLUDE-MISSING definitions stop A product file includes one that is not there.
INIT-MISSING image stop There is no init for this architecture at the profile's path.
IO-FAILED command stop The operating system refused to read or write something.
KERNEL-BASE-UNKNOWN plan stop The kernel's sources have no such base configuration.
KERNEL-CALL boot warn The kernel lacks an option, and programs of the image call functions that need it.
KERNEL-CARRIES plan stop The kernel is to carry an image that it cannot carry.
KERNEL-CHANGES command stop The kernel's configuration has changes that were not saved.
KERNEL-MENU command stop The kernel's menu cannot be shown.
KERNEL-MISSING boot stop No package brings the kernel at its path.
KERNEL-NO-CHANGES command stop Nothing was changed in the kernel's menu.
KERNEL-NO-MODULES plan stop A kernel module is asked for, and the kernel has no modules.
KERNEL-NOT-BUILT command stop The board's kernel is not built from source.
KERNEL-OPTION-FORM command stop What is to be set is not an option with a value.
KERNEL-OPTION-IMPOSSIBLE command stop Something keeps an option from being as it is wanted.
KERNEL-OPTION-LOST build stop A kernel option did not survive configuration.
KERNEL-OPTION-UNKNOWN command stop No Kconfig file defines an option.
KEY-MISSING definitions stop A required key is missing.
KEY-UNKNOWN definitions stop A key is not known.
KEY-UNREADABLE cache stop A signing key cannot be read.
KEY-UNWRITABLE cache stop A signing key cannot be written.
KIND-UNKNOWN command stop There is no kind of definition of this name.
LIBRARY-AMBIGUOUS image stop Several packages bring a library, and none is chosen.
LIBRARY-MISSING image stop A program needs a library that nothing brings.
LIBRARY-UNSEARCHED image stop A library is in a folder where the loader does not look.
LICENCE-FILE-MISSING build stop The sources have no licence text of this name.
LICENCE-REFUSED image stop A package is under a licence that the profile refuses.
LICENCE-UNKNOWN plan stop A licence is not an SPDX expression.
LINK-NOWHERE boot warn A link leads nowhere.
LOCK-DAMAGED resolve stop yarrik.lock does not read.
LOCK-STALE resolve stop With `--locked`, the product resolves to something else than yarrik.lock.
LOG-MISSING command stop There is no log of this step.
LOGIN-NO-SHELL boot warn An account's shell is not in the image.
LOGIN-NOBODY plan warn A login is offered and nobody can log in, or keys are there and no login.
LOGIN-OPEN definitions stop An account needs no password, and a service lets people log in over the network.
MODULE-DAMAGED image stop A kernel module does not read.
MODULES-MISSING boot stop The device tree needs a driver that is a module, and it is not in the image.
MODULES-NOBODY boot stop A driver is a module, and nothing loads modules.
MODULES-VERSION boot stop The modules are for another kernel version.
MOUNT-PLACE plan stop Something is mounted twice, or a writable place has nowhere to be kept.
NAME-MISSING command stop A name is missing on the command line.
NAME-UNFIT definitions stop A file or folder has a name that a definition cannot have.
NAME-UNKNOWN command stop Nothing has this name.
NEED-FORM command stop A requirement is written in no known form.
NEEDS-LOOP resolve stop Recipes need each other to build.
NETWORK-FORM plan stop The profile's form of interfaces cannot say what one of them wants.
NETWORK-FORM-UNKNOWN plan stop There is no form of network interfaces of this name.
NETWORK-UNFIT plan stop A network interface contradicts itself or another one.
NEW-CHOICE command stop A new definition is to have something that does not exist, or that nothing says.
NEW-EXISTS command stop What is to be made exists already.
NEW-HARDWARE command stop A file is neither a device tree nor a kernel's configuration that a board can be made from.
NEW-NAME command stop A new definition cannot have this name.
NEW-UNWRITABLE command stop A new file cannot be written.
NODE-MISSING command stop A device tree has no node of this path.
NOT-FOUND command stop Nothing was found.
NOT-IN-PRODUCT command stop A recipe or package is not part of the product.
NOTHING-NEWER command stop A recipe's source offers nothing newer.
OPTION-FIXED resolve stop An option cannot be what is asked for.
OPTION-UNKNOWN resolve stop A recipe has no such option.
OUT-DAMAGED image stop The files in out/ are not as they were built.
OUT-EXISTS command stop The output file is there already.
OUT-FAILED command stop The output file cannot be written.
OUT-INSIDE command stop The output file is inside the folder that is packed.
OUTPUT-MISSING build stop A recipe's build left no file at the path of an output.
OUTPUT-NOT-TAKEN plan stop A build uses an output of another recipe that it does not list.
OUTPUT-UNKNOWN plan stop A recipe has no output of this name.
OVERLAY-DAMAGED build stop An overlay refers to something that it does not hold.
OVERLAY-LABEL-MISSING build stop An overlay refers to a label that the base does not have.
OVERLAY-NO-SYMBOLS build stop A base has no symbols for overlays to refer to.
OVERLAY-NOTHING build warn An overlay changes nothing.
OVERLAY-OVERWRITES build warn Two overlays set the same property.
OVERLAY-PARAMETER build stop A parameter of an overlay is unknown, or its value does not fit.
OVERLAY-PATH-MISSING build stop An overlay is for a node that the base does not have.
OVERLAY-PLAIN build stop A file that is named as overlay is a plain device tree.
OWNERS-CLASH command stop A table of owners disagrees with the folder.
OWNERS-LINE command stop A line of a table of owners is in no known form.
OWNERS-PATH command stop A table of owners names a path that is not there.
OWNERS-UNREADABLE command stop A table of owners cannot be read.
PACK-FAILED command stop A packed file cannot be written.
PACK-TOO-SMALL command stop The content is larger than the size that is asked for.
PACK-UNFIT command stop The form cannot hold what is in the folder.
PACKAGE-ARCH build stop A package holds files for another architecture.
PACKAGE-ATTRIBUTES build stop A package gives attributes to a path that it does not hold.
PACKAGE-ELF-DAMAGED build warn A program or library of a package does not read as one.
PACKAGE-FILE-MISSING build stop A package lists a file that the build did not produce.
PACKAGE-FILE-TWICE build stop Two packages of a recipe take the same file.
PACKAGE-FILES-LEFT build warn A build produced files that no package takes.
PACKAGE-IN-BUILD-FOLDER build stop A build installs into its own folder, which is not on the board.
PACKAGE-MISSING image stop No recipe yielded a package that is needed.
PACKAGE-NO-SYMBOLS build warn Nobody can tell what is linked into a file statically: its symbols are taken out already.
PACKAGE-PATH-LEAKED build warn A packaged file holds a path of the build, which does not exist on the board.
PACKAGE-REFUSED resolve stop The image refuses a package that something needs.
PACKAGES-EXCLUDE resolve stop Two packages or options exclude each other.
PARTITION-FULL image stop The content is larger than its partition.
PARTITION-UNFIT image stop A filesystem cannot hold what goes there, whatever its size.
PARTITION-UNKNOWN command stop The image has no partition of this name.
PARTITION-VERIFIED plan stop A partition is verified, and nothing tells the kernel so.
PATCH-FAILED build stop A patch does not fit the sources.
PATH-AMBIGUOUS command stop Several partitions have this path.
PATH-BELOW-FILE image stop A path lies below something that is not a folder.
PATH-CLASH image stop Two packages, or a package and the image, bring the same path differently.
PATH-MISSING command stop No partition has this path.
PATH-UNFIT command warn The workspace's path has characters that make takes for something else, and there is no sandbox.
PORT-BUSY console stop Another program has a serial port open.
PORT-FILE console stop A file describes no port.
PORT-FORBIDDEN console stop A serial port may not be used by this user.
PORT-MISSING console stop A serial port is not there, or cannot be reached.
PORT-UNFIT console stop A device is no serial port, or has no such setting.
POWER-FAILED console stop A command that switches a board's power failed.
PRODUCT-UNKNOWN definitions stop There is no product of this name.
PRODUCT-UNNAMED definitions stop No product is named, and the workspace has several or none.
PROFILE-UNKNOWN definitions stop A product names a profile that no shelf has.
RECIPE-UNKNOWN resolve stop No shelf carries a recipe or package of this name.
RECIPE-VERSION resolve stop A recipe has no version, or lists one twice.
RECOMMENDED-MISSING resolve warn A recommendation that no shelf can answer.
REMOVE-NOTHING definitions stop `remove` names something that is not there.
RESOLVE-TOO-HARD resolve stop No answer was found in time.
ROLE-TWICE resolve stop Two packages have a role that an image can have once.
ROOT-PARTITION-MISSING plan stop No partition holds the root filesystem.
ROOT-PASSWORD definitions stop Root's password is missing, given twice, never asked for, or no hash that counts.
SECRET-FORM plan stop A secret is empty, too long, not text on one line, or kept in two places.
SECRET-LET-IN plan stop A recipe lets a variable into its build that holds a secret.
SECRET-MISSING plan stop A secret that the image names is not known on this machine.
SECRET-OPEN plan stop Others can read the file that holds a secret.
SERVE-ADDRESS console stop This machine has no such address to serve on.
SERVE-PORT console stop A port to serve on cannot be had.
SERVICE-ENVIRONMENT plan stop A service needs a variable that nothing sets.
SERVICE-FORM plan stop A service contradicts itself, or the profile's form of services cannot say what it wants.
SERVICE-FORM-UNKNOWN plan stop There is no form of services of this name.
SERVICE-LOOP plan stop Services wait for each other.
SERVICE-NEED plan stop A service needs another one that is not in the image.
SERVICE-PROGRAM image stop A service starts a program that is missing or cannot run.
SERVICE-TWICE plan stop Two packages bring a service of the same name.
SERVICE-UNKNOWN plan stop An image changes a service that no package brings, or one has no program.
SERVICE-USER plan stop A service runs as an account that is not there.
SETTING-FORM command stop A setting has no value, or one that does not fit.
SETTING-KEY command stop A setting names nothing that can be set.
SETTINGS-NONE command stop The image has no settings of this kind.
SHELF-GIT command stop Git fails in the clone of a shelf.
SHELF-MISSING definitions stop A shelf needs another one that is not in the workspace.
SHELF-MOVES definitions warn A shelf from git is at a branch, and the lock pins no commit.
SHELF-NAME definitions stop A shelf calls itself by another name than the workspace does.
SHELF-NEEDS command stop A shelf needs others, and nobody has agreed to add them.
SHELF-NOT-HERE definitions stop A shelf from git is not cloned yet.
SHELF-PLACE definitions stop A shelf has neither a folder nor a repository, or what does not go together.
SHELF-REVISION command stop A repository has no such branch, tag or commit.
SHELF-STATE command stop A folder where a clone belongs is none.
SHELF-TWICE definitions stop Two shelves have the same name.
SHELF-UNKNOWN edit stop The workspace has no shelf of this name.
SHELF-UNREACHABLE command stop A shelf's repository cannot be fetched.
SHELF-VERSION definitions stop A shelf does not work with the version of another one.
SIGN-KEY flash stop A file holds no key of the kind that images are signed with.
SIGN-MISSING flash stop None of the trusted keys has signed an image.
SIGN-WRONG flash stop A signature does not fit what it lies beside.
SILENCE-UNFIT definitions stop A product silences what cannot be silenced, or does not say why.
SIZE-UNKNOWN command stop A size is in no known form.
SOURCE-ARCHIVES plan stop No Debian archive is known.
SOURCE-CHANGED plan stop A file of the build host is not the one that the lock knows.
SOURCE-COUNT plan stop A recipe has more sources, or fewer, than its build system takes.
SOURCE-DIGEST fetch stop A source has another digest than its recipe says.
SOURCE-FORM plan stop A source says too little, or too much, of where it comes from.
SOURCE-INDEX plan stop The index of a Debian archive cannot be read.
SOURCE-INDEX-OLD plan stop The index of a Debian archive is older than it says that it may be.
SOURCE-MISSING plan stop A file or folder that a definition names is not there.
SOURCE-MOVED build stop A source changed while it was taken in.
SOURCE-NO-DIGEST plan stop A download has no digest.
SOURCE-OFFLINE fetch stop A source is not in the cache, and no network may be used.
SOURCE-PACKAGE-UNFIT build stop A Debian source package is not what its index says, or of an unknown form.
SOURCE-PACKAGE-UNKNOWN plan stop No Debian archive has a source package of this name.
SOURCE-UNREACHABLE fetch stop A source cannot be downloaded.
SOURCE-UNSIGNED plan stop No key that counts has signed the index of a Debian archive.
SOURCE-VERSION-UNKNOWN plan stop No Debian archive has this version of a source package.
STEP-FAILED build stop A step ended with an error.
STEP-LACKS build stop A build looks for a header or library that no recipe among its needs brings.
STEP-LEFT-LINK build stop A step left a link where a folder or file belongs.
STEP-NETWORK build stop A step wanted the network.
STEP-NO-COMMANDS command stop A step runs no commands that a shell could be opened for.
STEP-NO-PROGRAM build stop A step wanted a program that it does not see.
STEP-OVER-LIMIT build stop A step went over a limit of time, output, memory or processes.
STEP-TOO-DEEP build stop A recipe installs folders nested too deep.
STEP-UNKNOWN command stop The product has no step of this name.
SYMBOL-VERSION image stop A program or library needs a symbol version that its library in the image does not have.
SYSROOT-CLASH build stop Two recipes bring the same path to those that are built with them.
TEMPLATE-UNFIT plan stop A template names something that there is not, or has an error.
TERMS-CHANGED plan stop Terms that were accepted have another text now.
TERMS-DIGEST command stop Terms have another digest than the one that is accepted.
TERMS-OPEN plan stop Terms of a recipe or shelf are not accepted.
TERMS-UNKNOWN command stop Nothing here carries terms by this name.
TERMS-UNREADABLE plan stop A text of terms cannot be read.
TIMELINE-MISSING command stop No step of the product ran here.
TOOLCHAIN-ARCH plan stop A compiler builds for another architecture than the board.
TOOLCHAIN-AS-PACKAGE plan stop A product asks for a compiler's recipe like a package.
TOOLCHAIN-BROKEN plan stop A compiler cannot be started, or does not work.
TOOLCHAIN-FORM plan stop A recipe that is named as toolchain is none.
TOOLCHAIN-NO-COMPILER plan stop An unpacked toolchain has no compiler of this prefix.
TOOLCHAIN-RUNTIME plan stop A compiler does not say where its C library is.
TRANSFER-FAILED console stop A file did not reach a board over its console.
TRANSFER-FILE console stop A file that a script sends is not there.
TREE-KIND plan stop A folder that is laid over holds a device, pipe or socket.
TREE-RULE plan stop A rule of a folder that is laid over fits nothing in it.
TREE-UNREADABLE plan stop A folder of sources cannot be read.
UPDATE-BOARD flash stop A file does not stand for a board with slots.
UPDATE-BUNDLE flash stop An update cannot be read or written, or is damaged.
UPDATE-FAILED flash stop An update was not applied, and the board keeps what it had.
UPDATE-IMAGE flash stop Two images are not those of an update.
UPDATE-NOT-OURS command stop A recipe to be updated is on a shelf that is not this workspace's own.
UPDATE-MEDIUM flash stop No installer medium can be made of two images.
UPDATE-REFUSED flash stop A board does not take an update.
UPDATE-UNCLEAR command stop A recipe's file does not say in one place what a newer version changes.
USAGE command stop A command was called in a way that has no meaning.
VALUE-TYPE definitions stop A value is of another type than its key takes.
VALUE-UNFIT definitions stop A value is not one that its key takes.
VALUE-UNKNOWN definitions stop A value is none of those that its key knows.
VARIANT-OVERWRITES definitions warn A variant overwrites what another one sets.
VARIANT-UNKNOWN definitions stop There is no variant of this name.
VERSION-FORM definitions stop A wish for versions is in no known form.
VERSION-TOO-OLD definitions stop The workspace or a shelf asks for another Yarrik.
VERSIONS-CLASH resolve stop No versions satisfy all needs together.
WORD-UNKNOWN plan stop A build's text has a spelling or tool in braces that there is not.
WORKSPACE-LINK command stop A folder of the workspace to which Yarrik writes is a link.
WORKSPACE-MISSING command stop There is no workspace here or above.
WORKSPACE-UNWRITABLE command stop The workspace cannot be written.
ZONE-UNKNOWN plan stop The build host has no such time zone.
"""


def _read(table: str) -> dict[str, Code]:
    found = {}
    for line in table.strip().splitlines():
        code, stage, severity, meaning = line.split(maxsplit=3)
        found[code] = Code(code, stage, severity, meaning)  # type: ignore[arg-type]
    return dict(sorted(found.items()))


CODES = _read(_TABLE)
