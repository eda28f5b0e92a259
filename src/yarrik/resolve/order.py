"""The order in which recipes are built: build needs for the board, tools for the build host, no loops.

Versions and options will narrow which recipe answers a requirement; here a name has one answer.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

from yarrik.errors import Collector, Place, Trouble, YarrikError
from yarrik.model import Definition, Recipe, Workspace

Side = Literal["board", "host"]


@dataclass(frozen=True, order=True)
class Node:
    """A recipe built for one side: for the board, or as a tool for the build host."""

    recipe: str
    side: Side

    def __str__(self) -> str:
        return self.recipe if self.side == "board" else f"{self.recipe} (host)"


@dataclass(frozen=True)
class Order:
    """Nodes, each after all that it needs; `needs` and `tools` name the direct ones."""

    nodes: tuple[Node, ...]
    needs: dict[Node, tuple[Node, ...]]
    tools: dict[Node, tuple[Node, ...]]

    def closure(self, node: Node) -> list[Node]:
        """All that `node` needs to be linked with, near and far, in build order."""
        return [self.nodes[rank] for rank in sorted(self._needed[node])]

    @cached_property
    def _needed(self) -> dict[Node, frozenset[int]]:
        """For each node the ranks of all that it needs, near and far."""
        ranks = {node: rank for rank, node in enumerate(self.nodes)}
        found: dict[Node, frozenset[int]] = {}
        for node in self.nodes:
            direct = self.needs[node]
            found[node] = frozenset(ranks[needed] for needed in direct).union(*(found[needed] for needed in direct))
        return found


def build_order(workspace: Workspace, roots: Iterable[tuple[str, Place]]) -> Order:
    """Orders everything that the roots (requirement and where it is written) need, at build or at run time.

    Raises YarrikError for names that nothing carries, and for a loop, which it shows."""
    collector = Collector()
    needs: dict[Node, tuple[Node, ...]] = {}
    tools: dict[Node, tuple[Node, ...]] = {}
    waiting: list[tuple[str, Place, Side]] = [(name, place, "board") for name, place in roots]

    def find(name: str, place: Place) -> Definition[Recipe] | None:
        try:
            return workspace.recipe(name, place)
        except YarrikError as error:
            collector.extend(error.troubles)
            return None

    while waiting:
        name, place, side = waiting.pop()
        recipe = find(name, place)
        if recipe is None or Node(recipe.name, side) in needs:
            continue
        node = Node(recipe.name, side)
        build = recipe.value.build

        def answers(names: Iterable[str], key: str, side: Side, recipe: Definition[Recipe] = recipe) -> tuple[Node, ...]:
            place = recipe.place("build", key)
            found = [other for name in names if (other := find(name, place)) is not None]
            waiting.extend((other.name, place, side) for other in found)
            return tuple(Node(other.name, side) for other in found)

        needs[node] = answers(build.needs, "needs", side)
        tools[node] = answers(build.tools, "tools", "host")
        for package, rule in recipe.value.package.items():
            place = recipe.place("package", package, "needs")
            waiting.extend((name, place, side) for name in rule.needs if find(name, place) is not None)
    collector.raise_if_any()
    return Order(tuple(_sorted(workspace, needs, tools)), needs, tools)


def _sorted(workspace: Workspace, needs: dict[Node, tuple[Node, ...]], tools: dict[Node, tuple[Node, ...]]) -> list[Node]:
    """Depth first, by name, without recursion: chains may be longer than Python's stack."""
    done: dict[Node, None] = {}
    for start in sorted(needs):
        trail: list[tuple[Node, list[Node]]] = []
        on_trail: set[Node] = set()

        def enter(node: Node, trail: list[tuple[Node, list[Node]]] = trail, on_trail: set[Node] = on_trail) -> None:
            trail.append((node, sorted({*needs[node], *tools[node]}, reverse=True)))
            on_trail.add(node)

        if start not in done:
            enter(start)
        while trail:
            node, rest = trail[-1]
            if not rest:
                trail.pop()
                on_trail.discard(node)
                done[node] = None
                continue
            following = rest.pop()
            if following in on_trail:
                raise _loop(workspace, [step for step, _ in trail], following, needs)
            if following not in done:
                enter(following)
    return list(done)


def _loop(workspace: Workspace, trail: list[Node], back_to: Node, needs: dict[Node, tuple[Node, ...]]) -> YarrikError:
    loop = trail[trail.index(back_to) :]
    turned = loop.index(min(loop))
    loop = loop[turned:] + loop[:turned]  # begin with the first by name, so that the same loop reads the same
    last, first = loop[-1], loop[0]
    key = "needs" if first in needs[last] else "tools"
    return YarrikError(
        Trouble(
            "NEEDS-LOOP",
            "recipes need each other in a loop: " + " → ".join(str(node) for node in [*loop, first]),
            workspace.recipes[last.recipe].place("build", key),
            why="none of them can be built first",
            remedy="take one of these needs out, or split the recipe that two sides want",
        )
    )
