"""Slots that a boot script switches: complete systems, each with its kernel, of which one runs while another is replaced.

A small partition holds the state twice, in its first two sectors, as blocks of the bootloader's own environment: the slot that
is known to work, the one on trial, and how many starts it has left. The first copy counts unless its checksum does not fit.
Each change writes the old state into the second copy before the first one is replaced, so a power cut leaves one of the two
sound, with the old state or the new one.
"""

from __future__ import annotations

import re
from collections.abc import Callable

import msgspec

from yarrik.boot.environment import EnvironmentDamaged, decode_environment, encode_environment
from yarrik.errors import Damaged
from yarrik.patterns import lazy_pattern

#: Where a slot keeps its kernel, device tree and script, below its root filesystem; the bootloader reads them there.
SLOT_FOLDER = "/usr/lib/boot"
SLOT_SCRIPT = f"{SLOT_FOLDER}/slot.scr"
#: What the programs of the board know of slots.
SLOTS_FILE = f"{SLOT_FOLDER}/slots.conf"
#: The word of the kernel's command line that names the running slot.
SLOT_WORD = "slots.running"
#: Each copy of the state has one sector (bytes).
STATE_SECTOR = 512
MOST_SLOTS = 8
_NAME = lazy_pattern(r"[a-z0-9][a-z0-9-]{0,30}")
#: Products and boards, as programs on boards take them; and a product's own version.
_TITLE = lazy_pattern(r"[A-Za-z0-9][A-Za-z0-9._+-]{0,62}")
_VERSION = lazy_pattern(r"[0-9]{1,9}(\.[0-9]{1,9}){0,3}")


class SlotPlace(msgspec.Struct, frozen=True):
    """A slot: its name, its partition's number, and the words that tell the kernel of its root filesystem, of which the first
    is `root=`."""

    name: str
    number: int
    root: str = ""

    @property
    def device(self) -> str:
        """The partition, as the kernel finds it."""
        return self.root.partition(" ")[0].removeprefix("root=")


class Slots(msgspec.Struct, frozen=True):
    """A board's slots, the partition with their state, the starts that a new system has, and the partitions that stay. The
    kernel checks what it reads of `verified` ones."""

    product: str
    board: str
    version: str
    state: int
    tries: int
    places: tuple[SlotPlace, ...]
    shared: tuple[int, ...] = ()
    verified: bool = False

    def text(self) -> str:
        """The file on the board: a fact in each line."""
        return "".join(
            f"{line}\n"
            for line in (
                f"product {self.product}",
                f"board {self.board}",
                f"version {self.version}",
                f"state {self.state}",
                f"tries {self.tries}",
                *(f"slot {one.name} {one.number}" for one in self.places),
                *(f"shared {number}" for number in self.shared),
            )
        )


def read_slots(text: str) -> Slots:
    """The reverse of `Slots.text`. Raises Damaged."""
    known: dict[str, str] = {}
    places: list[SlotPlace] = []
    shared: list[int] = []
    try:
        for line in text.splitlines():
            key, _, value = line.partition(" ")
            if key == "slot":
                name, _, number = value.partition(" ")
                if _NAME.fullmatch(name) is None:
                    raise ValueError(name)
                places.append(SlotPlace(name, int(number)))
            elif key == "shared":
                shared.append(int(value))
            elif key in known:
                raise ValueError(key)
            else:
                known[key] = value
        state, tries = int(known["state"]), int(known["tries"])
        slots = Slots(known["product"], known["board"], known["version"], state, tries, tuple(places), tuple(shared))
    except (KeyError, ValueError) as error:
        raise Damaged(f"{SLOTS_FILE} is damaged: {error}") from error
    numbers = [slots.state, *(one.number for one in places), *shared]
    if not all(map(_TITLE.fullmatch, (slots.product, slots.board))) or not _VERSION.fullmatch(slots.version):
        raise Damaged(f"{SLOTS_FILE} has names or a version that cannot be")
    if not 2 <= len(places) <= MOST_SLOTS or len(set(numbers)) != len(numbers) or not all(0 < one <= 128 for one in numbers):
        raise Damaged(f"{SLOTS_FILE} does not name two slots and a state in partitions of their own")
    return slots


