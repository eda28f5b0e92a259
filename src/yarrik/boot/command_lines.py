"""The kernel's command line, word by word, each with the reason why it stands there.

`root=` follows init/do_mounts.c of the kernel: it knows partitions by PARTUUID, PARTLABEL (GPT) and device name; the
identifier of a filesystem means nothing to it, only to an initramfs.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

import msgspec

from yarrik.disk import FORMS, RootPlace, filesystem_guid, has_gpt, numbered_partitions, partition_uuid
from yarrik.errors import Unfit
from yarrik.model import Partition
from yarrik.patterns import lazy_pattern

#: Where the kernel looks for an init when nothing names one (init/main.c, kernel_init).
DEFAULT_INITS = ("/sbin/init", "/etc/init", "/bin/init", "/bin/sh")
#: Disks whose partitions have a `p` before their number: those whose own name ends in a digit.
_COUNTED = "mmcblk#|nvme#n#|mtdblock#|nbd#|loop#".replace("#", r"(?:0|[1-9]\d*)")
_DISK = lazy_pattern(rf"(?P<bare>(?:sd|vd|xvd|hd)[a-z]+)\Z|(?P<counted>{_COUNTED})\Z")


class RootUnfit(Unfit):
    """The root filesystem cannot be named in this form; the message says why, `remedy` what would do."""

    def __init__(self, what: str, remedy: str) -> None:
        super().__init__(what)
        self.remedy = remedy


class Word(msgspec.Struct, frozen=True):
    text: str
    origin: str


class CommandLine(msgspec.Struct, frozen=True):
    words: tuple[Word, ...]

    def __str__(self) -> str:
        return " ".join(word.text for word in self.words)

    def with_words(self, words: Sequence[str], origin: str) -> CommandLine:
        """The line with more words at its end."""
        return CommandLine((*self.words, *(Word(text, origin) for text in words)))


class RootWish(msgspec.Struct, frozen=True):
    """`form` is one of the board's `boot.root`; `device` the disk's name for the form `device`; `read_only` is None to
    follow the partition."""

    form: str = "partuuid"
    device: str = ""
    read_only: bool | None = None
    #: A program of an initramfs looks for it, by more names than the kernel knows.
    searched: bool = False


def partition_device(disk: str, number: int) -> str:
    """A partition's device name: `mmcblk0` and 2 give `mmcblk0p2`, `sda` and 2 give `sda2`. Raises RootUnfit."""
    match = _DISK.match(disk)
    if match is None:
        hint = re.sub(r"(?<=\d)p\d+\Z|(?<=[a-z])\d+\Z", "", disk.removeprefix("/dev/"))
        raise RootUnfit(
            f"`{disk}` is not a name of a disk",
            f"write the disk without its partition: `{hint}`" if _DISK.match(hint) else "names are like mmcblk0, sda, nvme0n1",
        )
    return f"{disk}p{number}" if match["counted"] else f"{disk}{number}"


def _read_only(partition: Partition) -> bool:
    return partition.filesystem in FORMS and FORMS[partition.filesystem].read_only


