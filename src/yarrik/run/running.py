"""Runs a graph in a project: with its sandbox, its settings and its caches."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

import msgspec

from yarrik.cache import in_use
from yarrik.run.events import Sending
from yarrik.run.execute import Execution
from yarrik.run.sandbox import Sandbox
from yarrik.run.worker import Settings

if TYPE_CHECKING:
    from yarrik.plan import Difference, Graph
    from yarrik.run.events import Listener
    from yarrik.run.host_view import View
    from yarrik.run.project import Project
    from yarrik.run.results import StepReport
    from yarrik.run.sandbox import Sees
    from yarrik.toolchain import Toolchain


class Running(msgspec.Struct, frozen=True):
    """How a graph is run: its compilers, what steps see of this machine, which paths differ between two trees, and what is done
    before the first step runs. `run_nothing` takes only results that exist. `kept` are the outputs of steps that the graph
    needs and has not, `private` the names of those whose results go nowhere else, if they are known."""

    toolchains: Mapping[str, Toolchain]
    look: Callable[[Sees], View]
    difference: Difference
    before_first: Callable[[], None] = lambda: None
    jobs: int | None = None
    keep_going: bool = False
    run_nothing: bool = False
    kept: Mapping[str, Mapping[str, str]] = msgspec.field(default_factory=dict)
    private: set[str] | None = None


def run_graph(project: Project, graph: Graph, how: Running, listener: Listener) -> tuple[list[StepReport], Sandbox]:
    """Runs the steps of a graph, and reports what became of each. Raises YarrikError for what stops it before any."""
    programs = tuple(sorted({program for toolchain in how.toolchains.values() for program in toolchain.programs[:1]}))
    sandbox = Sandbox(programs, how.look, allowed=project.choices.use_sandbox)

    def before_first() -> None:
        how.before_first()
        project.prepare_folder()
        project.refuse_links_to(graph.product)

    settings = Settings(
        how.jobs or project.settings.jobs or os.cpu_count() or 1,
        how.keep_going,
        project.choices.offline,
        how.run_nothing,
        run_all=project.choices.clean_room,
        redirect_hosts=tuple(project.settings.redirect_hosts),
        archives=lambda: project.debian_archives.archives,
    )
    execution = Execution(
        graph,
        project.store,
        project.memory,
        sandbox,
        project.folder,
        settings,
        listener,
        before_first,
        how.difference,
        project.shared,
        how.kept,
        how.private,
    )
    with in_use(project.store):
        try:
            reports = execution.run()
        except BaseException:
            if project.shared is not None:
                project.shared.stop()
            raise
        project.store.mark_used(report.fingerprint for report in reports if report.fingerprint)
    return reports, sandbox


def send_rest(project: Project, listener: Listener) -> None:
    """Waits until shared caches have what was built. Ctrl-C leaves the rest for `yarrik cache push`."""
    shared = project.shared
    if shared is None:
        return
    try:
        with in_use(project.store):
            shared.close(lambda left: listener(Sending(left)))
    except KeyboardInterrupt:
        shared.stop()
