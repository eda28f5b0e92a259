"""The mount table of an image (fstab(5)): what its disks have, and places that can be written to; folders of each start."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from yarrik.disk import FORMS, RootPlace, numbered_partitions, partition_uuid
from yarrik.errors import Collector, Place, Trouble
from yarrik.model import Composition, Disk, Partition, WritablePlace
from yarrik.resolve import Accounts
from yarrik.rootfs import OwnPath
from yarrik.units import parse_size

#: Names of filesystems for mount(8) that are not those of our forms.
_TYPES = {"fat": "vfat"}
#: What the small init and the service manager keep folders of each start in (tmpfiles.d(5)).
_FOLDER_LISTS = {"plain": "/etc/folders", "units": "/usr/lib/tmpfiles.d/image.conf"}


class MountTable(msgspec.Struct, frozen=True):
    """The lines of /etc/fstab, the folders that have to be there, and places that somebody asked for."""

    lines: tuple[str, ...]
    folders: tuple[str, ...]
    asked: bool


def mount_table(composition: Composition, read_only_root: bool, collector: Collector) -> MountTable:
    """The table of a product. Troubles go to `collector`."""
    return _Making(composition, read_only_root, collector).run()


class _Making(msgspec.Struct):
    composition: Composition
    read_only_root: bool
    collector: Collector

    def run(self) -> MountTable:
        board = self.composition.board
        lines: list[str] = []
        mounted: dict[str, tuple[bool, Place]] = {}
        asked = False
        for index, disk in enumerate(board.value.disk):
            for number, name, partition in numbered_partitions(disk):
                if name != partition.name:
                    continue  # a copy is mounted by who chooses between them
                place = board.place("disk", str(index), "partition", str(disk.partition.index(partition)), "mount")
                asked = asked or bool(partition.mount)
                where = "/" if partition.holds == "root" else "none" if partition.filesystem == "swap" else partition.mount
                if not where or (where == "/" and board.value.boot.initramfs == "root"):
                    continue
                if where == "/" and partition.copies:
                    continue  # which copy was started is known to the kernel only
                if where == "/" and partition.mount:
                    self._trouble(f"the partition `{name}` holds the root filesystem, and is mounted at {partition.mount} too",
                                  place, "take `mount` out")  # fmt: skip
                elif where in mounted and where != "none":
                    self._trouble(f"two partitions are mounted at {where}", place, "give one of them another path")
                    continue
                line = self._line(disk, RootPlace(disk, number, name, partition), where, place)
                if line:
                    lines.append(line)
                    mounted[where] = (self._writable(partition), place)
        places = [*self._places(mounted)]
        asked = asked or bool(self.composition.image.value.writable)
        folders = [path for path in mounted if path not in ("/", "none")]
        folders += [one.path for one in self.composition.image.value.writable]
        order = sorted(lines, key=lambda line: line.split()[1].count("/") if line.split()[1] != "/" else -1)
        return MountTable((*order, *places), tuple(dict.fromkeys(folders)), asked)

    @staticmethod
    def _quoted(path: str) -> str:
        """A path as fstab(5) has it: blanks would end it."""
        return path.replace("\\", "\\134").replace(" ", "\\040").replace("\t", "\\011")

    def _line(self, disk: Disk, place: RootPlace, where: str, at: Place) -> str:
        partition = place.partition
        identifier = partition_uuid(self.composition.name, place)
        if identifier is None:
            if where != "/":
                self._trouble(f"the disk `{disk.name}` has no partition table, so nothing on it can be named in /etc/fstab", at,
                              'give it `table = "gpt"`, or take `mount` out')  # fmt: skip
            return ""
        if partition.filesystem == "swap":
            return f"PARTUUID={identifier} none swap sw 0 0"
        if partition.filesystem not in FORMS:
            self._trouble(f"the partition `{place.name}` has no filesystem that could be mounted", at, "take `mount` out")
            return ""
        how = "rw" if (where == "/" and not self.read_only_root) or (where != "/" and self._writable(partition)) else "ro"
        options = ",".join([how, *partition.mount_options])
        check = "0" if how == "ro" or not partition.filesystem.startswith("ext") else "1" if where == "/" else "2"
        kind = _TYPES.get(partition.filesystem, partition.filesystem)
        return f"PARTUUID={identifier} {self._quoted(where)} {kind} {options} 0 {check}"

    def _writable(self, partition: Partition) -> bool:
        return not partition.read_only and not (partition.filesystem in FORMS and FORMS[partition.filesystem].read_only)

    def _places(self, mounted: dict[str, tuple[bool, Place]]) -> Iterator[str]:
        image = self.composition.image
        for index, one in enumerate(image.value.writable):
            place = image.place("writable", str(index))
            if one.by == "memory":
                if one.on:
                    self._trouble(f"{one.path} is writable in memory, and `on` names a place", place, "take one of the two out")
                size = f",size={parse_size(one.size)}" if one.size else ""
                yield f"tmpfs {self._quoted(one.path)} tmpfs rw,nosuid,nodev,mode=755{size} 0 0"
                continue
            below = max((path for path in mounted if one.on == path or one.on.startswith(path + "/")), key=len, default="")
            if not one.on or not below or not mounted[below][0]:
                what = f"at {one.on}" if one.on else "without `on`"
                reason = "nothing is mounted there" if not below else "what is mounted there is read-only"
                known = ", ".join(sorted(path for path, (writable, _) in mounted.items() if writable and path[1:])) or "none"
                self.collector.add(
                    Trouble("MOUNT-PLACE", f"{one.path} cannot be kept {what}", place,
                            why=f"{reason}; what is written would be lost, or refused",
                            remedy=f"give a partition of the board a `mount`, and name it; writable are: {known}")
                )  # fmt: skip
                continue
            yield self._kept(one)

    def _kept(self, one: WritablePlace) -> str:
        name = self._quoted(one.path.strip("/").replace("/", "-"))
        path, on = self._quoted(one.path), self._quoted(one.on)
        if one.by == "bind":
            return f"{on}/places/{name} {path} none bind,x-systemd.requires-mounts-for={on} 0 0"
        return (
            f"overlay {path} overlay lowerdir={path},upperdir={on}/places/{name},"
            f"workdir={on}/places/.{name},x-systemd.requires-mounts-for={on} 0 0"
        )

    def _trouble(self, what: str, place: Place, remedy: str) -> None:
        self.collector.add(Trouble("MOUNT-PLACE", what, place, remedy=remedy))


def start_folders(composition: Composition, accounts: Accounts, collector: Collector) -> OwnPath | None:
    """The list of folders that are made at each start, in the form of the profile's init; None without any."""
    image, form = composition.image, composition.profile.value.service_form
    if not image.value.start_folder:
        return None
    place = image.place("start-folder")
    if form not in _FOLDER_LISTS:
        collector.add(
            Trouble("SERVICE-FORM", f"folders of each start do not fit the form `{form}`", place,
                    why="its scripts have no list of them", remedy="let a service of your own make them")
        )  # fmt: skip
        return None
    lines = []
    for index, one in enumerate(image.value.start_folder):
        owner = accounts.owner(one.owner, one.group)
        if owner is None:
            unknown = one.owner if one.owner not in accounts.user_numbers else one.group
            collector.add(
                Trouble("ACCOUNT-MISSING", f"{one.path} belongs to `{unknown}`, which the image does not have",
                        image.place("start-folder", str(index)), why="a filesystem keeps owners as numbers",
                        remedy="add it to the image, or correct the name")
            )  # fmt: skip
            continue
        if form == "plain":
            lines.append(f"{one.path} {one.mode} {owner[0]} {owner[1]}\n")
        else:
            group = one.group or next(group.name for group in accounts.groups if group.gid == owner[1])
            lines.append(f"d {one.path} {one.mode} {one.owner} {group} -\n")
    return OwnPath(path=_FOLDER_LISTS[form], kind="file", mode=0o644, content="".join(lines))
