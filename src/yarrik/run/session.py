"""A session: one workspace for one command, with those who plan, build and remember in it."""

from __future__ import annotations

from pathlib import Path

from yarrik.run.building import Builder
from yarrik.run.planning import Planner
from yarrik.run.project import Choices, Project
from yarrik.run.records import Records


class Session:
    """Opens the workspace in `root`. Closed with `close`."""

    def __init__(self, root: Path, choices: Choices | None = None) -> None:
        self.project = Project(root, choices or Choices())
        self.planner = Planner(self.project)
        self.builder = Builder(self.project, self.planner)
        self.records = Records(self.project)

    def close(self) -> None:
        """Closes the project."""
        self.project.close()
