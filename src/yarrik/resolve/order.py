"""The order in which recipes are built: build needs for the board, tools for the build host, no loops."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING

import msgspec

from yarrik.errors import Trouble, YarrikError

if TYPE_CHECKING:
    from yarrik.resolve.answer import Answer
    from yarrik.resolve.facts import Node


class Order(msgspec.Struct, frozen=True, dict=True):
    """Nodes, each after all that it needs; `needs`, `tools` and `outputs` name the direct ones."""

    nodes: tuple[Node, ...]
    needs: dict[Node, tuple[Node, ...]]
    tools: dict[Node, tuple[Node, ...]]
    outputs: dict[Node, tuple[Node, ...]]

    @cached_property
    def needed(self) -> frozenset[Node]:
        """Those that another is built with."""
        return frozenset(node for each in (*self.needs.values(), *self.tools.values()) for node in each)


#: Build systems whose results are not linked with a C library, or bring one themselves.
_NOT_LINKED = frozenset(
    ["kernel", "kernel-module", "bootloader", "toolchain", "toolchain-runtime", "files", "prebuilt", "python", "go"]
)


def build_order(answer: Answer) -> Order:
    """Orders the recipes of an answer: what is needed to build another comes before it. Run-time needs order nothing.

    Raises YarrikError for a loop, which it shows."""
    needs = {node: tuple(answer.build_needs(node)) for node in answer.versions}
    library = answer.c_library
    if library is not None:
        own = {library}  # what it is built with cannot be linked with it
        while more := {needed for node in own for needed in needs[node]} - own:
            own |= more
        for node, needed in needs.items():
            compiled = answer.recipe(node).value.build.using not in _NOT_LINKED
            if node.side == "board" and node not in own and library not in needed and compiled:
                needs[node] = (*needed, library)
    tools = {node: tuple(answer.build_tools(node)) for node in answer.versions}
    outputs = {node: tuple(answer.build_outputs(node)) for node in answer.versions}
    return Order(tuple(_sorted(answer, needs, tools, outputs)), needs, tools, outputs)


def _sorted(
    answer: Answer,
    needs: dict[Node, tuple[Node, ...]],
    tools: dict[Node, tuple[Node, ...]],
    outputs: dict[Node, tuple[Node, ...]],
) -> list[Node]:
    """Depth first, by name, without recursion: chains may be longer than Python's stack."""
    done: dict[Node, None] = {}
    for start in sorted(needs):
        trail: list[tuple[Node, list[Node]]] = []
        on_trail: set[Node] = set()

        def enter(node: Node, trail: list[tuple[Node, list[Node]]] = trail, on_trail: set[Node] = on_trail) -> None:
            trail.append((node, sorted({*needs[node], *tools[node], *outputs[node]}, reverse=True)))
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
                raise _loop(answer, [step for step, _ in trail], following, needs, outputs)
            if following not in done:
                enter(following)
    return list(done)


def _loop(
    answer: Answer,
    trail: list[Node],
    back_to: Node,
    needs: dict[Node, tuple[Node, ...]],
    outputs: dict[Node, tuple[Node, ...]],
) -> YarrikError:
    loop = trail[trail.index(back_to) :]
    turned = loop.index(min(loop))
    loop = loop[turned:] + loop[:turned]  # begin with the first by name, so that the same loop reads the same
    last, first = loop[-1], loop[0]
    key = "needs" if first in needs[last] else "takes" if first in outputs[last] else "tools"
    return YarrikError(
        Trouble(
            "NEEDS-LOOP",
            "recipes need each other in a loop: " + " → ".join(str(node) for node in [*loop, first]),
            answer.recipe(last).place("build", key),
            why="none of them can be built first",
            remedy="take one of these needs out, or split the recipe that two sides want",
        )
    )
