"""A product's steps in order."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import msgspec

from yarrik.plan.actions import WriteDisks

if TYPE_CHECKING:
    from yarrik.errors import Place
    from yarrik.plan.product import OwnSteps
    from yarrik.plan.steps import Step
    from yarrik.resolve import Node


class Graph(msgspec.Struct, frozen=True):
    """Steps in an order in which each comes after all it needs; `programs` are what the host has to have, and why. `nodes` are
    the recipes in the order in which they are built; `beside` are outputs of recipes that are published in the product's
    folder: step and output, by path. `own` is None where the product's own steps are not the last ones."""

    product: str
    steps: tuple[Step, ...]
    nodes: tuple[Node, ...] = ()
    programs: Mapping[str, tuple[Place, str]] = msgspec.field(default_factory=dict)
    beside: Mapping[str, tuple[str, str]] = msgspec.field(default_factory=dict)
    own: OwnSteps | None = None

    def up_to(self, name: str) -> Graph:
        """A step with all that it needs, and nothing else."""
        steps = {step.name: step for step in self.steps}
        wanted: dict[str, None] = {}
        waiting = [name]
        while waiting:
            one = waiting.pop()
            if one not in wanted:
                wanted[one] = None
                waiting.extend(steps[one].needs)
        return Graph(self.product, tuple(step for step in self.steps if step.name in wanted), self.nodes, self.programs)

    @property
    def disks(self) -> tuple[str, ...]:
        """Names of the product's disks."""
        write = next(step.action for step in self.steps if isinstance(step.action, WriteDisks))
        return tuple(disk.name for disk in write.disks)
