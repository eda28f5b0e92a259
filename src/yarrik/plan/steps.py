"""A step: one unit of cached work, and the fingerprint of everything that its result depends on."""

import hashlib
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import msgspec

from yarrik.model import HOST_MARK
from yarrik.plan.actions import PrepareFolder

if TYPE_CHECKING:
    from yarrik.errors import Place
    from yarrik.plan.actions import Action

#: Raised when the form of fingerprints or results changes; what a single action does has a revision of its own.
FORMAT = 1

_encode = msgspec.json.Encoder(order="deterministic").encode


class Bounds(msgspec.Struct, frozen=True):
    """What a step takes, and what it may take at most; no part of its result. `weight` is in jobs, `memory` and `output` (of
    its log) in bytes, `seconds` for all its commands together; 0 is without a bound. `processes` counts those that it has at a
    time, with their threads."""

    weight: int = 1
    memory: int = 0
    seconds: float = 0.0
    output: int = 256 << 20
    processes: int = 4096


UNBOUND = Bounds()


class Step(msgspec.Struct, frozen=True):
    """`name` is unique in its graph, like `build tidelog`.

    `files` gives digests of what comes from outside the graph, by label; `inputs` names outputs of other steps.
    `places` tells where outside things (and the sources behind an input) lie on this machine.
    `predicted` holds outputs that are known beforehand. `choices` are what people decided that the action follows from
    (options, versions), and `marks` tells where in their files a setting or choice stands: both serve messages, not the
    fingerprint. `urls` are where a file can be had: its digest alone counts. What a `private` step leaves goes nowhere else. An
    `open` step runs its commands without a sandbox: what it leaves is another thing, and is not shared.
    """

    kind: str
    subject: str
    action: "Action"
    files: Mapping[str, str] = msgspec.field(default_factory=dict)
    inputs: Mapping[str, tuple[str, str]] = msgspec.field(default_factory=dict)
    places: Mapping[str, Path] = msgspec.field(default_factory=dict)
    predicted: Mapping[str, str] = msgspec.field(default_factory=dict)
    marks: "Mapping[str, Place]" = msgspec.field(default_factory=dict)
    choices: Mapping[str, str] = msgspec.field(default_factory=dict)
    urls: tuple[str, ...] = ()
    bounds: Bounds = UNBOUND
    private: bool = False
    open: bool = False

    @property
    def name(self) -> str:
        """Kind and subject, unique in a graph: `build libtide`."""
        return f"{self.kind} {self.subject}"

    @property
    def recipe(self) -> str:
        """The recipe that it belongs to, where it is a recipe's."""
        return self.subject.removesuffix(HOST_MARK)

    @property
    def side(self) -> Literal["board", "host"]:
        """What it is for: the board, or the build host."""
        return "host" if self.subject.endswith(HOST_MARK) else "board"

    @property
    def needs(self) -> tuple[str, ...]:
        """Names of the steps whose outputs go in, each once."""
        return tuple(dict.fromkeys(step for step, _ in self.inputs.values()))


def folder_step(subject: str, folder: Path, digest: str, suffixes: tuple[str, ...] = ()) -> Step:
    """The step that takes a folder of this machine in; its tree has this digest. Files with one of `suffixes` count, or all."""
    return Step(
        "prepare", subject, PrepareFolder(suffixes=suffixes), files={"source": digest}, places={"source": folder},
        predicted={"tree": digest},
    )  # fmt: skip


def fingerprint_of(step: Step, inputs: Mapping[str, str]) -> str:
    """The digest of the step's action, files and the digests of its inputs (by label)."""
    sha = hashlib.sha256(b"yarrik step %d %s\n" % (FORMAT, step.kind.encode()))
    if step.action.REVISION:
        sha.update(b"revision %d\n" % step.action.REVISION)
    if step.open:
        sha.update(b"open\n")
    for part in (step.action, dict(step.files), dict(inputs)):
        sha.update(_encode(part))
        sha.update(b"\n")
    return sha.hexdigest()


def parts_of(step: Step, inputs: Mapping[str, str]) -> dict[str, str]:
    """All that goes into the fingerprint as names and short texts, for telling later what has changed."""
    parts: dict[str, str] = {}
    hidden = step.action.HIDDEN
    for key, value in msgspec.to_builtins(step.action).items():
        if isinstance(value, dict):
            for inner, item in value.items():
                text = _text(item)
                parts[f"setting {key}.{inner}"] = hashlib.sha256(text.encode()).hexdigest() if key in hidden else text
        elif key != "does":
            parts[f"setting {key}"] = _text(value)
    if step.action.REVISION:
        parts["setting revision of this step"] = str(step.action.REVISION)
    if step.open:
        parts["setting sandbox"] = "none"
    parts.update({f"choice {label}": value for label, value in step.choices.items()})
    parts.update({f"file {label}": digest for label, digest in step.files.items()})
    parts.update({f"input {label}": digest for label, digest in inputs.items()})
    return parts


def _text(value: object) -> str:
    return value if isinstance(value, str) else _encode(value).decode()
