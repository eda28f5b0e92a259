"""Brings an update onto a board's disk, as the board's own program does: writes the slot that does not run, and puts it on
trial.

Whatever is interrupted leaves a board that boots. The slot that runs is never written to. Before the first byte of the other
one changes, the state names it no longer; after all of it has reached the medium and was read back, the state names it again,
in one sector. A run that begins anew takes what is right already.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import msgspec

from yarrik.boot import STATE_SECTOR, SlotPlace, Slots, SlotState, store_state, stored_state
from yarrik.errors import Damaged, Unfit
from yarrik.manifest import ImageKey
from yarrik.update.bundle_form import COPY, LONGEST, ZERO, Description, Piece, digest_of, version_key
from yarrik.update.frames import decompressed


class Medium(Protocol):
    """A board's disk: reads and writes bytes at an offset; `settle` returns when all that was written has reached it."""

    def read(self, at: int, length: int) -> bytes: ...
    def write(self, at: int, data: bytes) -> None: ...
    def settle(self) -> None: ...


class Disk(msgspec.Struct, frozen=True):
    """A board's disk with its slots: begin and size of each slot's partition by name, and where the state is (bytes)."""

    medium: Medium
    slots: Slots
    places: dict[str, tuple[int, int]]
    state_at: int
    #: The version in each slot, empty where it has no whole system.
    versions: dict[str, str] = msgspec.field(default_factory=dict)

    def state(self) -> SlotState | None:
        """The state that counts; None where none is stored yet."""
        found = stored_state(*self._sectors())
        return found[0] if found is not None else None

    def store(self, state: SlotState) -> None:
        """Replaces the state: the old one or the new one is there at any moment."""

        def write(copy: int, sector: bytes) -> None:
            self.medium.write(self.state_at + copy * STATE_SECTOR, sector)

        store_state(state, *self._sectors(), write, self.medium.settle)

    def _sectors(self) -> tuple[bytes, bytes]:
        both = self.medium.read(self.state_at, 2 * STATE_SECTOR)
        return both[:STATE_SECTOR], both[STATE_SECTOR:]

    @property
    def running(self) -> str:
        """The slot that a board without power would start from: the one that is known to work."""
        state = self.state()
        return state.slot if state is not None else self.slots.places[0].name

    def other(self, running: str) -> SlotPlace:
        """The slot that an update replaces. Raises Unfit."""
        found = [one for one in self.slots.places if one.name != running]
        if len(found) == len(self.slots.places) or not found:
            raise Unfit(f"the board has no slot `{running}`")
        return found[0]


class Applied(msgspec.Struct, frozen=True):
    """What an update did: the slot that it wrote, bytes that were written, and those that were right already."""

    slot: str
    written: int
    kept: int


def check_update(description: Description, signer: ImageKey, trusted: list[ImageKey], slots: Slots) -> None:
    """Whether this board takes an update. Raises Unfit with the reason."""
    if not any(one.raw == signer.raw for one in trusted):
        raise Unfit(f"it is signed by {signer}, which is none of the keys that count")
    if description.whole_disk:
        raise Unfit("it is for a whole disk, which an installer writes, and not for a slot")
    if (description.product, description.board) != (slots.product, slots.board):
        raise Unfit(f"it is for {description.product} on {description.board}, and this is {slots.product} on {slots.board}")
    if description.start and version_key(description.start) != version_key(slots.version):
        raise Unfit(f"it starts from version {description.start}, and {slots.version} is running")
    if version_key(description.version) < version_key(slots.version) and not description.older:
        raise Unfit(f"it brings version {description.version}, and {slots.version} is running: it is not signed for going back")


def apply_update(
    disk: Disk,
    description: Description,
    pieces: list[Piece],
    body: Callable[[int, int], bytes],
    running: str = "",
    progress: Callable[[int, int], None] = lambda done, whole: None,
) -> Applied:
    """Writes the other slot and puts it on trial. `body` gives stored bytes by offset and length. Raises Damaged for contents
    that are not those that were signed, Unfit for a slot that is too small; the board starts what it started before then."""
    now = running or disk.running
    slot = disk.other(now)
    begin, size = disk.places[slot.name]
    old_begin = disk.places[now][0]
    if description.size > size:
        raise Unfit(f"the new system has {description.size} bytes, and the slot `{slot.name}` {size}")
    state = disk.state()
    if state is not None and state.trial == now:
        raise Unfit(f"the running system is on trial itself, in the slot `{now}`: it has to prove itself first")
    if state is None or state.trial or state.slot != now:
        disk.store(SlotState(now))
    written = kept = done = 0
    for piece in pieces:
        there = disk.medium.read(begin + piece.at, piece.length) if piece.kind != ZERO else b""
        if piece.kind == ZERO:
            changed = _zeroed(disk.medium, begin + piece.at, piece.length)
        elif piece.kind == COPY:
            data = disk.medium.read(old_begin + piece.old, piece.length)
            if digest_of(data) != piece.digest:
                raise Damaged("the running slot is not the system that the update starts from")
            changed = _stored(disk.medium, begin + piece.at, there, data)
        elif digest_of(there) == piece.digest:
            changed = 0
        else:
            near = disk.medium.read(old_begin + piece.old, piece.reach) if piece.reach else b""
            changed = _stored(disk.medium, begin + piece.at, there, _content(piece, body(piece.body, piece.stored), near))
        written, kept, done = written + changed, kept + piece.length - changed, done + piece.length
        progress(done, 2 * description.size)
    disk.medium.settle()
    for piece in pieces:
        done += piece.length
        if piece.kind == ZERO:
            good = _all_zero(disk.medium, begin + piece.at, piece.length)
        else:
            good = digest_of(disk.medium.read(begin + piece.at, piece.length)) == piece.digest
        if not good:
            raise Damaged(f"the slot `{slot.name}` does not hold what was written to it")
        progress(done, 2 * description.size)
    disk.store(SlotState(now, slot.name, disk.slots.tries))
    return Applied(slot.name, written, kept)


def confirm(disk: Disk) -> str | None:
    """The slot on trial is the one that works from now on: its name, or None when none is on trial."""
    state = disk.state()
    if state is None or not state.trial:
        return None
    disk.store(SlotState(state.trial))
    return state.trial


def _content(piece: Piece, stored: bytes, near: bytes) -> bytes:
    if len(stored) != piece.stored or digest_of(stored) != piece.of_stored:
        raise Damaged("a part of the update is cut short, or not what was signed")
    data = decompressed(stored, near, piece.length)
    if digest_of(data) != piece.digest:
        raise Damaged("the running slot is not the system that the update starts from")
    return data


def _stored(medium: Medium, at: int, there: bytes, data: bytes) -> int:
    if there == data:
        return 0
    medium.write(at, data)
    return len(data)


def _zeroed(medium: Medium, at: int, length: int) -> int:
    changed = 0
    for start in range(at, at + length, LONGEST):
        part = min(LONGEST, at + length - start)
        if any(medium.read(start, part)):
            medium.write(start, bytes(part))
            changed += part
    return changed


def _all_zero(medium: Medium, at: int, length: int) -> bool:
    return not any(any(medium.read(start, min(LONGEST, at + length - start))) for start in range(at, at + length, LONGEST))
