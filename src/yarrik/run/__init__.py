"""Running: the scheduler, the sandbox, what each action does, and a session that ties a workspace to a build."""

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
from yarrik.run.execute import StepReport
from yarrik.run.session import BuildReport, Session, Span

__all__ = [
    "BuildReport",
    "Event",
    "Listener",
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
