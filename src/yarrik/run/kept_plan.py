"""The plan of a build as it is kept beside the build's record: with it, a build after which only sources have changed runs
what follows from them and plans nothing.

Steps are in a file of their own and are read one by one, since most of them are not needed again. What is read here was
written by `yarrik` itself for this workspace; each step that is used has to have the fingerprint that it had, or else all is
planned."""

import hashlib
import os
import weakref
from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from functools import cache, cached_property
from pathlib import Path
from typing import Any, NamedTuple, TypeVar, Union

import msgspec

from yarrik.errors import NOWHERE, Place
from yarrik.model import place_at
from yarrik.patterns import lazy_pattern
from yarrik.plan import (
    Action,
    Bounds,
    PrepareFolder,
    Setting,
    Step,
    beyond_commands,
    beyond_version,
    fingerprint_of,
)
from yarrik.run.bootable import Bootable
from yarrik.run.results import Logs, StepRow
from yarrik.run.unchanged import Part, Question, Suffixed, known_before, state_before
from yarrik.toolchain import Toolchain

_Form = TypeVar("_Form")
_DIGEST = lazy_pattern(rb"[0-9a-f]{64}")


class Otherwise(Exception):
    """Something is not as it was kept: all is planned."""


class Finished(msgspec.Struct, frozen=True):
    """What a product leaves in `out/`: its disks, the names of its environment's file and its device tree (empty without one),
    outputs of recipes by path, and the compilers that `build.json` names."""

    product: str
    disks: tuple[str, ...]
    environment: str
    device_tree: str
    beside: dict[str, tuple[str, str]]
    toolchains: dict[str, str]


class Advice(msgspec.Struct, frozen=True):
    """What is likely not meant, and does not stop the build: its code, the recipe or product that it is about, what is wrong,
    and where that is said, if one line says it."""

    code: str
    subject: str
    what: str
    place: Place = NOWHERE


class Said(msgspec.Struct, frozen=True):
    """What the user ought to hear of a product whatever ran: notes, those of them that are `advice`, and how many are hidden
    since the product (whose definition is `definition`) silences their codes."""

    notes: tuple[str, ...]
    advice: tuple[Advice, ...]
    hidden: int
    silenced: tuple[str, ...]
    definition: str


def said_of(notes: Sequence[str], warnings: Collection[Advice], silenced: Sequence[str], definition: str) -> Said:
    """What the user ought to hear: `notes`, then the `warnings` that the product does not silence, each with its place."""
    heard = tuple(one for one in warnings if one.code not in silenced)
    told = (f"{one.what} ({one.place})" for one in heard)
    return Said((*notes, *told), heard, len(warnings) - len(heard), tuple(silenced), definition)


class KeptSource(msgspec.Struct, array_like=True, frozen=True):
    """A folder that sources are taken from, and the steps (by number) that take them, with the label that each has for them;
    with `suffixes`, only files so named. Without any (None) it is a single file."""

    path: str
    suffixes: tuple[str, ...] | None
    takers: list[tuple[int, str]]


class KeptStep(msgspec.Struct, array_like=True, frozen=True):
    """A step with the numbers of those that it needs, and where it is, encoded, in the file of steps; nowhere (None) when its
    action holds what must not be written down. What a `private` one leaves goes nowhere else."""

    name: str
    needs: list[int]
    private: bool
    part: Part | None


class KeptRecipe(msgspec.Struct, array_like=True, frozen=True):
    """A recipe, of which no more may change than the commands of its builds (by number), if only its text does: the digest is
    that of all else in it. Where nothing asks for a version of it, its version and where its source is had may change too:
    `stable` is the digest without these, and `others` the steps that follow from them beside its builds."""

    digest: bytes
    builds: list[int]
    stable: bytes
    others: list[int]


class KeptProduct(msgspec.Struct, array_like=True, frozen=True):
    """A product's own file: the digest of all in it but its `options`, and these. `free` are options, as `RECIPE[OPTION]`, from
    which nothing follows but the commands of a build, with what they are when nobody asks; only this file asks for any."""

    file: str
    digest: bytes
    options: dict[str, dict[str, bool]]
    free: dict[str, bool]


class Unused(msgspec.Struct, array_like=True, frozen=True):
    """A definition that a product does not use: its kind, and the shelf whose definition of this name it takes the place of."""

    kind: str
    replaces: Any


