"""A product's own steps, made again after settings have changed from which nothing else follows: nothing is resolved, no recipe
is read, and the steps of recipes are those that were planned."""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

import msgspec
from msgspec.structs import replace

from yarrik.devicetree import blob_name
from yarrik.errors import Collector
from yarrik.model import Composition, Document, Overrides, Shelved, compose, lacks, open_workspace
from yarrik.plan import (
    Describe,
    Graph,
    OwnSteps,
    ProductSteps,
    Provenance,
    Step,
    beyond_own_steps,
    root_choices,
    waits_for_answers,
)
from yarrik.resolve import Settled, board_outputs, outputs_beside
from yarrik.run.bootable import Bootable
from yarrik.run.kept_plan import (
    Advice,
    Before,
    Finished,
    Kept,
    KeptPlan,
    KeptSource,
    KeptState,
    Otherwise,
    beside_options,
    decoded,
    encoded,
    kept_steps,
    meaning_of,
    said_of,
)
from yarrik.run.near_host import NearHost
from yarrik.run.results import StepRow, private_steps
from yarrik.run.sandbox import marked_open
from yarrik.run.unchanged import watched

if TYPE_CHECKING:
    from yarrik.cache import Tree
    from yarrik.errors import Trouble
    from yarrik.plan import NearSurroundings
    from yarrik.run.planning import Planned
    from yarrik.run.project import Project
    from yarrik.run.unchanged import Question, Watch
    from yarrik.toolchain import Toolchain


class KeptOwn(msgspec.Struct, frozen=True):
    """What a product's own steps follow from beside settings that may change: the accounts of each root filesystem (of the
    usual one by no name), what is likely not meant beside what the definitions say, and digests of the rest of each definition
    by its file."""

    own: OwnSteps
    #: Whether a definition has errors, which is told.
    broken: bool
    settled: dict[str, Settled]
    warnings: tuple[Advice, ...]
    definitions: dict[str, bytes]


def kept_own(planned: Planned, settled: Mapping[str, Settled], used: Collection[tuple[str, str]]) -> KeptOwn | None:
    """Of a product that is put together of the definitions that are `used`; None where more than its own steps may follow from
    any setting."""
    composition, own = planned.composition, planned.graph.own
    workspace, boot = composition.workspace, composition.board.value.boot
    shelved = {key: workspace.shelved[key[0]][key[1]] for key in used}
    said = [*(one.document.raw for one in shelved.values()), *(one.raw for one in composition.changes)]
    said += [one.document.raw for one in workspace.amendments if one.value.target in shelved]
    compiled_in = boot.command_line_in in ("kernel", "bootloader")
    if own is None or compiled_in or any(map(waits_for_answers, said)):
        return None
    own_warnings = set(composition.warnings)
    warnings = advice_of(composition, [one for one in planned.warnings if one not in own_warnings])
    return KeptOwn(
        own,
        bool(workspace.broken),
        dict(settled),
        warnings,
        {one.path: rest_of(kind, one.document) for (kind, _), one in shelved.items()},
    )


def rest_of(kind: str, document: Document) -> bytes:
    """A digest of what a definition says beside settings from which nothing follows but the product's own steps."""
    return meaning_of(beyond_own_steps(kind, document.raw))


def advice_of(composition: Composition, warnings: Sequence[Trouble]) -> tuple[Advice, ...]:
    """Warnings of a product's definitions as they are kept."""
    return tuple(Advice(one.code, composition.name, one.what, one.place) for one in warnings)


def finished_by(composition: Composition, graph: Graph, toolchains: Mapping[str, Toolchain]) -> Finished:
    """What the product leaves in `out/`."""
    board, environment = composition.board.value, composition.board.value.boot.environment
    return Finished(
        composition.name,
        graph.disks,
        environment.name if environment is not None else "",
        blob_name(board.kernel.device_tree) if board.kernel.device_tree else "",
        dict(graph.beside),
        {side: toolchain.shown for side, toolchain in sorted(toolchains.items())},
    )


class MadeAgain(NamedTuple):
    """A plan, its state and its file of steps with the product's own steps made again; these by their numbers; the trees of
    sources that they take; what was looked at for that; and outputs of steps that there are no more."""

    plan: KeptPlan
    state: KeptState
    file: bytes
    steps: dict[int, Step]
    trees: dict[str, Tree]
    watch: Watch
    gone: set[str]