def root_words(product: str, place: RootPlace, wish: RootWish) -> list[Word]:
    """What tells the kernel of a root filesystem on a disk. Raises RootUnfit."""
    if wish.form == "none" and wish.searched:
        return []
    if wish.form == "none":
        raise RootUnfit("nothing names the root filesystem, and there is no initramfs to find it",
                        'set `root` to another form, or `initramfs = "root"`')  # fmt: skip
    form, disk, partition = wish.form, place.disk, place.partition
    where = f"the partition {place.name} of the disk {disk.name} holds the root filesystem"
    if form == "partuuid":
        identifier = partition_uuid(product, place)
        if identifier is None:
            raise RootUnfit(f"the disk {disk.name} has no table that could give its partition an identifier",
                            'name it with `root = "device"` and `root-device`')  # fmt: skip
        root = f"PARTUUID={identifier}"
    elif form == "partlabel":
        if not has_gpt(disk.table):
            raise RootUnfit(f"the disk {disk.name} has no GPT, and only there partitions have names",
                            'use `root = "partuuid"`, or `table = "gpt"`')  # fmt: skip
        if [name for _, name, _ in numbered_partitions(disk)].count(place.name) > 1 or not re.fullmatch(r"[!-~]+", place.name):
            raise RootUnfit(f"the name `{place.name}` cannot be used on a command line", "give the partition a plain name")
        root = f"PARTLABEL={place.name}"
    elif form in ("uuid", "label") and not wish.searched:
        what = f"identifier ({filesystem_guid(product, disk, partition)})" if form == "uuid" else "label"
        raise RootUnfit(f"the kernel itself does not look for filesystems by {what}",
                        'use `root = "partuuid"`, which it does look for, or an initramfs with `root-finder`')  # fmt: skip
    elif form in ("uuid", "label") and partition.copies:
        raise RootUnfit(f"the copies {', '.join(partition.copies)} of the partition {place.name} have the same {form}",
                        'use `root = "partuuid"`, which is another one for each')  # fmt: skip
    elif form == "uuid":
        if not partition.filesystem.startswith("ext"):
            raise RootUnfit(f"{partition.filesystem} has no identifier that it is found by", 'use `root = "partuuid"`')
        root = f"UUID={filesystem_guid(product, disk, partition)}"
    elif form == "label":
        if not re.fullmatch(r"[!-~]+", partition.label):
            raise RootUnfit(f"the filesystem of the partition {place.name} has no plain label", "give the partition a `label`")
        root = f"LABEL={partition.label}"
    else:
        if not wish.device:
            raise RootUnfit("`root-device` is missing", 'name the disk as the kernel does, like `root-device = "mmcblk0"`')
        device = wish.device.removeprefix("/dev/")
        root = f"/dev/{partition_device(device, place.number) if disk.table != 'none' else device}"
    read_only = wish.read_only if wish.read_only is not None else partition.read_only or _read_only(partition)
    why = "the board's boot.read-only" if wish.read_only is not None else "the partition is read-only"
    return [
        Word(f"root={root}", where),
        Word(f"rootfstype={partition.filesystem}", f"what is on the partition {place.name}; nothing else is tried"),
        Word("rootwait", "storage may show up after the kernel has started"),
        Word("ro", why) if read_only else Word("rw", "services write to the root filesystem"),
    ]


def command_line(
    root: Sequence[Word],
    consoles: Sequence[str],
    init_path: str,
    arguments: Sequence[str],
    log_level: int | None = None,
    in_memory: bool = False,
) -> CommandLine:
    """The whole line. The last of `consoles` is the one that programs talk to."""
    words = list(root)
    for number, console in enumerate(consoles, 1):
        last = number == len(consoles)
        words.append(Word(f"console={console}", "the board's kernel.console" if last else "the board's kernel.more-consoles"))
    if log_level is not None:
        words.append(Word(f"loglevel={log_level}", "the board's kernel.log-level"))
    if in_memory and init_path != "/init":
        words.append(Word(f"rdinit={init_path}", "the profile's init-path; the root filesystem is an initramfs"))
    elif not in_memory and init_path not in DEFAULT_INITS:
        words.append(Word(f"init={init_path}", "the profile's init-path"))
    words += [Word(argument, "the board's kernel.arguments") for argument in arguments]
    return CommandLine(tuple(words))


def parsed(line: str) -> dict[str, list[str]]:
    """A command line as the kernel splits it: values by name, in order; a word without `=` has the value "".

    Double quotes keep blanks together (lib/cmdline.c, next_arg)."""
    found: dict[str, list[str]] = {}
    for match in re.finditer(r'(?:"[^"]*"|[^\s"])+', line):
        name, _, value = match.group().replace('"', "").partition("=")
        if name == "--":
            break  # what follows is for init
        found.setdefault(name, []).append(value)
    return found
