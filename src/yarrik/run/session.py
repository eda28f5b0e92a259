"""A session: one workspace for one command, with those who plan, build and remember in it."""

from __future__ import annotations

import time
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from yarrik.run.project import Choices, Project

if TYPE_CHECKING:
    from yarrik.run.building import Builder
    from yarrik.run.planning import Planner
    from yarrik.run.records import Records


class Session:
    """Opens the workspace in `root`. Closed with `close`. Most commands need only some of it: each part is loaded when it is
    first asked for. Raises YarrikError for a workspace whose own folder leads elsewhere."""

    def __init__(self, root: Path, choices: Choices | None = None) -> None:
        self.project = Project(root, choices or Choices())
        self.project.refuse_links()
        self._started = time.monotonic()

    @cached_property
    def planner(self) -> Planner:
        """Plans products."""
        from yarrik.run.planning import Planner

        return Planner(self.project)

    @cached_property
    def builder(self) -> Builder:
        """Builds them."""
        from yarrik.run.building import Builder

        return Builder(self.project, self.planner, self._started)

    @cached_property
    def records(self) -> Records:
        """Knows how builds went."""
        from yarrik.run.records import Records

        return Records(self.project)

    def close(self) -> None:
        """Closes the project."""
        self.project.close()
