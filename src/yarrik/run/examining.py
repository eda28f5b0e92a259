"""What could stop a build later, looked at now: this machine, the workspace, its shelves, one product. Nothing is built."""

from __future__ import annotations

import platform
import shutil
from collections.abc import Sequence
from typing import Literal

import msgspec

from yarrik.errors import Place, Trouble, YarrikError, listed
from yarrik.model import Composition, Overrides
from yarrik.plan import Assessment
from yarrik.run.bootable import Bootable
from yarrik.run.emulation import missing_emulator
from yarrik.run.planning import Planned
from yarrik.run.sandbox import Sandbox
from yarrik.run.session import Session
from yarrik.run.terms import not_accepted, terms_of
from yarrik.units import counted, shown_size

Verdict = Literal["ok", "advice", "stop"]
#: Characters that make and the shell take for something else in a path.
_UNFIT = frozenset(" \t\n\"'$#:;&|<>()*?[]\\%=~`!{}")


class Row(msgspec.Struct, frozen=True):
    """One thing that was looked at; `next_` is what to type or do about it."""

    verdict: Verdict
    topic: str
    text: str
    next_: str = ""


class Examination(msgspec.Struct):
    """All that was found: a row for each thing, what would stop a build, and what is only likely wrong."""

    rows: list[Row] = msgspec.field(default_factory=list)
    stops: list[Trouble] = msgspec.field(default_factory=list)
    warnings: list[Trouble] = msgspec.field(default_factory=list)
    #: The product, as far as it could be looked at.
    composition: Composition | None = None
    planned: Planned | None = None
    fault: Literal["request", "work"] = "request"

    def ok(self, topic: str, text: str) -> None:
        """Something that is as it should be."""
        self.rows.append(Row("ok", topic, text))

    def stop(self, topic: str, error: YarrikError) -> None:
        """Errors, in one row; each of them is told by itself too."""
        new = [trouble for trouble in error.troubles if trouble not in self.stops]
        if not new:
            return
        self.stops += new
        self.fault = error.fault
        self.rows.append(Row("stop", topic, _in_short(new), new[0].remedy.partition("\n")[0]))

    def advise(self, topic: str, warnings: Sequence[Trouble]) -> None:
        """Warnings of one topic, in one row."""
        new = [trouble for trouble in warnings if trouble not in self.warnings]
        if new:
            self.warnings += new
            self.rows.append(Row("advice", topic, _in_short(new), new[0].remedy.partition("\n")[0]))


def _in_short(troubles: Sequence[Trouble]) -> str:
    if len(troubles) == 1:
        return f"{troubles[0].code}: {troubles[0].what.partition(chr(10))[0]}"
    codes = list(dict.fromkeys(trouble.code for trouble in troubles))
    return f"{len(troubles)} of {listed(codes[:4])}" + (" …" if len(codes) > 4 else "")


def examine_machine(session: Session, found: Examination) -> None:
    """This machine: Python, the sandbox, free space, the workspace's path."""
    found.ok("host", f"Python {platform.python_version()} on {platform.machine()}")
    sandbox = Sandbox()
    if sandbox.bubblewrap is not None:
        found.ok("sandbox", "steps run shut off from this machine")
    else:
        fix = "apt-get install bubblewrap" if shutil.which("bwrap") is None else "see the note of the next build"
        found.rows.append(Row("advice", "sandbox", "steps run as plain processes that can see this machine", fix))
        unfit = sorted(_UNFIT & set(str(session.project.root)))
        if unfit:
            found.advise("path", [Trouble(
                "PATH-UNFIT", f"the workspace's path has {listed(map(repr, unfit))} in it", Place(session.project.root),
                why="make and shells take that for something else; in a sandbox the path would be /step",
                remedy="move the workspace, or install bubblewrap")])  # fmt: skip


def examine_workspace(session: Session, found: Examination) -> bool:
    """The workspace's definitions and shelves. False when nothing can be looked at beyond."""
    project = session.project
    try:
        workspace = project.workspace
    except YarrikError as error:
        found.stop("definitions", error)
        return False
    number = sum(len(kind) for kind in workspace.shelved.values())
    found.ok("definitions", f"{number} on {counted(len(workspace.shelves), 'shelf', 'shelves')}")
    try:
        states = project.shelf_states
    except YarrikError as error:
        found.stop("shelves", error)
        return False
    astray = [one for one in states if one.locked and not one.as_locked]
    for one in astray:
        name = one.choice.name
        if one.state is not None and one.state.changed:
            text, fix = f"{name} has changes that are not committed", "commit and push them, then: yarrik shelf pin"
        else:
            text, fix = f"{name} is at another commit than the lock", f"yarrik shelf sync {name}"
        found.rows.append(Row("advice", "shelves", text, fix))
    if states and not astray:
        found.ok("shelves", f"{len(states)} from git, as locked")
    free = shutil.disk_usage(project.root).free
    found.ok("space", f"{shown_size(free)} free")
    return True


