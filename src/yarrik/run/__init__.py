"""Running: the scheduler, the sandbox, what each action does, and a session that ties a workspace to a build."""

from yarrik.run.building import BuildReport
from yarrik.run.events import (
    Event,
    Listener,
    Progress,
    Sending,
    StepEnded,
    StepStarted,
    StepWaits,
    StillRunning,
    SubjectEnded,
    Warned,
    silent,
)
from yarrik.run.planning import Planned
from yarrik.run.project import Choices
from yarrik.run.records import Span
from yarrik.run.results import StepReport
from yarrik.run.session import Session

__all__ = [
    "BuildReport",
    "Choices",
    "Event",
    "Listener",
    "Planned",
    "Progress",
    "Sending",
    "Session",
    "Span",
    "StepEnded",
    "StepReport",
    "StepStarted",
    "StepWaits",
    "StillRunning",
    "SubjectEnded",
    "Warned",
    "silent",
]