class KeptPlan(msgspec.Struct, array_like=True, frozen=True):
    """A product's steps, in the order of the graph, and what else building and publishing it takes: of each side its compiler,
    and what builds for it are called with; recipes by the paths of their files. `fragments` are files that
    configure the kernel with modules, or could: from that more follows than the step that takes them. `meanings` are digests of
    what other definitions say, by their files; `unused` ones may say anything that a definition may."""

    steps: list[KeptStep]
    sources: list[KeptSource]
    finished: Finished
    said: Said
    toolchains: dict[str, Toolchain]
    settings: dict[str, Setting]
    recipes: dict[str, KeptRecipe]
    own: KeptProduct | None
    fragments: dict[str, bool]
    meanings: dict[str, bytes]
    unused: dict[str, Unused]
    #: Keys of what the board lacks to start: which other product gives it one is told.
    lacking: tuple[str, ...]
    #: A Bootable, encoded by itself: no build needs it.
    bootable: bytes
    #: A KeptOwn, likewise; empty where the product's own steps are not made again.
    own_steps: bytes


class KeptState(msgspec.Struct, array_like=True):
    """How the steps of a kept plan are: their rows, the digest of each source, and where in `steps.log` the log
    of each begins and how many bytes it has (none when that is not known). `steps` are those, encoded, that are others than
    in the plan, by number, and `options` those of the product, if they are."""

    rows: list[StepRow]
    digests: list[str]
    logs: Logs
    steps: dict[int, bytes] = {}
    options: dict[str, dict[str, bool]] | None = None


class _Encoded(msgspec.Struct, array_like=True):
    kind: str
    subject: str
    action: Any
    files: dict[str, str]
    inputs: dict[str, tuple[str, str]]
    places: dict[str, str]
    predicted: dict[str, str]
    marks: dict[str, tuple[str | None, str | None, int | None]]
    choices: dict[str, str]
    urls: tuple[str, ...]
    bounds: Bounds
    private: bool
    open: bool


def encoded_step(step: Step) -> bytes:
    """A step as bytes. Raises UnicodeEncodeError for paths that are no text."""
    marks = {label: _bare(place) for label, place in step.marks.items()}
    places = {label: os.fspath(place) for label, place in step.places.items()}
    return msgspec.msgpack.encode(
        _Encoded(step.kind, step.subject, step.action, dict(step.files), dict(step.inputs), places, dict(step.predicted), marks,
                 dict(step.choices), step.urls, step.bounds, step.private, step.open)
    )  # fmt: skip


def decoded_step(data: bytes) -> Step:
    """The step that was encoded so. Raises msgspec.DecodeError."""
    one: _Encoded = _steps().decode(data)
    marks = {label: _whole(place) for label, place in one.marks.items()}
    places = {label: Path(place) for label, place in one.places.items()}
    return Step(one.kind, one.subject, one.action, one.files, one.inputs, places, one.predicted, marks, one.choices, one.urls,
                one.bounds, one.private, one.open)  # fmt: skip


@cache
def _steps() -> msgspec.msgpack.Decoder[Any]:
    actions = Union[tuple(Action.__subclasses__())]  # type: ignore[valid-type]  # noqa: UP007
    form = msgspec.defstruct("_Typed", [(one.name, actions if one.name == "action" else one.type)
                                        for one in msgspec.structs.fields(_Encoded)], array_like=True)  # fmt: skip
    return msgspec.msgpack.Decoder(form)


def _bare(place: Place) -> tuple[str | None, str | None, int | None]:
    return None if place.file is None else os.fspath(place.file), place.key, place.given_line


def _whole(bare: tuple[str | None, str | None, int | None]) -> Place:
    file, key, line = bare
    return Place(None, line, key) if file is None else place_at(Path(file), key, line)


def _encode_place(value: Any) -> Any:
    if isinstance(value, Place):
        return _bare(value)
    raise NotImplementedError


def _decode_place(form: type, value: Any) -> Any:
    if form is Place:
        return _whole(value)
    raise NotImplementedError


def encoded(value: msgspec.Struct) -> bytes:
    """As bytes, with the places in it. Raises UnicodeEncodeError."""
    return msgspec.msgpack.encode(value, enc_hook=_encode_place)


def decoded(data: bytes, form: type[_Form]) -> _Form:
    """What was encoded so. Raises msgspec.DecodeError."""
    return msgspec.msgpack.decode(data, type=form, dec_hook=_decode_place)


