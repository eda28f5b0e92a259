"""A shell as a step sees it: its inputs, environment and sandbox, with its commands at hand as a script."""

from __future__ import annotations

import shlex
from pathlib import Path

import msgspec
from msgspec.structs import replace

from yarrik.beneath import Folder, remove_folder
from yarrik.errors import Trouble, YarrikError, suggestion
from yarrik.model import Composition
from yarrik.plan import Graph, RunCommands, Step
from yarrik.run.events import Listener, silent
from yarrik.run.perform import lay_out_inputs, read_only_folders, sees_of
from yarrik.run.sandbox import Sandbox
from yarrik.run.session import Session
from yarrik.run.step_logs import log_path


class Entered(msgspec.Struct, frozen=True):
    """A step's folder, laid out. `again` tells that it is the one of the last time, with whatever was changed in it."""

    step: Step
    action: RunCommands
    work: Path
    sandbox: Sandbox
    again: bool

    @property
    def inside(self) -> str:
        """The folder in which the shell starts, as it sees it."""
        return self.sandbox.inside(self.work)

    def shell(self, command: str | None = None) -> int:
        """Runs a command, or a shell at this terminal; returns its exit code."""
        words = ("sh", "-c", command) if command is not None else ("sh", "-i")
        environment = {**self.action.environment, "PS1": f"{self.step.name} $ "}
        return self.sandbox.at_terminal(words, self.work, environment, read_only_folders(self.action.writable),
                                        sees_of(self.action))  # fmt: skip


def enter(session: Session, composition: Composition, name: str, fresh: bool = False, listener: Listener = silent) -> Entered:
    """Runs all that the step needs, and lays its folder out. Raises YarrikError."""
    planned = session.planner.planned(composition)
    graph = planned.graph
    steps = {step.name: step for step in graph.steps}
    if name not in steps:
        raise YarrikError(Trouble("STEP-UNKNOWN", f"`{composition.name}` has no step `{name}`", remedy=suggestion(name, steps)))
    step = steps[name]
    if not isinstance(step.action, RunCommands):
        able = [one.name for one in graph.steps if isinstance(one.action, RunCommands)]
        raise YarrikError(
            Trouble("STEP-NO-COMMANDS", f"the step `{name}` runs no commands that could be typed",
                    why="it is Yarrik's own work", remedy=suggestion(f"build {step.subject}", able))
        )  # fmt: skip
    before = Graph(graph.product, graph.up_to(name).steps[:-1], graph.nodes, graph.programs)
    outputs, sandbox = session.builder.run_steps(replace(planned, graph=before), listener)
    work = session.project.folder / "enter" / log_path(session.project.folder, composition.name, name).stem
    if work.exists() and fresh:
        remove_folder(work)
    again = work.exists()
    if not again:
        work.mkdir(parents=True)
    # An earlier shell's commands may have left anything there.
    with Folder.at(work) as below:
        if not again:
            inputs = {label: outputs[needed][output] for label, (needed, output) in step.inputs.items()}
            lay_out_inputs(inputs, session.project.store, sandbox, below, step.action.writable)
            for file, text in step.action.files.items():
                below.write(file, text.replace("{step}", sandbox.inside(work)).encode())
        below.write("step", _script(step.action, sandbox.inside(work)).encode(), 0o755)
    return Entered(step, step.action, work, sandbox, again)


def _script(action: RunCommands, inside: str) -> str:
    """The step's commands, to be run whole or line by line."""

    def filled(text: str) -> str:
        return text.replace("{step}", inside).replace("{jobs}", "1")

    lines = ["#!/bin/sh -e", f"cd {shlex.quote(filled(action.folder))}"]
    lines += [shlex.join(filled(word) for word in command) for command in action.commands]
    return "\n".join(lines) + "\n"