class SlotState(msgspec.Struct, frozen=True):
    """Which slot is known to work, which one is on trial (or none), and how many starts that has left."""

    slot: str
    trial: str = ""
    tries: int = 0

    def encoded(self, with_flag: bool = False) -> bytes:
        """One sector. `with_flag`: for bootloaders built for redundant environments, whose blocks have one byte more."""
        settings = {"slot": self.slot, **({"trial": self.trial, "tries": str(self.tries)} if self.trial else {})}
        return encode_environment(settings, STATE_SECTOR, 1 if with_flag else None)


def decode_state(sector: bytes) -> tuple[SlotState, bool]:
    """The state in a sector, and whether its block has a flag. Raises Damaged."""
    for with_flag in (False, True):
        try:
            settings, _ = decode_environment(sector, with_flag)
        except EnvironmentDamaged:
            continue
        slot, trial, tries = settings.get("slot", ""), settings.get("trial", ""), settings.get("tries", "0")
        if _NAME.fullmatch(slot) and (not trial or _NAME.fullmatch(trial)) and re.fullmatch("[0-9]", tries):
            return SlotState(slot, trial, int(tries)), with_flag
    raise Damaged("it holds no state of slots")


def stored_state(first: bytes, second: bytes) -> tuple[SlotState, bool, bool] | None:
    """The state that counts, whether it has a flag, and whether it is the first copy's; None where neither copy is sound."""
    for sector, is_first in ((first, True), (second, False)):
        try:
            return (*decode_state(sector), is_first)
        except Damaged:
            continue
    return None


def store_state(
    state: SlotState, first: bytes, second: bytes, write: Callable[[int, bytes], None], settle: Callable[[], None]
) -> None:
    """Replaces the state by way of `write`, which takes the number of a copy and its sector; `settle` returns when all before
    it has reached the medium."""
    now = stored_state(first, second)
    with_flag = now is not None and now[1]
    if now is not None and now[2] and first != second:
        write(1, first)
        settle()
    write(0, state.encoded(with_flag))
    settle()


def chooser(slots: Slots, at: int) -> list[str]:
    """The script that chooses a slot, counts its starts, and loads the slot's own script to the address `at`.

    It is written once and never changed: all that an update may change is in the slot."""
    first, place = slots.places[0].name, f"{at:#x}"
    known = []
    for number, one in enumerate(slots.places):
        known += [
            f"{'if' if number == 0 else 'elif'} test ${{attempt}} = {one.name}; then",
            f"  setenv slot_part {one.number:x}; setenv slot_device {one.device};"
            f" setenv slot_root {one.root} {SLOT_WORD}={one.name}",
        ]
    start = " ".join(
        [line + ("" if line.endswith("then") else ";") for line in known]
        + [f"fi; load ${{devtype}} ${{devnum}}:${{slot_part}} {place} {SLOT_SCRIPT} && source {place}"]
    )
    names = "slot trial tries"

    def read(sector: str) -> str:
        return f"${{devtype}} read {place} ${{{sector}}} 1 && env import -c {place} 200 {names}"

    def save(sector: str) -> str:
        return f"${{devtype}} write {place} ${{{sector}}} 1"

    return [
        f"setenv slot {first}; setenv trial; setenv tries",
        f"setenv slot_start '{start}'",
        "${devtype} dev ${devnum}",
        f"part start ${{devtype}} ${{devnum}} {slots.state:x} state_first",
        "setexpr state_second ${state_first} + 1",
        f"if {read('state_first')}; then",
        "  setenv state_known yes",
        f"elif {read('state_second')}; then",
        "  setenv state_known second",
        "else",
        f"  setenv slot {first}; setenv trial; setenv tries; setenv state_known no",
        f"  env export -c -s 200 {place} {names} && {save('state_first')} && {save('state_second')}",
        "fi",
        "setenv attempt ${slot}",
        'if test -n "${trial}" && test -n "${tries}" && test "${tries}" != 0; then',
        f"  if test ${{state_known}} = yes; then {save('state_second')}; fi",
        "  setexpr tries ${tries} - 1",
        f"  if env export -c -s 200 {place} {names} && {save('state_first')}; then setenv attempt ${{trial}}; fi",
        "fi",
        "run slot_start",
        "setenv attempt ${slot}",
        "run slot_start",
        *(line for one in slots.places for line in (f"setenv attempt {one.name}", "run slot_start")),
    ]