class OwnAgain(msgspec.Struct):
    """Makes the own steps of a product again, whose `files` say something else than when it was planned."""

    project: Project
    question: Question
    kept: Kept
    files: Collection[str]

    def run(self) -> MadeAgain:
        """Raises Otherwise and NotRead where more than these steps follows from what has changed, YarrikError for what planning
        reports, UnicodeEncodeError and msgspec.DecodeError."""
        plan, question = self.kept.plan, self.question
        known = decoded(plan.own_steps, KeptOwn) if plan.own_steps else None
        if known is None:
            raise Otherwise
        with watched() as watch:
            overrides = Overrides.of(question.variants, os.environ, question.settings)
            # Recipes are as they were: nothing but their errors matters, if there are any.
            unread = () if known.broken else ("recipe",)
            composition = compose(open_workspace(self.project.root, unread=unread), question.product, overrides)
            shelved = self._changed(composition, known)
            toolchains = dict(self.kept.plan.toolchains)
            surroundings = _KnownSurroundings(self.project, composition, toolchains, before=self._provenance())
            graph = self._graph(composition, known, surroundings)
        return self._merged(composition, known, graph, shelved, surroundings.trees, watch)

    def _changed(self, composition: Composition, known: KeptOwn) -> dict[str, Shelved]:
        """The definitions that say something else, by their files: only settings of the product's own steps may."""
        found = {}
        for kind, names in composition.workspace.shelved.items():
            if kind == "recipe":
                continue
            for one in names.values():
                if one.path in self.files and rest_of(kind, one.document) == known.definitions.get(one.path):
                    found[one.path] = one
        if found.keys() != set(self.files) or composition.name != self.kept.plan.finished.product:
            raise Otherwise
        return found

    def _graph(self, composition: Composition, known: KeptOwn, surroundings: NearSurroundings) -> Graph:
        """The product's own steps."""
        given = known.own.given
        if {text for text, _ in board_outputs(composition.board)} != given.outputs.keys():
            raise Otherwise
        others = {step.name for step in self.kept.plan.steps[: known.own.first]}
        found: dict[str, Step] = {}

        def add(step: Step) -> Step:
            if step.name in others:
                raise Otherwise
            return found.setdefault(step.name, step)

        collector = Collector()
        ProductSteps(
            composition, surroundings, add, collector, given, lambda text, place: given.outputs[text], lambda recipe: ()
        ).add(*root_choices(composition, known.settled, known.own.wanted), given.split)
        collector.raise_if_any()
        steps = marked_open(tuple(found.values()), self.project.choices.use_sandbox)
        return Graph(composition.name, steps, beside=outputs_beside(composition.board.value, given.outputs))

    def _describes(self, first: int) -> int:
        """The number of the step that writes the manifests."""
        name = f"describe {self.kept.plan.finished.product}"
        return next(number for number, step in enumerate(self.kept.plan.steps) if number >= first and step.name == name)

    def _provenance(self) -> tuple[Provenance, ...]:
        """Where shelves and sources come from, which no setting of the product changes."""
        action = self.kept.step(self._describes(0)).action
        if not isinstance(action, Describe):
            raise Otherwise
        return action.provenance

    def _merged(
        self,
        composition: Composition,
        known: KeptOwn,
        graph: Graph,
        shelved: Mapping[str, Shelved],
        trees: dict[str, Tree],
        watch: Watch,
    ) -> MadeAgain:
        plan, state, first = self.kept.plan, self.kept.state, known.own.first
        others, rows = plan.steps[:first], {row.step: row for row in state.rows[first:]}
        sources = [(source, digest) for source, digest in zip(plan.sources, state.digests, strict=True)]
        of_others = [one for one in sources if one[0].takers[0][0] < first]
        if any(number >= first for source, _ in of_others for number, _ in source.takers):
            raise Otherwise  # what takes a source of both is known when both are planned
        apart = {(source.path, source.suffixes) for source, _ in sources} - {_key(source) for source, _ in of_others}
        before = Before({step.name: number for number, step in enumerate(others)}, self.kept.first(first),
                        all(step.part is not None for step in others), apart)  # fmt: skip
        private = private_steps(graph, before=[step.name for step in others if step.private])
        steps, file, own_sources, digests = kept_steps(graph.steps, private, watch.sources, before)
        taken = {os.fspath(place) for step in graph.steps for place in step.places.values()}
        if not taken.isdisjoint(source.path for source, _ in of_others):
            raise Otherwise
        old, new = self._describes(first), next(at for at, one in enumerate(graph.steps, first) if one.kind == "describe")
        recipes = plan.recipes
        if new != old:
            recipes = {path: replace(one, others=[new if number == old else number for number in one.others])
                       for path, one in recipes.items()}  # fmt: skip
        notes = plan.said.notes[: len(plan.said.notes) - len(plan.said.advice)]
        warnings = dict.fromkeys([*advice_of(composition, composition.warnings), *known.warnings])
        lacking = lacks(composition.board.value)
        if not set(lacking) <= set(plan.lacking):
            raise Otherwise  # other products may have it
        own = plan.own
        if own is not None and own.file in shelved:
            own = replace(own, digest=beside_options(shelved[own.file].document.raw))
        made = replace(
            plan,
            steps=[*others, *steps],
            sources=[*(source for source, _ in of_others), *own_sources],
            finished=finished_by(composition, graph, plan.toolchains),
            said=said_of(notes, list(warnings), plan.said.silenced, plan.said.definition),
            recipes=recipes,
            lacking=lacking,
            own=own,
            meanings=plan.meanings | {path: meaning_of(one.document.raw) for path, one in shelved.items()
                                      if path in plan.meanings},
            bootable=encoded(Bootable.of(composition)),
        )  # fmt: skip
        now = self._state(graph, first, [*(digest for _, digest in of_others), *digests])
        there = {step.name for step in graph.steps}
        gone = {digest for name, row in rows.items() if name not in there for digest in row.outputs.values()}
        return MadeAgain(made, now, file, dict(enumerate(graph.steps, first)), trees, watch, gone)

    def _state(self, graph: Graph, first: int, digests: list[str]) -> KeptState:
        """The state with own steps of which those that were there before are as they were."""
        state = self.kept.state
        rows = {row.step: row for row in state.rows[first:]}
        logs = dict(zip(rows, state.logs[first:], strict=False))
        return KeptState(
            [*state.rows[:first], *(rows.get(step.name, _never(step)) for step in graph.steps)],
            digests,
            [*state.logs[:first], *(logs.get(step.name) for step in graph.steps)] if state.logs else [],
            {number: step for number, step in state.steps.items() if number < first},
            state.options,
        )


def _key(source: KeptSource) -> tuple[str, tuple[str, ...] | None]:
    return source.path, source.suffixes


def _never(step: Step) -> StepRow:
    """The row of a step that has not run yet."""
    return StepRow(step.name, "not reached", "", -1.0, "", {}, ())


class _KnownSurroundings(NearHost):
    """Surroundings of a product of which the compilers, and where its sources come from, are known."""

    before: tuple[Provenance, ...] = ()

    def provenance(self) -> tuple[Provenance, ...]:
        return self.before
