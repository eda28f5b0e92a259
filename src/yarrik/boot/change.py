"""Changes settings in a finished image or environment block, and updates the files beside it."""

from __future__ import annotations

import hashlib
import re
import shutil
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import BinaryIO

import msgspec

from yarrik.atomic import new_file, write_file
from yarrik.beneath import regular_file
from yarrik.boot.card_form import FIRST_BOOT_FILE, FoundForm, read_form, unfit
from yarrik.boot.environment import EnvironmentDamaged, decode_environment, encode_environment, newest_of
from yarrik.boot.settings import change_settings, read_settings
from yarrik.disk import BESIDE, FatEditor, FoundPartition, MapDamaged, open_image, read_map, write_beside
from yarrik.errors import Unfit, suggestion
from yarrik.model import CardSetting
from yarrik.moving import copy_sparse
from yarrik.patterns import lazy_pattern

_TEXT = lazy_pattern(r"/[^/]+\.(?:txt|conf|cfg|ini)\Z", re.IGNORECASE)
_MOST = 1 << 20


class NoSettings(Unfit):
    """The file holds no settings that could be changed; the message says why, `remedy` what to do."""

    def __init__(self, what: str, remedy: str) -> None:
        super().__init__(what)
        self.remedy = remedy


class SettingRefused(NoSettings):
    """The board would not take the setting in."""


class Changed(msgspec.Struct, frozen=True):
    """`where` is what was changed, `values` what each key was before and is now; `beside` are other files made anew. The values
    of `secret` keys are not to be shown."""

    where: str
    values: dict[str, tuple[str | None, str | None]]
    beside: tuple[str, ...]
    secret: frozenset[str] = frozenset()


def change_image(file: Path, changes: Mapping[str, str | None], inside: str = "") -> Changed:
    """Sets keys (None takes one away) in a settings file on an image's boot partition, or in an environment block.

    `inside` names the file on the partition; without it there has to be only one that can be meant. The image appears
    changed as a whole or not at all. Raises NoSettings, ValueError and OSError."""
    written: list[tuple[int, int]] = []
    secret: frozenset[str] = frozenset()
    with new_file(file, None, durable=True) as fresh:
        copy_sparse(file, fresh)
        shutil.copymode(file, fresh)
        environment = _environment(file)
        if environment is not None:
            before, encoded = environment
            after = {key: value for key, value in (before | dict(changes)).items() if value is not None}
            fresh.write_bytes(encoded(after))
            where = file.name
        else:
            with fresh.open("r+b") as disk:
                done = change_disk(disk, fresh.stat().st_size, changes, inside)
            where, before, after, written, secret = done.where, done.before, done.after, done.ranges, done.secret
        beside = _write_beside(file, fresh, written)
    values = {key: (before.get(key), after.get(key)) for key in changes}
    return Changed(where, values, (*beside, *_checksums(file, beside)), secret)


class ListedSetting(msgspec.Struct, frozen=True):
    """A setting in a file: its value there (None: it is not set), and what the image says of it, if it says something."""

    name: str
    value: str | None
    form: CardSetting | None


def settings_of(file: Path, inside: str = "") -> tuple[str, list[ListedSetting]]:
    """Where an image's settings or an environment block are, and all of them. Raises NoSettings, Damaged and OSError."""
    environment = _environment(file)
    if environment is not None:
        return file.name, [ListedSetting(key, value, None) for key, value in sorted(environment[0].items())]
    with file.open("rb") as disk:
        image = open_image(disk, file.stat().st_size)
        form = _form_in(image.partitions)
        fats = [part for part in image.partitions if part.reader is not None and part.reader.form.startswith("FAT")]
        part, path = _settings_file(fats, inside or (form.file if form is not None else ""))
        assert part.reader is not None
        found = next(one for one in part.reader.walk() if one.path.lower() == path.lower())
        if found.size > _MOST:
            raise NoSettings(f"{path} is too large for a settings file", "name another with --file")
        values = read_settings(b"".join(part.reader.content(found)).decode("utf-8-sig", "replace"))
    known = form.settings if form is not None and path.strip("/").lower() == form.file.lower() else {}
    rows = [ListedSetting(name, values.get(name), one) for name, one in known.items()]
    rows += [ListedSetting(name, value, None) for name, value in values.items() if name not in known]
    return f"{part.name}:{path}", rows


def _environment(file: Path) -> tuple[dict[str, str], Callable[[dict[str, str]], bytes]] | None:
    """What an environment block or a redundant pair holds, and what makes its bytes of new settings; None for other files."""
    if file.stat().st_size > _MOST:
        return None
    data = file.read_bytes()
    try:
        return decode_environment(data)[0], lambda after: encode_environment(after, len(data))
    except EnvironmentDamaged:
        pass
    half = len(data) // 2
    blocks = [data[:half], data[half:]]
    try:
        before, newest = newest_of(*blocks)
    except EnvironmentDamaged:
        return None

    def pair(after: dict[str, str]) -> bytes:
        # As bootloaders do it: the older of the two is replaced, so that the other stands until this one is whole.
        flag = decode_environment(blocks[newest], redundant=True)[1] or 0
        blocks[1 - newest] = encode_environment(after, half, (flag + 1) % 256)
        return b"".join(blocks)

    return before, pair