def examine_product(
    session: Session, product: str | None, overrides: Overrides, boot: bool = False, online: bool = False
) -> Examination:
    """Looks at all that a build of the product needs; with `boot` at the emulator too, with `online` whether sources that are
    not here can be reached."""
    found = Examination()
    examine_machine(session, found)
    if not examine_workspace(session, found):
        return found
    try:
        found.composition = composition = session.planner.compose(product, overrides)
        found.planned = planned = session.planner.planned(composition)
    except YarrikError as error:
        found.stop("product", error)
        return found
    found.ok("product", f"board {composition.board.name}, profile {composition.profile.name}, image {composition.image.name}")
    _lock(session, found, planned)
    for side, toolchain in sorted(planned.surroundings.toolchains.items()):
        found.ok(f"{side} compiler", toolchain.shown)
    try:
        session.planner.check_programs(planned)
        found.ok("programs", f"all {len(planned.graph.programs)} are here")
    except YarrikError as error:
        found.stop("programs", error)
    _terms(session, found, planned)
    plan = session.planner.assess(planned)
    _sources(session, found, plan, online)
    try:
        warnings = session.planner.warnings(planned)
        silenced = session.planner.told(planned, warnings)
        found.advise("warnings", silenced)
        if len(silenced) < len(warnings):
            number = counted(len(warnings) - len(silenced), "warning")
            found.ok("silenced", f"{number}; yarrik show {composition.product.name} silence")
        if not silenced:
            found.ok("image", "nothing speaks against it before it is built")
    except YarrikError as error:
        found.stop("image", error)
    if boot:
        trouble = missing_emulator(Bootable.of(composition))
        if trouble is not None:
            found.stop("emulator", YarrikError(trouble))
        elif composition.board.value.emulator is not None:
            found.ok("emulator", composition.board.value.emulator.program)
    return found


def _lock(session: Session, found: Examination, planned: Planned) -> None:
    if planned.moved:
        text = "; ".join(str(one) for one in planned.moved[:2]) + (" …" if len(planned.moved) > 2 else "")
        fix = f"yarrik resolve {planned.composition.product.name}, and commit yarrik.lock"
        found.rows.append(Row("advice", "lock", f"{counted(len(planned.moved), 'difference')}: {text}", fix))
    elif session.project.lock.file.is_file():
        found.ok("lock", "yarrik.lock is what the product resolves to")
    else:
        found.ok("lock", "none yet; the first build writes it")


def _terms(session: Session, found: Examination, planned: Planned) -> None:
    try:
        open_ = not_accepted(planned.composition, session.project.settings)
        known = terms_of(planned.composition)
    except YarrikError as error:
        found.stop("terms", error)
        return
    if open_:
        found.stop("terms", YarrikError(open_))
    elif known:
        found.ok("terms", f"{counted(len(known), 'text')} accepted: {listed([one.name for one in known])}")


def _sources(session: Session, found: Examination, plan: Sequence[Assessment], online: bool) -> None:
    from yarrik.sources import reachable, with_addresses

    far = [one for one in plan if one.step.kind == "fetch" and one.step.urls]
    missing = [one for one in far if one.verdict != "kept"]
    if not missing:
        found.ok("sources", f"all {len(far)} downloads are in the cache" if far else "all are on this machine")
        return
    number = f"{len(missing)} of {len(far)} downloads are not here yet"
    if not online:
        found.rows.append(Row("ok", "sources", number, "yarrik fetch; or: yarrik check --online"))
        return
    hosts = session.project.settings.redirect_hosts
    archives = session.project.debian_archives
    answers = {one.step.subject: reachable(with_addresses(one.step.urls, lambda: archives.archives), hosts) for one in missing}
    lost = {subject: said for subject, said in answers.items() if said}
    if not lost:
        found.ok("sources", f"{number}, and can be reached")
        return
    found.stop("sources", YarrikError([
        Trouble("SOURCE-UNREACHABLE", f"the sources of `{subject}` cannot be reached", why=said,
                remedy="check the address and the network, or add `mirrors`")
        for subject, said in sorted(lost.items())
    ], "work"))  # fmt: skip
