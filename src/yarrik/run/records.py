"""What is known of builds afterwards: logs, the timeline, what failed last, what the tools and the bench board said."""

from __future__ import annotations

import codecs
import fcntl
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, BinaryIO

import msgspec

from yarrik.cache import MissingObject
from yarrik.errors import Place, Trouble, YarrikError
from yarrik.run.step_logs import log_path
from yarrik.run.warnings import warnings_in

if TYPE_CHECKING:
    from yarrik.boot import StoryLine
    from yarrik.run.project import Project
    from yarrik.run.results import StepReport, StepRow
    from yarrik.run.warnings import ToolWarnings


class Span(msgspec.Struct, frozen=True):
    """When a step ran: seconds since the build began, seconds that it took, and what it needs."""

    step: str
    began: float
    seconds: float
    failed: bool
    needs: tuple[str, ...]

    @property
    def ended(self) -> float:
        """Seconds from the build's beginning to the step's end."""
        return self.began + self.seconds


class Records(msgspec.Struct):
    """The records of a project's builds."""

    project: Project

    def keep_failure(self, product: str, step: str) -> None:
        """Remembers which step of a product failed last, for `yarrik log`."""
        self.project.memory.learn(f"last failure {product}", step.encode())

    def last_failure(self, product: str) -> str:
        """The step that failed last. Raises YarrikError when none has."""
        known = self.project.memory.fact(f"last failure {product}")
        if known is None:
            raise YarrikError(Trouble("LOG-MISSING", f"no step of `{product}` has failed here",
                                      remedy="name a step: yarrik log RECIPE"))  # fmt: skip
        return known.decode()

    def keep_timeline(self, product: str, reports: Sequence[StepReport]) -> None:
        """Keeps who ran when, if anything ran."""
        spans = [Span(report.step.name, report.began, report.seconds, report.how == "failed", report.step.needs)
                 for report in reports if report.how in ("ran", "failed")]  # fmt: skip
        if spans:
            spans.sort(key=lambda span: (span.began, span.step))
            self.project.memory.learn(f"timeline {product}", msgspec.json.encode(spans))

    def timeline(self, product: str) -> list[Span]:
        """The steps of the last build in which any ran, in the order in which they began. Raises YarrikError."""
        known = self.project.memory.fact(f"timeline {product}")
        if known is None:
            text, remedy = f"nothing of `{product}` was built here", f"yarrik build {product}"
            if self.project.memory.last_runs(product):
                text = f"no step of `{product}` ran here: the cache had all of them"
                remedy = f"yarrik build {product} --clean-room, which runs all of them"
            raise YarrikError(Trouble("TIMELINE-MISSING", text, Place(self.project.folder), remedy=remedy))
        return msgspec.json.decode(known, type=list[Span])

    def log_of(self, product: str, step: str) -> str | None:
        """The log of a step's last run in this workspace, or of the run whose result was taken from the cache."""
        file = log_path(self.project.folder, product, step)
        last = self.project.memory.last_runs(product).get(step)
        result = self.project.store.result(last.fingerprint) if last is not None else None
        try:
            if file.is_file():
                return file.read_text(encoding="utf-8", errors="replace")
            if result is not None and result.log:
                return self.project.store.get_bytes(result.log).decode("utf-8", "replace")
        except (OSError, MissingObject):
            pass
        return None

    def follow(self, product: str, step: str, wait: float = 0.2) -> Iterator[str]:
        """A step's log as it grows, until the step has ended; one that has not begun is waited for."""
        file = log_path(self.project.folder, product, step)
        while not file.is_file():
            time.sleep(wait)
        decoder = codecs.getincrementaldecoder("utf-8")("replace")
        with file.open("rb") as log:
            while True:
                ended = _unlocked(log)  # asked first: what comes after the last look is read all the same
                while data := log.read(1 << 16):
                    yield decoder.decode(data)
                if ended:
                    return
                time.sleep(wait)

    def tools_said(self, product: str, reports: Sequence[StepReport]) -> ToolWarnings:
        """What the tools of the steps that ran warned of."""
        texts = [(report.step.subject, log_path(self.project.folder, product, report.step.name))
                 for report in reports if report.how == "ran"]  # fmt: skip
        return warnings_in(texts)

    def saved(self, product: str, reports: Sequence[StepReport], rows: Sequence[StepRow]) -> float:
        """The seconds that it would have taken to run what was kept, as far as this workspace knows."""
        known = [row.seconds for row in rows if row.how == "kept"]
        if known and min(known) < 0:  # else each row has its time, and nobody has to look it up
            costs = self.project.memory.costs(product)
            known = [row.seconds if row.seconds >= 0 else costs[row.step].seconds for row in rows
                     if row.how == "kept" and (row.seconds >= 0 or row.step in costs)]  # fmt: skip
        return sum(known) + sum(report.seconds for report in reports if report.how == "shared")

    def story(self, outputs: Iterable[Mapping[str, str]]) -> tuple[StoryLine, ...]:
        """The bench board's story, when the disks of a build with these outputs were tried."""
        from yarrik.boot import StoryLine

        digest = next((one["story"] for one in outputs if "story" in one), None)
        if digest is None:
            return ()
        try:
            return msgspec.json.decode(self.project.store.get_bytes(digest), type=tuple[StoryLine, ...])
        except (MissingObject, msgspec.DecodeError):
            return ()


def _unlocked(file: BinaryIO) -> bool:
    """Whether nobody writes this log any more."""
    try:
        fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except OSError:
        return False
    fcntl.flock(file, fcntl.LOCK_UN)
    return True
