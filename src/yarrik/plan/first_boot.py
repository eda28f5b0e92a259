"""What a board does itself when it starts for the first time: /etc/first-boot, the settings file on the card, and what of it
cannot work."""

from __future__ import annotations

import re
from collections.abc import Iterator

import msgspec

from yarrik.boot import FIRST_BOOT_FILE, LONGEST_LINE, FormUnfit, card_text, form_lines, form_troubles
from yarrik.disk import BOOT_FOLDER, blob_offsets, numbered_partitions
from yarrik.errors import Collector, Place, Trouble, listed, suggestion
from yarrik.model import Composition, Disk, FirstBoot, FirstBootAction, Image, Partition
from yarrik.plan.origins import origin_of
from yarrik.rootfs import OwnPath
from yarrik.services import OneService

PROGRAM = "/sbin/first-boot"
SERVICE = "first-boot"
#: Filesystems that the kernel makes larger while they are mounted, by an operation that our program calls.
_GROWING = ("ext2", "ext3", "ext4")
#: What the program has room for (`first-boot.c`).
_MOST_ACTIONS, _MOST_WORDS = 32, 16
#: Which keys each action takes, and which it must have.
_KEYS = {
    "grow": (("partition",), ()), "machine-id": ((), ()), "host-name": (("text",), ("text",)),
    "host-keys": (("folder", "types", "program"), ()), "run": (("program", "arguments", "creates"), ("program",)),
}  # fmt: skip


def first_boot_service(image: Image) -> OneService | None:
    """The service that does it; None for an image that asks for nothing."""
    if not image.asks_for_first_boot:
        return None
    return OneService(
        name=SERVICE, program=PROGRAM, summary="Does what is due at the first start, and takes settings in", once=True
    )


class FirstBootFiles(msgspec.Struct):
    """The paths that it needs, with where each is said, and the programs that it calls, with what calls them."""

    own: list[tuple[OwnPath, Place]] = msgspec.field(default_factory=list)
    programs: list[tuple[str, str]] = msgspec.field(default_factory=list)


def first_boot_files(composition: Composition, read_only_root: bool, collector: Collector) -> FirstBootFiles:
    """The files of an image that says something about its first start. Troubles go to `collector`."""
    found = FirstBootFiles()
    if composition.image.value.asks_for_first_boot:
        _Making(composition, read_only_root, collector, found).run()
    return found


