"""The report of a finished build, and what the user ought to hear of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from yarrik.cache import Traffic
from yarrik.errors import listed
from yarrik.run.kept_plan import Advice
from yarrik.run.publishing import Mark
from yarrik.run.records import Records
from yarrik.run.results import StepRow
from yarrik.run.unchanged import Left
from yarrik.run.warnings import NO_WARNINGS
from yarrik.units import counted

if TYPE_CHECKING:
    from yarrik.boot import StoryLine
    from yarrik.cache import Store
    from yarrik.errors import Trouble, YarrikError
    from yarrik.resolve import Moved
    from yarrik.run.kept_plan import Said
    from yarrik.run.project import Project
    from yarrik.run.results import Logs, StepReport
    from yarrik.run.sandbox import Sandbox
    from yarrik.run.warnings import ToolWarnings


#: Differences from the lock that a build lists; a new recipe may bring dozens of options.
_MOST_MOVED = 8


class BuildReport(msgspec.Struct, frozen=True):
    """A finished build: what became of each step, the files in `out`, and what the user ought to hear.

    `saved` are the seconds that kept results took when they were made, `warnings` what compilers warned of in the steps that
    ran, and `troubles` what did not stop the build, like a shared cache that does not answer."""

    product: str
    out: Path
    steps: tuple[StepReport, ...]
    notes: tuple[str, ...]
    seconds: float
    published: bool
    saved: float = 0.0
    warnings: ToolWarnings = NO_WARNINGS
    troubles: tuple[Trouble, ...] = ()
    traffic: Traffic = msgspec.field(default_factory=Traffic)
    #: Those of the notes that have a code, as facts.
    advice: tuple[Advice, ...] = ()
    #: What the bench board says of the finished disks, stage by stage.
    story: tuple[StoryLine, ...] = ()
    #: All steps in the order of the graph. After a change of sources, `steps` has only those that were looked at.
    rows: tuple[StepRow, ...] = ()
    #: Where the log of each is in `steps.log`, when that was written.
    logs: Logs | None = None
    #: What is in `out/`, with its marks: none where a file was gone again.
    files: Mapping[Path, Mark | None] = msgspec.field(default_factory=dict)

    @property
    def ran(self) -> tuple[StepReport, ...]:
        """Reports of the steps that ran."""
        return tuple(report for report in self.steps if report.how == "ran")

    @property
    def kept(self) -> int:
        """How many steps were kept."""
        return sum(row.how == "kept" for row in self.rows)

    @property
    def errors(self) -> tuple[YarrikError, ...]:
        """What failed, in the order of the graph."""
        return tuple(report.error for report in self.steps if report.error is not None)


def row_of(report: StepReport) -> StepRow:
    """A report as a row; only what ran knows how long it took."""
    seconds = round(report.seconds, 3) if report.how == "ran" else -1.0
    notes = tuple(note.text for note in report.notes)
    return StepRow(report.step.name, report.how, report.reason, seconds, report.fingerprint, dict(report.outputs), notes)


def kept_row(row: StepRow) -> StepRow:
    """The row of the same step in the next build, when nothing has changed."""
    if row.how == "kept" and not row.notes:
        return row
    return StepRow(row.step, "kept", "", row.seconds, row.fingerprint, row.outputs, ())


def notes_of_moved(moved: Sequence[Moved]) -> list[str]:
    """What differs from the lock, in words."""
    notes = [f"not as yarrik.lock had it: {one}" for one in moved[:_MOST_MOVED]]
    if len(moved) > _MOST_MOVED:
        notes.append(f"and {len(moved) - _MOST_MOVED} more; `git diff yarrik.lock` shows all that were resolved anew")
    return notes


def with_moved(said: Said, moved: Sequence[Moved]) -> Said:
    """The same with what differs from the lock, which comes before what is likely not meant."""
    before = len(said.notes) - len(said.advice)
    return replace(said, notes=(*said.notes[:before], *notes_of_moved(moved), *said.notes[before:]))


def notes_of_build(said: Said, reports: Sequence[StepReport], sandbox: Sandbox | None, store: Store) -> tuple[str, ...]:
    """What a user ought to hear of a build, in sentences."""
    known = [(report.step.subject, note) for report in reports for note in report.notes]
    notes = [f"{subject}: {note.text}" for subject, note in known if note.code not in said.silenced]
    if sandbox is not None and sandbox.note and any(report.how == "ran" for report in reports):
        notes.append(sandbox.note)
    notes += said.notes
    hidden = said.hidden + sum(note.code in said.silenced for _, note in known)
    if hidden:
        notes.append(f"{counted(hidden, 'warning')} silenced; yarrik show {said.definition} silence says why")
    if store.damages:
        lost = dict.fromkeys(f"{one.path.parent.parent.name}/{one.path.name[:12]}…" for one in store.damages[:3])
        notes.append(f"the cache was damaged, and what was lost is made again: {listed(lost)}; see `yarrik cache verify`")
    return tuple(notes)


def advice_of_build(said: Said, reports: Sequence[StepReport]) -> tuple[Advice, ...]:
    """What has a code and is not silenced: of steps, and of the definitions."""
    found = [Advice(note.code, report.step.subject, note.text) for report in reports for note in report.notes if note.code]
    return (*(one for one in found if one.code not in said.silenced), *said.advice)


def kept_report(project: Project, report: BuildReport, said: Said) -> BuildReport:
    """The report of the next build, when nothing has changed since this one: all steps are kept."""
    rows = tuple(map(kept_row, report.rows))
    return replace(report, steps=(), rows=rows, notes=notes_of_build(said, (), None, project.store), published=False,
                   saved=Records(project).saved(report.product, (), rows), warnings=NO_WARNINGS, troubles=(),
                   traffic=Traffic(), advice=said.advice)  # fmt: skip


def left_by(project: Project, kept: BuildReport) -> Left:
    """What has to be there after a build."""
    steps = {row.step: (row.fingerprint, row.outputs.values()) for row in kept.rows}
    return Left(kept.files, project.store.root, steps)