class ChangedDisk(msgspec.Struct, frozen=True):
    """A settings file of a disk: all values before and after, and the ranges (start, end) that were written."""

    where: str
    before: dict[str, str]
    after: dict[str, str]
    ranges: list[tuple[int, int]]
    secret: frozenset[str]


def change_disk(disk: BinaryIO, size: int, changes: Mapping[str, str | None], inside: str = "") -> ChangedDisk:
    """As `change_image`, in an open disk of `size` bytes itself. Raises NoSettings, SettingRefused, Unfit and Damaged."""
    image = open_image(disk, size)
    fats = [part for part in image.partitions if part.reader is not None and part.reader.form.startswith("FAT")]
    if not fats:
        raise NoSettings("there is no FAT partition in it, and it is not an environment block",
                         "name a disk image whose boot partition is FAT")  # fmt: skip
    form = _form_in(image.partitions)
    if form is not None and not inside and all(key in form.settings for key in changes):
        inside = form.file  # others may be there for the bootloader
    part, path = _settings_file(fats, inside)
    secret: frozenset[str] = frozenset()
    if form is not None and path.strip("/").lower() == form.file.lower():
        secret = frozenset(name for name, one in form.settings.items() if one.secret)
        _check(form, changes)
    editor = FatEditor(disk, part.start, part.size)
    found = next(one for one in editor.walk() if one.path.lower() == path.lower())
    if found.size > _MOST:
        raise NoSettings(f"{path} is too large for a settings file", "name another with --file")
    text = b"".join(editor.content(found)).decode("utf-8", "replace")
    changed = change_settings(text, changes)
    editor.replace(path, changed.encode())
    return ChangedDisk(f"{part.name}:{path}", read_settings(text), read_settings(changed), editor.changed, secret)


def _form_in(partitions: Sequence[FoundPartition]) -> FoundForm | None:
    """The form of settings that a system in the image carries."""
    for part in partitions:
        if part.reader is None:
            continue
        found = next((one for one in part.reader.walk() if one.path == FIRST_BOOT_FILE), None)
        if found is not None and found.kind == "file" and found.size <= _MOST:
            form = read_form(b"".join(part.reader.content(found)).decode("utf-8", "replace"))
            if form is not None:
                return form
    return None


def _check(form: FoundForm, changes: Mapping[str, str | None]) -> None:
    """Raises NoSettings for what the board would refuse."""
    for key, value in changes.items():
        one = form.settings.get(key)
        if one is None:
            raise SettingRefused(f"there is no setting `{key}`", suggestion(key, form.settings))
        why = unfit(one, value) if value is not None else ""
        if why and one.secret:
            raise SettingRefused(
                f"the value for `{key}` cannot be", "it is secret, and not shown; the image's definition says what fits"
            )
        if why:
            raise SettingRefused(f"`{key}` cannot be `{value}`: {why}", f"its usual value is `{one.usual}`")


def _settings_file(fats: list[FoundPartition], inside: str) -> tuple[FoundPartition, str]:
    found = []
    for part in fats:
        assert part.reader is not None
        for one in part.reader.walk():
            wanted = one.path.lower() == ("/" + inside.strip("/")).lower() if inside else _TEXT.match(one.path) is not None
            if one.kind == "file" and wanted:
                found.append((part, one.path))
    if not found:
        raise NoSettings(f"no FAT partition has {inside}" if inside else "no FAT partition has a file of settings at its top",
                         "name one with --file, or give the board a `boot.settings`")  # fmt: skip
    if len(found) > 1:
        names = ", ".join(f"{part.name}:{path}" for part, path in found)
        raise NoSettings(f"several settings files are possible: {names}", "name one with --file")
    return found[0]


def _write_beside(file: Path, fresh: Path, written: list[tuple[int, int]]) -> list[str]:
    """Makes anew what lies beside the image and is made of it."""
    known = file.with_name(file.name + BESIDE["map"])
    ranges = [(0, file.stat().st_size)]
    if known.is_file():
        try:
            kept = read_map(regular_file(known), file.stat().st_size).ranges
            ranges = sorted([*((one.start, one.end) for one in kept), *written])
        except (MapDamaged, OSError):
            pass  # somebody else's file: then all of the image counts
    names = []
    for kind, ending in BESIDE.items():
        place = file.with_name(file.name + ending)
        if place.is_file():
            with new_file(place) as made:
                write_beside(fresh, file.name, ranges, kind, made)
            names.append(place.name)
    return names


def _checksums(file: Path, beside: list[str]) -> list[str]:
    """Brings the lines of SHA256SUMS to what the files are now."""
    sums = file.with_name("SHA256SUMS")
    if not sums.is_file():
        return []
    lines = []
    # What is in it beside our lines stays as it is, whatever it is.
    for line in regular_file(sums).decode("utf-8", "surrogateescape").splitlines():
        name = line.partition("  ")[2]
        if name in (file.name, *beside):
            with file.with_name(name).open("rb") as source:
                line = f"{hashlib.file_digest(source, 'sha256').hexdigest()}  {name}"
        lines.append(line)
    write_file(sums, "".join(line + "\n" for line in lines).encode("utf-8", "surrogateescape"))
    # A signature over what they were holds no more.
    sums.with_name(f"{sums.name}.sig").unlink(missing_ok=True)
    return [sums.name]