class _Making(msgspec.Struct):
    composition: Composition
    read_only_root: bool
    collector: Collector
    found: FirstBootFiles

    def run(self) -> None:
        image = self.composition.image
        first, card = image.value.first_boot or FirstBoot(), image.value.card_settings
        whole = image.place(*image.value.first_boot_keys)
        self._keeps(first.state, image.place("first-boot", "state"), "what is done would be forgotten, and done at each start")
        lines = [f"state = {first.state}"]
        if card is not None:
            place = image.place("card-settings")
            for index, what in form_troubles(card.setting):
                name = card.setting[min(index, len(card.setting) - 1)].name
                at = image.place("card-settings", "setting", str(index))
                self._trouble("CARD-SETTING", f"the setting `{name}`: {what}" if index < len(card.setting) else what, at,
                              "the board and `yarrik boot set` check values by it", "correct the definition")  # fmt: skip
            path = f"{self._mounted_boot(place)}/{card.file}"
            try:
                lines += form_lines(card, path)
            except FormUnfit:
                return  # it is among the troubles
            self._add(f"{BOOT_FOLDER}/{card.file}", card_text(card, self.composition.name), place)
        for index, action in enumerate(first.action):
            lines += self._action(action, index)
        if len(first.action) > _MOST_ACTIONS:
            self._trouble("FIRST-BOOT-FORM", f"there is room for {_MOST_ACTIONS} actions", image.place("first-boot", "action"),
                          "the program on the board has no more", "let one program do several of them")  # fmt: skip
        for line in lines:
            if len(line.encode()) > LONGEST_LINE:
                self._trouble("FIRST-BOOT-FORM", f"`{line[:40]}…` is longer than {LONGEST_LINE} bytes", whole,
                              "the program on the board reads no longer lines", "shorten it")  # fmt: skip
        secret = card is not None and any(one.secret for one in card.setting)
        self._add(FIRST_BOOT_FILE, "".join(f"{line}\n" for line in lines), whole, 0o600 if secret else 0o644)

    def _add(self, path: str, text: str, place: Place, mode: int = 0o644) -> None:
        origin = origin_of(place, self.composition)
        self.found.own.append((OwnPath(path=path, kind="file", mode=mode, content=text, origin=origin), place))

    def _trouble(self, code: str, what: str, place: Place, why: str, remedy: str) -> None:
        self.collector.add(Trouble(code, what, place, why=why, remedy=remedy))

    # Actions

    def _action(self, action: FirstBootAction, index: int) -> Iterator[str]:
        name, place = action.name, self.composition.image.place("first-boot", "action", str(index))
        may, must = _KEYS[action.do]
        for key in ("partition", "text", "folder", "types", "program", "arguments", "creates"):
            said = bool(getattr(action, key))
            if said and key not in may:
                self._trouble("FIRST-BOOT-FORM", f"the action `{name}` has `{key}`", place,
                              f'`do = "{action.do}"` has no use for it', "take it out, or choose another `do`")  # fmt: skip
            elif key in must and not said:
                self._trouble("FIRST-BOOT-FORM", f"the action `{name}` has no `{key}`", place, f'`do = "{action.do}"` needs it',
                              f"add `{key}`")  # fmt: skip
        yield f"action = {action.do} {name}"
        if action.do == "grow":
            yield f"on = {self._grown(action, place)}"
        elif action.do == "host-name":
            self._check_host_name(action.text, place)
            yield f"text = {action.text}"
        elif action.do == "host-keys":
            folder = action.folder or "/etc/ssh"
            self._keeps(folder, place, "the board would have other keys after each start")
            self.found.programs.append((action.program or "/usr/bin/ssh-keygen", f"the first start's `{name}` runs"))
            yield f"folder = {folder}"
            yield f"program = {action.program or '/usr/bin/ssh-keygen'}"
            yield from (f"type = {one}" for one in dict.fromkeys(action.types or ("ed25519",)))
        elif action.do == "run":
            yield from self._program(action, name, place)

    def _program(self, action: FirstBootAction, name: str, place: Place) -> Iterator[str]:
        self.found.programs.append((action.program, f"the first start's `{name}` runs"))
        if max(len(action.arguments), len(action.creates)) > _MOST_WORDS:
            self._trouble("FIRST-BOOT-FORM", f"there is room for {_MOST_WORDS} arguments and files in `{name}`", place,
                          "the program on the board has no more", "put them into a script")  # fmt: skip
        for text in action.arguments:
            if not text or text != text.strip():
                self._trouble("FIRST-BOOT-FORM", f"an argument of `{name}` is empty, or has a blank at one of its ends", place,
                              "the list that the board reads keeps none", "put it into a script")  # fmt: skip
        yield f"program = {action.program}"
        yield from (f"argument = {text}" for text in action.arguments)
        for path in action.creates:
            self._keeps(path, place, "what the program makes would be gone after a restart")
            yield f"creates = {path}"

    def _check_host_name(self, text: str, place: Place) -> None:
        card = self.composition.image.value.card_settings
        known = ["serial", *(one.name for one in (card.setting if card is not None else ()))]
        for name in re.findall(r"\{([^}]*)\}?", text):
            if name not in known:
                self._trouble("FIRST-BOOT-FORM", f"the host name `{text}` has {{{name}}}, which stands for nothing", place,
                              f"known are {', '.join(f'{{{one}}}' for one in known)}",
                              suggestion(name, known))  # fmt: skip

    # Partitions

    def _grown(self, action: FirstBootAction, place: Place) -> str:
        """Where the partition that grows is mounted."""
        board = self.composition.board.value
        partitions = [(disk, number, name, part) for disk in board.disk for number, name, part in numbered_partitions(disk)]
        found = next(
            (one for one in partitions if (one[2] == action.partition if action.partition else one[3].holds == "root")), None
        )
        if found is None:
            names = [name for _, _, name, _ in partitions]
            what = (
                f"the board has no partition `{action.partition}`"
                if action.partition
                else "no partition holds the root filesystem"
            )
            self._trouble("FIRST-BOOT-GROW", what, place, "it is to grow at the first start",
                          suggestion(action.partition, names) if action.partition else "name a `partition`")  # fmt: skip
            return "/"
        disk, number, name, partition = found
        where = "/" if partition.holds == "root" else partition.mount
        for reason, remedy in self._cannot_grow(disk, number, partition, where):
            self._trouble("FIRST-BOOT-GROW", f"the partition `{name}` cannot grow: {reason}", place,
                          "all other space of the card would stay unused", remedy)  # fmt: skip
        return where or "/"

    def _cannot_grow(self, disk: Disk, number: int, partition: Partition, where: str) -> Iterator[tuple[str, str]]:
        if disk.table not in ("gpt", "mbr"):
            yield f"its disk has the table `{disk.table}`", 'use `table = "gpt"`'
        if partition.filesystem not in _GROWING:
            yield (f"the kernel cannot make {partition.filesystem or 'raw content'} larger while it is mounted",
                   f"use one of {listed(_GROWING)}")  # fmt: skip
        if number < len(numbered_partitions(disk)):
            behind = [name for other, name, _ in numbered_partitions(disk) if other > number]
            yield (
                f"{listed(behind)} {'is' if len(behind) == 1 else 'are'} behind it",
                "move it to the end of the disk's partitions",
            )
        if any(offset >= 64 << 20 for blob in disk.blob for offset in blob_offsets(blob.offset, blob.copies)):
            yield "a blob may be behind it", "move the blob before the first partition"
        if not where:
            yield "it is not mounted", "give it a `mount`"
        elif self.read_only_root if where == "/" else partition.read_only:
            yield "it is mounted read-only", "let another partition grow: name it with `partition`"

    def _mounted_boot(self, place: Place) -> str:
        """Where the board sees the boot partition's files."""
        for disk in self.composition.board.value.disk:
            for partition in disk.partition:
                if partition.holds == "boot" and partition.filesystem == "fat" and partition.mount:
                    return partition.mount
        self._trouble("CARD-PLACE", "the board has no FAT boot partition that is mounted", place,
                      "people edit the settings file on other computers, and the board reads it when it starts",
                      'give the board one: `holds = "boot"`, `filesystem = "fat"`, `mount = "/boot"`')  # fmt: skip
        return BOOT_FOLDER

    def _keeps(self, path: str, place: Place, why: str) -> None:
        """Whether what is written below a path is still there after a restart."""
        board, image = self.composition.board.value, self.composition.image.value

        def below(other: str) -> bool:
            return path == other or path.startswith(other.rstrip("/") + "/")

        rows = [(one.path, one.by != "memory") for one in image.writable]
        rows += [(part.mount, not part.read_only) for disk in board.disk for part in disk.partition
                 if part.mount and part.holds != "root"]  # fmt: skip
        rows.append(("/", not self.read_only_root and board.boot.initramfs != "root"))
        where, kept = max((row for row in rows if below(row[0])), key=lambda row: len(row[0]))
        if not kept:
            how = "the root filesystem is read-only, or in memory" if where == "/" else f"{where} is read-only, or in memory"
            self._trouble("FIRST-BOOT-PLACE", f"{path} is not kept: {how}", place, why,
                          "name a place on a writable partition, or declare one in the image's `writable`")  # fmt: skip