def decoded_plan(data: bytes) -> KeptPlan:
    """The plan that was encoded so. Raises msgspec.DecodeError."""
    return decoded(data, KeptPlan)


def bootable_before(question: Question) -> Bootable | None:
    """What starting a product takes, as the last build of it knew; None when that may have changed."""
    found = known_before(question)
    data = found.plan if found is not None else None
    try:
        known = decoded_plan(data).bootable if data is not None else None
        return decoded(known, Bootable) if known is not None else None
    except msgspec.DecodeError:
        return None


def decoded_state(data: bytes) -> KeptState:
    """The state that was encoded so. Raises msgspec.DecodeError."""
    return msgspec.msgpack.decode(data, type=KeptState)


class Kept(msgspec.Struct, dict=True, weakref=True):
    """A kept plan with its state, and the file that has its steps."""

    plan: KeptPlan
    state: KeptState
    file: Path

    def step(self, number: int) -> Step:
        """A step as it was when it ran last. What was kept of it has to lead to the fingerprint that it had. Raises Otherwise,
        msgspec.DecodeError."""
        row, rows = self.state.rows[number], self.state.rows
        step = decoded_step(self.state.steps.get(number) or self.encoded(number))
        if number in self.taken:
            step = taking(step, self.taken[number])
        needs = {self.plan.steps[needed].name: needed for needed in self.plan.steps[number].needs}
        try:
            inputs = {label: rows[needs[name]].outputs[output] for label, (name, output) in step.inputs.items()}
        except KeyError as error:
            raise Otherwise from error
        if step.name != row.step or fingerprint_of(step, inputs) != row.fingerprint:
            raise Otherwise
        return step

    def encoded(self, number: int) -> bytes:
        """A step as it was planned, encoded. Raises Otherwise."""
        part = self.plan.steps[number].part
        data = part.read(self._opened) if part is not None else None
        if data is None:
            raise Otherwise
        return data

    def first(self, count: int) -> bytes:
        """The steps before number `count` as they were planned, encoded. Raises Otherwise."""
        ends = [one.part.begin + one.part.size for one in self.plan.steps[:count] if one.part is not None]
        size = max(ends, default=0)
        data = os.pread(self._opened, size, 0)
        if len(data) != size:
            raise Otherwise
        return data

    @cached_property
    def taken(self) -> dict[int, dict[str, str]]:
        """What steps took of all sources when they ran last, by their labels for it."""
        return self.takers(self.state.digests, range(len(self.plan.sources)))

    def takers(self, digests: Sequence[str], numbers: Iterable[int]) -> dict[int, dict[str, str]]:
        """What steps take of these sources, by their labels for it."""
        found: dict[int, dict[str, str]] = {}
        for number in numbers:
            for step, label in self.plan.sources[number].takers:
                found.setdefault(step, {})[label] = digests[number]
        return found

    @cached_property
    def _opened(self) -> int:
        try:
            opened = os.open(self.file, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            raise Otherwise from error
        weakref.finalize(self, os.close, opened)
        return opened


def taking(step: Step, digests: Mapping[str, str]) -> Step:
    """The same step with other sources, by their labels, and what it is known to leave of them."""
    new = {step.files[label]: digest for label, digest in digests.items()}
    predicted = {output: new.get(digest, digest) for output, digest in step.predicted.items()}
    return msgspec.structs.replace(step, files={**step.files, **digests}, predicted=predicted)


class FormerLogs(msgspec.Struct, frozen=True):
    """What the last build wrote of steps, by their fingerprints: the seconds they took, and where in `steps.log` the log is."""

    steps: dict[str, tuple[float, tuple[int, int]]]

    @staticmethod
    def of(question: Question | None, file: Path) -> "FormerLogs":
        """From the state that the last build with this question kept, as long as `file`, its `steps.log`, is as it left it."""
        data = state_before(question, file) if question is not None else None
        try:
            state = decoded_state(data) if data is not None else KeptState([], [], [])
        except msgspec.DecodeError:
            state = KeptState([], [], [])
        known = zip(state.rows, state.logs, strict=True) if state.logs else ()
        return FormerLogs({row.fingerprint: (row.seconds, log) for row, log in known if log is not None and row.seconds >= 0})

    def take(self, rows: Sequence[StepRow]) -> Logs | None:
        """Where the logs of steps that are kept are, in the order of `rows`, which get the seconds that they lack; None when
        nothing is known."""
        if not self.steps:
            return None
        logs: Logs = []
        for row in rows:
            seconds, log = self.steps.get(row.fingerprint, (-1.0, None)) if row.how == "kept" else (-1.0, None)
            if log is not None and row.seconds < 0:
                row.seconds = seconds
            logs.append(log)
        return logs


class Before(NamedTuple):
    """Steps that come before others: their numbers by name, the file that has them, whether it has all of them, and sources
    that none of them takes."""

    numbers: Mapping[str, int]
    file: bytes
    whole: bool
    apart: Collection[Suffixed]


def kept_steps(
    steps: Sequence[Step], private: set[str], heard: Collection[Suffixed], before: Before | None = None
) -> tuple[list[KeptStep], bytes, list[KeptSource], list[str]]:
    """Steps in the form in which they are kept, and the file that has them, with those that come `before`; of the sources that
    planning was `heard` to read, those from which nothing follows but steps that take them, and their digests. Raises
    UnicodeEncodeError."""
    first = len(before.numbers) if before is not None else 0
    numbers = {step.name: number for number, step in enumerate(steps, first)}
    if before is not None:
        numbers |= before.numbers
    kept: list[KeptStep] = []
    file = [before.file if before is not None else b""]
    size = len(file[0])
    takers: dict[Suffixed, list[tuple[int, str]]] = {}
    # A digest that is anywhere else than in the steps that take it may mean that something else follows from it.
    times: Counter[bytes] = Counter()
    for number, step in enumerate(steps, first):
        data = encoded_step(step)
        times.update(_DIGEST.findall(data))
        part = None if has_secrets(step) else Part.at(size, data)
        kept.append(KeptStep(step.name, [numbers[one] for one in step.needs], step.name in private, part))
        if part is not None:
            file.append(data)
            size += len(data)
        for label in sorted(step.files.keys() & step.places):
            key = (os.fspath(step.places[label]), step.action.suffixes if isinstance(step.action, PrepareFolder) else None)
            if key in heard:
                takers.setdefault(key, []).append((number, label))
    digests = {key: {steps[number - first].files[label] for number, label in taking} for key, taking in takers.items()}
    taken: Counter[str] = Counter()
    for number, label in (one for taking in takers.values() for one in taking):  # among its files, and as what it leaves
        step = steps[number - first]
        taken[step.files[label]] += 1 + list(step.predicted.values()).count(step.files[label])
    sole = {
        key: digest
        for key, (digest, *others) in digests.items()
        if not others
        and times[digest.encode()] == taken[digest]  # others: it changed meanwhile
        and (before is None or key in before.apart or (before.whole and digest.encode() not in before.file))
    }
    return kept, b"".join(file), [KeptSource(*key, takers[key]) for key in sole], list(sole.values())


def fragment_asks(path: str, digest: str) -> bool | None:
    """Whether a fragment asks for modules; None when it has not this digest."""
    from yarrik.resolve import asks_for_modules  # a build after few changes takes as little as it can

    try:
        data = Path(path).read_bytes()
    except OSError:
        return None
    return asks_for_modules(data) if hashlib.sha256(data).hexdigest() == digest else None


def meaning_of(raw: Mapping[str, Any]) -> bytes:
    """A digest of all that a definition says, however it is written."""
    # Unlike as msgpack, a date is told from a text.
    return hashlib.sha256(repr(raw).encode("utf-8", "surrogatepass")).digest()[:16]


def beyond_digest(raw: Mapping[str, Any]) -> bytes:
    """A digest of what is in a recipe beside what its commands are made of; nothing where it must not be told apart."""
    beyond = beyond_commands(raw)
    return _digest_of(beyond) if beyond is not None else b""


def stable_digest(raw: Mapping[str, Any]) -> bytes:
    """The same without its version and where its source is had."""
    beyond = beyond_version(raw)
    return _digest_of(beyond) if beyond is not None else b""


def beside_options(raw: Mapping[str, Any]) -> bytes:
    """A digest of what a product says beside its options; nothing for what cannot be encoded."""
    return _digest_of({key: value for key, value in raw.items() if key != "options"})


def _digest_of(value: object) -> bytes:
    try:
        return hashlib.sha256(msgspec.msgpack.encode(value)).digest()
    except (TypeError, OverflowError):
        return b""


def has_secrets(step: Step) -> bool:
    """Whether a step holds what must not be written down."""
    return any(getattr(step.action, name) for name in step.action.HIDDEN)
